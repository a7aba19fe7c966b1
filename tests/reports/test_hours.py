"""Where the time went: figures held against minutes that are counted one by one, and the command."""

from __future__ import annotations

import contextlib
import csv
import io
from collections import Counter
from datetime import UTC, date, datetime, time, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from openpyxl import load_workbook

from tests.conftest import SETTINGS, Desk, ids
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.patch import add_events
from whenvoca.calendars.writer import empty_calendar
from whenvoca.reports.against import beside, earlier_period
from whenvoca.reports.hours import BY, SHARED, TIMES, Booking, Reckoning, add_up, fold_title
from whenvoca.reports.offered import Offer, use_of
from whenvoca.speech.periods import period_of

LISBON, AZORES = ZoneInfo("Europe/Lisbon"), ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
BEGIN = datetime(2027, 3, 26, tzinfo=LISBON)  # the clocks go forward on the 28th
END = datetime(2027, 4, 3, tzinfo=LISBON)
PEOPLE = ("ines@example.org", "rui@example.org")


@st.composite
def bookings(draw: st.DrawFn) -> list[Booking]:
    found = []
    for number in range(draw(st.integers(0, 5))):
        start = BEGIN.astimezone(UTC) + timedelta(minutes=draw(st.integers(-600, 11_000)))
        end = start + timedelta(minutes=draw(st.integers(1, 1600)))
        event = Event(
            uid=str(number),
            title=draw(st.sampled_from(["Tour 1 of 9", "Tour 2 of 9", "Call"])),
            start=start,
            end=end,
            location=draw(st.sampled_from(["Hall", "Dome", ""])),
            categories=tuple(draw(st.lists(st.sampled_from(["a", "b"]), unique=True))),
            attendees=tuple(Attendee(each) for each in draw(st.lists(st.sampled_from(PEOPLE), unique=True))),
        )
        found.append(Booking(event, draw(st.sampled_from(["domes", "staff"])), start, end))
    return found


def counted(booking: Booking, by: str, local: datetime) -> list[str]:
    """Where one minute of a booking belongs, told in another way than the report does."""
    event = booking.event
    return {
        "hour": [local.strftime("%H:00")],
        "day": [local.date().isoformat()],
        "weekday": [local.strftime("%A")],
        "week": [local.strftime("%G-W%V")],
        "month": [local.strftime("%Y-%m")],
        "quarter": [f"{local.year}-Q{1 + (local.month - 1) // 3}"],
        "calendar": [booking.calendar],
        "location": [event.location],
        "category": list(event.categories) or [""],
        "title": [event.title.split(" ")[0]],
        "person": [each.address for each in event.attendees] or [""],
        "organizer": [""],
    }[by]


@given(bookings(), st.lists(st.sampled_from(BY), min_size=1, max_size=2, unique=True))
def test_as_minutes_are_counted(found: list[Booking], by: list[str]) -> None:
    report = add_up(found, [by], Reckoning(LISBON, BEGIN, END))
    minutes: Counter[tuple[str, ...]] = Counter()
    total = 0
    for each in found:
        at = max(each.start, BEGIN.astimezone(UTC))
        while at < min(each.end, END.astimezone(UTC)):
            local = at.astimezone(LISBON)
            first = counted(each, by[0], local)
            second = counted(each, by[1], local) if len(by) > 1 else [None]
            minutes.update((a,) if b is None else (a, b) for a in first for b in second)
            total += 1
            at += timedelta(minutes=1)
    assert report.seconds == total * 60
    table = report.tables[0]
    assert {row.labels: row.seconds // 60 for row in table.rows} == dict(minutes)
    if not set(by) & set(SHARED):
        assert sum(row.seconds for row in table.rows) == report.seconds
        assert set(by) & set(TIMES) or sum(row.count for row in table.rows) == report.count
    if set(by) <= {"day", "week", "month", "quarter"}:
        assert all(first.labels < second.labels for first, second in pairwise(table.rows))


@given(bookings())
def test_counted_with_its_start_a_booking_is_whole(found: list[Booking]) -> None:
    report = add_up(found, [["day"]], Reckoning(LISBON, BEGIN, END, counting="start"))
    inside = [each for each in found if BEGIN.astimezone(UTC) <= each.start < END.astimezone(UTC)]
    assert report.seconds == sum((each.end - each.start).total_seconds() for each in inside)
    assert report.count == len(inside)


def test_what_is_left_out_is_told() -> None:
    start = datetime(2027, 3, 27, 10, tzinfo=UTC)
    plain = Event(uid="a", start=start, end=start + timedelta(hours=1))
    whole = Event(uid="d", start=date(2027, 3, 27), end=date(2027, 3, 28))
    events = [plain, replace(plain, busy="no"), replace(plain, busy="tentative"), whole]
    made = [Booking(each, "x", *(m.astimezone(UTC) for m in each.span(LISBON))) for each in events]
    told = add_up(made, [["calendar"]], Reckoning(LISBON, BEGIN, END))
    assert (told.seconds, told.count, told.left_out) == (7200, 2, {"free": 1, "whole_day": 1})
    every = Reckoning(LISBON, BEGIN, END, whole_days=True, free=True, tentative=False)
    told = add_up(made, [["calendar"]], every)
    assert (told.seconds, told.count, told.left_out) == (26 * 3600, 3, {"tentative": 1})


@pytest.mark.parametrize(
    ("title", "kind"),
    [
        ("Mirror cleaning 3 of 9", "Mirror cleaning"),
        ("Mirror cleaning (4/11)", "Mirror cleaning"),
        ("Tour #12", "Tour"),
        ("Report 2027-03-17", "Report"),
        ("Report March 2027", "Report"),
        ("Open evening, 17 March", "Open evening"),
        ("42", "42"),
        ("Council call", "Council call"),
    ],
)
def test_kinds_of_title(title: str, kind: str) -> None:
    assert fold_title(title) == kind


PERIODS = [
    ("last month", "2027-02-01", "2027-03-01"),
    ("this quarter", "2027-01-01", "2027-04-01"),
    ("last quarter", "2026-10-01", "2027-01-01"),
    ("past 60 days", "2027-01-16", "2027-03-17"),
    ("past 2 weeks", "2027-03-03", "2027-03-17"),
    ("this year", "2027-01-01", "2028-01-01"),
    ("last week", "2027-03-08", "2027-03-15"),
]


@pytest.mark.parametrize(("text", "first", "behind"), PERIODS)
def test_periods_by_their_names(text: str, first: str, behind: str) -> None:
    assert period_of(text, datetime(2027, 3, 17, 10)) == (date.fromisoformat(first), date.fromisoformat(behind))


def test_what_names_no_period() -> None:
    assert period_of("the moon", datetime(2027, 3, 17, 10)) is None


# --- the command

NOW = ("--now", "2027-03-17 10:00")


@pytest.fixture
def domes(desk: Desk) -> Desk:
    def event(uid: str, day: int, begin: int, hours: float, **more: object) -> Event:
        start = datetime(2027, 3, day, begin, tzinfo=AZORES)
        return Event(uid=uid, title=f"Visit {uid}", start=start, end=start + timedelta(hours=hours), **more)  # type: ignore[arg-type]

    ines = (Attendee("ines@example.org"),)
    events = [
        event("1", 1, 20, 6, location="West dome", attendees=ines),  # over midnight
        event(
            "2", 31, 22, 4.5, location="West dome", attendees=(*ines, Attendee("guest@example.org"))
        ),  # over the month
        event("3", 10, 9, 1.5, location="Hall", categories=("school",)),
        event("4", 11, 9, 1, location="Hall", private=True),
    ]
    desk.settings(SETTINGS, '[places.domes]\nkind = "calendar"\nfile = "domes.ics"\n')
    desk.write("domes.ics", add_events(empty_calendar(), events, STAMP))
    return desk


def test_the_command_gives_the_same_in_each_form(domes: Desk) -> None:
    told = domes.run("report", "--by", "location,person,month", "--json", *NOW).json
    assert told["total"] == {"hours": 10.5, "count": 4}
    by_location = {row["location"]: (row["hours"], row["count"]) for row in told["tables"][0]["rows"]}
    assert by_location == {"West dome": (8.0, 2), "Hall": (2.5, 2)}
    by_person = {row["person"]: row["hours"] for row in told["tables"][1]["rows"]}
    assert by_person == {"ines": 8.0, "guest@example.org": 2.0, "": 2.5}
    lines = list(csv.DictReader(io.StringIO(domes.run("report", "--by", "location,person,month", "--csv", *NOW).out)))
    assert [(line["label"], float(line["hours"])) for line in lines[:2]] == [("West dome", 8.0), ("Hall", 2.5)]
    shown = domes.run("report", "--by", "location,person", *NOW).out
    assert "10.5 hours in 4 events" in shown
    assert "counts for each of them, and once in the total" in shown
    page = domes.folder / "report.html"
    assert domes.run("report", "--html", str(page), *NOW).code == 0
    text = page.read_text()
    assert "10.5" in text
    assert "Visit 4" not in text
    assert "private" in text  # counted, not named


def test_days_weekdays_and_what_begins_in_the_month(domes: Desk) -> None:
    told = domes.run("report", "--by", "day", "--json", *NOW).json["tables"][0]["rows"]
    assert [(row["day"][-2:], row["hours"]) for row in told] == [
        ("01", 4.0),
        ("02", 2.0),
        ("10", 1.5),
        ("11", 1.0),
        ("31", 2.0),
    ]
    whole = domes.run("report", "--by", "month", "--count", "start", "--json", *NOW).json
    assert whole["total"] == {"hours": 13.0, "count": 4}
    later = domes.run("report", "--from", "2027-04-01", "--until", "2027-05-01", "--json", *NOW).json
    assert later["total"] == {"hours": 2.5, "count": 1}
    none = domes.run("report", "--from", "last month", *NOW)
    assert "0 hours in 0 events" in none.out


def test_a_condition_and_two_things_crossed(domes: Desk) -> None:
    told = domes.run("report", "--by", "month with location", "--where", 'category is "school"', "--json", *NOW).json
    assert told["tables"][0]["rows"] == [
        {"month": "2027-03", "location": "Hall", "hours": 1.5, "count": 1, "share": 1.0}
    ]


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("--by", "colour"), 'there is no "colour"'),
        (("--by", "day with week with month"), "are not two different things"),
        (("--measure", "money"), 'there is no "money"'),
        (("--where", "titel is 3"), 'there is no name "titel"'),
        (("--from", "sometime"), "can be read in one way"),
        (("--from", "2027-03-10", "--until", "2027-03-01"), "not later than"),
        (("nowhere",), 'there is no calendar "nowhere"'),
    ],
)
def test_what_cannot_be_reported_is_said(domes: Desk, arguments: tuple[str, ...], said: str) -> None:
    refused = domes.run("report", *arguments, *NOW)
    assert refused.code == 2
    assert said in refused.err


def test_a_calendar_that_does_not_answer_hides_nothing(domes: Desk) -> None:
    more = '[places.away]\nkind = "calendar"\nserver = "http://127.0.0.1:9/"\ncalendar = "x"\nuser = "a"\n'
    domes.settings(
        SETTINGS, '[places.domes]\nkind = "calendar"\nfile = "domes.ics"\n', more + 'password = { env = "HOME" }\n'
    )
    told = domes.run("report", "--json", *NOW)
    assert told.code == 3
    assert told.json["total"]["hours"] == 10.5
    assert len(told.json["unread"]) == 1


# --- beside an earlier time, and beside what is on offer


PERIODS = [
    ("a month", (2027, 3, 1), (2027, 4, 1), "before", (2027, 2, 1), (2027, 3, 1)),
    ("a quarter", (2027, 1, 1), (2027, 4, 1), "before", (2026, 10, 1), (2027, 1, 1)),
    ("a week", (2027, 3, 29), (2027, 4, 5), "before", (2027, 3, 22), (2027, 3, 29)),
    ("the year before", (2028, 2, 29), (2028, 3, 1), "year-before", (2027, 2, 28), (2027, 3, 1)),
]


@pytest.mark.parametrize(("name", "low", "high", "which", "begin", "end"), PERIODS, ids=ids(PERIODS))
def test_which_time_a_report_is_held_against(
    name: str, low: tuple[int, ...], high: tuple[int, ...], which: str, begin: tuple[int, ...], end: tuple[int, ...]
) -> None:
    given = datetime(*low, tzinfo=AZORES), datetime(*high, tzinfo=AZORES)  # type: ignore[misc,arg-type]
    wanted = datetime(*begin, tzinfo=AZORES), datetime(*end, tzinfo=AZORES)  # type: ignore[misc,arg-type]
    assert earlier_period(*given, AZORES, which) == wanted


@given(bookings(), st.times(), st.times())
def test_use_of_an_offer_is_what_minutes_say(found: list[Booking], begin: time, end: time) -> None:
    begin, end = (each.replace(second=0, microsecond=0, tzinfo=None) for each in (begin, end))
    offer, how = Offer(begin, end), Reckoning(LISBON, BEGIN, END)
    on_offer = {
        low + timedelta(minutes=n)
        for low, high in offer.windows(BEGIN, END, LISBON)
        for n in range(round((high - low) / timedelta(minutes=1)))
    }
    minutes: dict[str, set[datetime]] = {}
    for each in found:
        if each.end > BEGIN and each.start < END:
            taken = (
                each.start + timedelta(minutes=n) for n in range(round((each.end - each.start) / timedelta(minutes=1)))
            )
            minutes.setdefault(each.event.location, set()).update(set(taken) & on_offer)
    used = use_of(found, offer, how)
    assert {each.location: each.used // 60 for each in used} == {place: len(each) for place, each in minutes.items()}
    assert all(each.offered == 60 * len(on_offer) for each in used)


def test_beside_an_earlier_time_lines_stand_that_one_of_them_has() -> None:
    def made(*given: tuple[str, datetime, int]) -> list[Booking]:
        return [
            Booking(Event(uid=place, start=at, end=at, location=place), "domes", at, at + timedelta(hours=hours))
            for place, at, hours in given
        ]

    march, april = (datetime(2027, month, 3, 12, tzinfo=UTC) for month in (3, 4))
    low, mid, high = (datetime(2027, month, 1, tzinfo=LISBON) for month in (3, 4, 5))
    tables = [("location",), ("month",)]
    earlier = add_up(made(("Hall", march, 2), ("Dome", march, 1)), tables, Reckoning(LISBON, low, mid))
    now = add_up(made(("Hall", april, 5), ("Desk", april, 1)), tables, Reckoning(LISBON, mid, high))
    places, months = beside(now, earlier).tables
    told = {row.labels[0]: (row.seconds // 3600, (row.before or 0) // 3600) for row in places.rows}
    assert told == {"Hall": (5, 2), "Desk": (1, 0), "Dome": (0, 1)}
    assert [row.before for row in months.rows] == [None]


def test_the_command_holds_against_an_offer_and_an_earlier_time(desk: Desk) -> None:
    desk.settings(SETTINGS, '[places.domes]\nkind = "calendar"\nfolder = "domes"\n')
    (desk.folder / "domes").mkdir()
    for uid, month, hours in (("a", 3, 3), ("b", 4, 5)):
        start = datetime(2027, month, 3, 22, tzinfo=AZORES)
        event = Event(uid=uid, title="Night", start=start, end=start + timedelta(hours=hours), location="Dome")
        (desk.folder / f"domes/{uid}.ics").write_bytes(add_events(empty_calendar(), [event], STAMP))
    asked = ("report", "--from", "2027-04-01", "--until", "2027-05-01", "--by", "location")
    told = desk.run(*asked, "--against", "before", "--offered", "20:00-02:00", "--json").json
    assert told["total"] == {"hours": 5.0, "count": 1, "before": 3.0, "change": 2.0}
    assert told["tables"][0]["rows"] == [
        {"location": "Dome", "hours": 5.0, "count": 1, "share": 1.0, "before": 3.0, "change": 2.0}
    ]
    assert told["offered"] == [{"location": "Dome", "hours": 4.0, "offered": 180.0, "share": 0.0222}]
    shown = desk.run(*asked, "--against", "before", "--offered", "20:00-02:00").out
    assert "5 hours in 1 event (3 before)" in shown
    assert "of 20:00-02:00 each day:" in shown
    for name in ("one.xlsx", "two.xlsx"):
        assert desk.run(*asked, "--xlsx", str(desk.folder / name)).code == 0
    assert (desk.folder / "one.xlsx").read_bytes() == (desk.folder / "two.xlsx").read_bytes()
    with contextlib.closing(load_workbook(desk.folder / "one.xlsx")) as book:
        rows = [list(row) for row in book["location"].iter_rows(min_row=4, values_only=True)]
        assert list(book["location"].tables) == ["Table1"]
    assert rows[:2] == [["location", "hours", "count", "share"], ["Dome", 5, 1, 1]]
    assert rows[3] == ["total", 5, 1, 1]
    assert desk.run(*asked, "--offered", "dusk").code == 2
    for name in ("one.png", "two.png"):
        assert desk.run(*asked, "--by", "location,month,title", "--png", str(desk.folder / name)).code == 0
    assert (desk.folder / "one.png").read_bytes() == (desk.folder / "two.png").read_bytes()
    assert (desk.folder / "one.png").read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    assert desk.run(*asked, "--png", str(desk.folder / "none/one.png")).code == 2


def test_labels_that_differ_in_capitals_only_are_one() -> None:
    given = [("Hall", ("school",)), ("hall", ("School", "school")), ("Hall ", ("SCHOOL",)), ("HALL", ("school",))]
    found = [
        Booking(
            Event(uid=str(n), start=BEGIN, end=END, location=place, categories=kinds),
            "domes",
            at,
            at + timedelta(hours=1),
        )
        for n, (place, kinds) in enumerate(given)
        for at in [BEGIN.astimezone(UTC) + timedelta(hours=2 * n)]
    ]
    places, kinds = add_up(found, [("location",), ("category",)], Reckoning(LISBON, BEGIN, END)).tables
    assert [(row.labels, row.seconds, row.count) for row in places.rows] == [(("Hall",), 4 * 3600, 4)]
    assert [(row.labels, row.seconds, row.count) for row in kinds.rows] == [(("school",), 4 * 3600, 4)]
    (used,) = use_of(found, Offer(time(0), time(0)), Reckoning(LISBON, BEGIN, END))
    assert (used.location, used.used) == ("Hall", 4 * 3600)
