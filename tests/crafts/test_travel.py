"""`add travel around`: the ways beside an event, which keep up with it."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import EXAMPLES, SETTINGS, Desk
from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.travel import HOMEWARD, OUTWARD, way, with_way
from whenvoca.calendars.writer import write_calendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
NOW = ("--now", "2027-03-17 12:00")
PLACES = """
[places.outreach]
kind = "calendar"
folder = "outreach"
[places.minutes]
kind = "sheet"
file = "minutes.csv"
"""
QUAY, RIDGE, CAPE = "Quay School, Rua 1, Port Town", "Ridge School, Port Town", "Cape School, Farol"


def at(text: str) -> datetime:
    return datetime.fromisoformat(f"2027-{text}").replace(tzinfo=AZORES)


def event(uid: str, begin: str, end: str, location: str = QUAY, **more: object) -> Event:
    return replace(Event(uid=uid, title=uid, start=at(begin), end=at(end), location=location), **more)


@pytest.fixture
def visits(desk: Desk) -> Desk:
    desk.settings(SETTINGS.replace("[workspace]\n", '[workspace]\ntowns = "minutes"\n'), PLACES)
    desk.write("minutes.csv", "Town,Minutes\nPort Town,35\nFarol,50\n")
    desk.workflow("when asked about an event of outreach\n\nadd travel around event\n", "go")
    put(desk, event("Visit", "03-19T11:10", "03-19T12:40"))
    return desk


def put(desk: Desk, *events: Event) -> None:
    for each in events:
        desk.write(f"outreach/{each.uid}.ics", write_calendar(each, STAMP))


def shown(desk: Desk, *more: str) -> list[str]:
    told = desk.run("agenda", "--from", "2027-03-17", "--until", "2027-05-01", "--json", *more).json["events"]
    return [f"{each['start'][5:16]}–{each['end'][11:16]} {each['title']}" for each in told]


def add(desk: Desk, uid: str = "Visit", code: int = 0, more: str = "") -> str:
    desk.workflow(f"when asked about an event of outreach\n\nadd travel around event\n{more}", "go")
    done = desk.run("run", "go", "--event", uid, *NOW)
    assert done.code == code, done
    return " ".join(each for each in (done.out + done.err).split() if each != "go")


BOTH = ["03-19T10:35–11:10 To Visit", "03-19T11:10–12:40 Visit", "03-19T12:40–13:15 Back from Visit"]


def test_ways_keep_up_with_their_event_whoever_moves_it(visits: Desk) -> None:
    add(visits)
    assert shown(visits) == BOTH
    assert "nothing to do" in add(visits)
    put(visits, event("Visit", "03-20T15:00", "03-20T16:00"))
    done = visits.run("run", *NOW)
    assert done.code == 0
    moved = ["03-20T14:25–15:00 To Visit", "03-20T15:00–16:00 Visit", "03-20T16:00–16:35 Back from Visit"]
    assert shown(visits) == moved
    told = visits.run("runs", "--json").json["runs"][0]
    assert (told["kind"], told["workflow"], told["subject"]) == ("follow", "go", "Visit")
    assert visits.run("undo", str(told["run"]), "--yes").code == 0
    assert [line for line in shown(visits) if line.endswith(" Visit") and "To" in line] == BOTH[:1]
    visits.run("run", *NOW)
    assert BOTH[0] in shown(visits)  # what was taken back stays so, until the event moves again
    put(visits, event("Visit", "03-21T15:00", "03-21T16:00", title="Planetarium", location=CAPE))
    visits.run("run", *NOW)
    assert shown(visits) == [
        "03-21T14:10–15:00 To Planetarium",
        "03-21T15:00–16:00 Planetarium",
        "03-21T16:00–16:50 Back from Planetarium",
    ]
    (visits.folder / "outreach/Visit.ics").unlink()
    visits.run("run", *NOW)
    assert shown(visits) == []


def test_a_way_that_was_moved_by_hand_stays_and_is_named_once(visits: Desk) -> None:
    add(visits)
    path = next(each for each in visits.events("outreach") if b"SUMMARY:To " in each.read_bytes())
    path.write_bytes(path.read_bytes().replace(b"T103500", b"T100000"))
    put(visits, event("Visit", "03-20T15:00", "03-20T16:00"))
    told = visits.run("run", *NOW)
    assert "which somebody has changed" in " ".join(told.out.split())
    assert shown(visits)[0] == "03-19T10:00–11:10 To Visit"
    assert shown(visits)[2] == "03-20T16:00–16:35 Back from Visit"
    assert "which somebody has changed" not in visits.run("run", *NOW).out
    (visits.folder / "outreach/Visit.ics").unlink()
    visits.run("run", *NOW)
    assert shown(visits) == ["03-19T10:00–11:10 To Visit"]


CASES = [
    ("", [], BOTH),
    ("  outward  yes\n", [], BOTH[:2]),
    ("  return  no\n  outward  yes\n", [], BOTH[:2]),
    ("  return  yes\n", [], BOTH[1:]),
    (
        '  length  1 hour\n  title  "Road to {town} for {event.title}"\n  outward  yes\n',
        [],
        ["03-19T10:10–11:10 Road to Port Town for Visit", BOTH[1]],
    ),
    ("", [event("Next", "03-19T15:00", "03-19T16:00")], [*BOTH[:2], "03-19T15:00–16:00 Next"]),
    ("", [event("Next", "03-19T15:00", "03-19T16:00", RIDGE)], [*BOTH[:2], "03-19T15:00–16:00 Next"]),
    ("", [event("Far", "03-19T15:00", "03-19T16:00", CAPE)], [*BOTH, "03-19T15:00–16:00 Far"]),
    ("", [event("Other day", "03-20T09:00", "03-20T10:00")], [*BOTH, "03-20T09:00–10:00 Other day"]),
    (
        "  clash  shorten\n",
        [event("Before", "03-19T10:00", "03-19T10:50", "")],
        ["03-19T10:00–10:50 Before", "03-19T10:50–11:10 To Visit", *BOTH[1:]],
    ),
]


@pytest.mark.parametrize(("more", "others", "wanted"), CASES)
def test_which_ways_there_are(visits: Desk, more: str, others: list[Event], wanted: list[str]) -> None:
    put(visits, *others)
    add(visits, more=more)
    assert shown(visits) == wanted
    assert visits.run("undo", "1", "--yes").code == 0
    assert len(shown(visits)) == 1 + len(others)


REFUSED = [
    ("", [event("Before", "03-19T10:00", "03-19T10:50", "")], "Visit", '"Before", 19 Mar 2027 10:00'),
    ("", [event("Far", "03-19T13:00", "03-19T16:00", CAPE)], "Visit", "home and out again takes 1 hour 25 minutes"),
    ("", [event("Room", "03-19T15:00", "03-19T16:00", "Room 12")], "Room", 'has no town in its location, "Room 12"'),
    ("", [event("Sea", "03-19T15:00", "03-19T16:00", "Pier, Faja")], "Sea", "minutes has no row for Faja"),
    ("  length  0 minutes\n", [], "Visit", "the length of the way is 0 minutes"),
    (
        "",
        [Event(uid="Day", title="Day", start=at("03-19T00:00").date(), end=at("03-20T00:00").date())],
        "Day",
        "takes whole days",
    ),
]


@pytest.mark.parametrize(("more", "others", "uid", "said"), REFUSED)
def test_what_has_no_way_is_refused_and_nothing_is_half_done(
    visits: Desk, more: str, others: list[Event], uid: str, said: str
) -> None:
    put(visits, *others)
    before = shown(visits)
    assert said in add(visits, uid, code=1, more=more)
    assert shown(visits) == before


def test_a_series_gets_ways_that_repeat_with_it(visits: Desk) -> None:
    series = event("Weekly", "03-22T10:00", "03-22T11:00", rule="FREQ=WEEKLY;COUNT=3")  # over a change of the clocks
    moved = replace(series, rule="", occurrence=at("03-29T10:00"), start=at("03-30T14:00"), end=at("03-30T15:30"))
    (visits.folder / "outreach/Visit.ics").unlink()
    visits.workflow("when asked\n\nfind events in outreach as all\nadd travel around all\n", "go")
    both = write_calendar(series, STAMP).replace(
        b"END:VCALENDAR", write_calendar(moved, STAMP).split(b"END:VTIMEZONE\r\n")[-1]
    )
    visits.write("outreach/Weekly.ics", both.decode())
    done = visits.run("run", "go", *NOW)
    assert done.code == 0, done.out
    assert [line for line in shown(visits) if "Weekly" in line] == [
        "03-22T09:25–10:00 To Weekly",
        "03-22T10:00–11:00 Weekly",
        "03-22T11:00–11:35 Back from Weekly",
        "03-30T13:25–14:00 To Weekly",
        "03-30T14:00–15:30 Weekly",
        "03-30T15:30–16:05 Back from Weekly",
        "04-05T09:25–10:00 To Weekly",
        "04-05T10:00–11:00 Weekly",
        "04-05T11:00–11:35 Back from Weekly",
    ]
    assert visits.run("undo", "1", "--yes").code == 0
    assert len(shown(visits)) == 3


@given(
    st.integers(8, 20),
    st.integers(1, 60),
    st.integers(1, 180),
    st.sampled_from(["", "FREQ=DAILY;COUNT=6", "FREQ=WEEKLY;BYDAY=SA,SU;UNTIL=20270411T235900Z"]),
)
def test_ways_touch_their_events_and_nothing_more(hour: int, length: int, minutes: int, rule: str) -> None:
    zone = ZoneInfo("Europe/Lisbon")
    start = datetime(2027, 3, 27, hour, 30, tzinfo=zone)  # the night before the clocks change
    visit = Event(uid="v", start=start, end=(start.astimezone(UTC) + timedelta(minutes=length)).astimezone(zone))
    visit = replace(visit, rule=rule)
    low, high = datetime(2027, 3, 20, tzinfo=UTC), datetime(2027, 5, 1, tzinfo=UTC)
    spans = [each.span(zone) for each in expand_events([visit], low, high, zone)]
    for which in (OUTWARD, HOMEWARD):
        travel = with_way(visit, way(visit, which, timedelta(minutes=minutes)))
        ways = [each.span(zone) for each in expand_events([travel], low, high, zone)]
        assert len(ways) == len(spans)
        for (begin, end), (set_out, arrive) in zip(spans, ways, strict=True):
            assert arrive == begin if which == OUTWARD else set_out == end
            assert arrive - set_out == timedelta(minutes=minutes)


def test_the_way_of_a_series_may_begin_the_day_before() -> None:
    visit = event("v", "04-05T00:20", "04-05T01:00", rule="FREQ=WEEKLY;BYDAY=MO;UNTIL=20270419T002000Z")
    travel = with_way(visit, way(visit, OUTWARD, timedelta(minutes=30)))
    low, high = datetime(2027, 4, 1, tzinfo=UTC), datetime(2027, 5, 1, tzinfo=UTC)
    days = [f"{each.start:%a %d %H:%M}" for each in expand_events([travel], low, high, AZORES)]
    assert days == ["Sun 04 23:50", "Sun 11 23:50", "Sun 18 23:50"]


# --- the examples


@pytest.fixture
def larkmoor(desk: Desk) -> Desk:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem not in ("travel", "travel-reminder"):
            path.unlink()
    desk.write("town-minutes.csv", "Town,Minutes\nPort Town,35\n")
    return desk


def lay_out(desk: Desk, *events: Event) -> None:
    for each in events:
        desk.write(f"calendars/outreach/{each.uid}.ics", write_calendar(each, STAMP))


def test_travel_example(larkmoor: Desk) -> None:
    visit = event("q", "03-19T11:10", "03-19T12:40", title="Planetarium at Quay School")
    lay_out(larkmoor, visit, event("far", "03-30T13:00", "03-30T14:00"))
    assert larkmoor.run("check").code == 0
    assert larkmoor.run("run", "travel", "--event", "q", *NOW).code == 0
    told = larkmoor.run("agenda", "--from", "2027-03-19", "--until", "2027-03-20", "--json").json["events"]
    assert [(each["start"][11:16], each["end"][11:16], each["title"], each["calendar"]) for each in told] == [
        ("10:35", "11:10", "On the road for Planetarium at Quay School", "outreach"),
        ("11:10", "12:40", "Planetarium at Quay School", "outreach"),
        ("12:40", "13:15", "On the road for Planetarium at Quay School", "outreach"),
    ]
    assert [each["reminders"] for each in told] == [[40], [], [40]]
    again = larkmoor.run("run", "travel", *NOW)
    assert "there is no event that it could be about" in again.err
    before = (larkmoor.folder / "calendars/outreach/q.ics").read_bytes()
    assert larkmoor.run("undo", "1", "--yes").code == 0
    assert len(larkmoor.events("calendars/outreach")) == 2
    assert (larkmoor.folder / "calendars/outreach/q.ics").read_bytes() == before


def test_travel_reminder_example(larkmoor: Desk) -> None:
    ridge = event("r", "03-24T10:10", "03-24T11:00", RIDGE, title="Planetarium at Ridge School")
    done = event("d", "03-25T10:00", "03-25T11:00")
    day = Event(uid="w", title="Fair", start=at("03-23T00:00").date(), end=at("03-24T00:00").date(), location=QUAY)
    lay_out(larkmoor, ridge, done, day, event("late", "04-05T10:00", "04-05T11:00"))
    assert larkmoor.run("run", "travel", "--event", "d", "--now", "2027-03-17 09:00").code == 0
    assert larkmoor.run("watch", "--now", "2027-03-18 11:49", "--until", "2027-03-18 11:51").code == 0
    path = larkmoor.folder / "chat/people/ines.jsonl"
    (message,) = [json.loads(line)["text"].split("\n") for line in path.read_text().splitlines()]
    assert message == [
        "No way planned yet:",
        "Wed 24 Mar 10:10 · Planetarium at Ridge School, Ridge School, Port Town",
        "Plan one with: whenvoca run travel",
    ]
