"""Moments: clocks that change, nights over midnight, whole days in another zone, series with moved and cancelled
occurrences."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.event import Event
from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.seeing.clock_moments import at_wall, clock_moments, next_moment
from whenvoca.language.days import NoDays, is_among, parse_days
from whenvoca.language.faults import Spot
from whenvoca.language.reader import read_workflow
from whenvoca.language.tree import Trigger
from whenvoca.open_workspace import VOCABULARY

AZORES, LISBON, KIRITIMATI = ZoneInfo("Atlantic/Azores"), ZoneInfo("Europe/Lisbon"), ZoneInfo("Pacific/Kiritimati")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
SPOT = Spot(1, 1, 1)


def trigger(line: str) -> Trigger:
    workflow, faults = read_workflow("w", "w.voca", f"when {line}\n\nstop\n", VOCABULARY)
    assert not faults.sorted(), faults.sorted()
    assert workflow.trigger is not None
    return workflow.trigger


def moments(line: str, low: str, high: str, zone: ZoneInfo = AZORES) -> list[str]:
    begin, end = (datetime.fromisoformat(each).replace(tzinfo=zone) for each in (low, high))
    return [f"{each:%a %d %b %H:%M %z}" for each in clock_moments(trigger(line), begin, end, zone)]


CLOCK: list[tuple[str, str, str, list[str]]] = [
    (
        "clock reads 16:20 on weekdays",
        "2027-03-18T16:20",
        "2027-03-22T16:20",
        ["Fri 19 Mar 16:20 -0100", "Mon 22 Mar 16:20 -0100"],
    ),
    (
        "clock reads 06:40, 18:40",
        "2027-03-17T06:40",
        "2027-03-18T06:40",
        ["Wed 17 Mar 18:40 -0100", "Thu 18 Mar 06:40 -0100"],
    ),
    # the clocks skip 00:00 to 01:00: right after the gap
    ("clock reads 00:30", "2027-03-27T12:00", "2027-03-29T12:00", ["Sun 28 Mar 01:00 +0000", "Mon 29 Mar 00:30 +0000"]),
    # they read 00:30 twice: the first time only
    ("clock reads 00:30", "2027-10-30T12:00", "2027-11-01T12:00", ["Sun 31 Oct 00:30 +0000", "Mon 01 Nov 00:30 -0100"]),
    (
        "clock reads 09:00 on the 1st",
        "2027-03-17T00:00",
        "2027-05-02T00:00",
        ["Thu 01 Apr 09:00 +0000", "Sat 01 May 09:00 +0000"],
    ),
    ("clock reads 09:00 on day 31 of the month", "2027-02-01T00:00", "2027-04-30T23:00", ["Wed 31 Mar 09:00 +0000"]),
    (
        "clock reads 09:00 on the last day",
        "2027-02-01T00:00",
        "2027-03-31T23:00",
        ["Sun 28 Feb 09:00 -0100", "Wed 31 Mar 09:00 +0000"],
    ),
    (
        "clock reads 17:00 on the last friday",
        "2027-03-01T00:00",
        "2027-04-30T23:00",
        ["Fri 26 Mar 17:00 -0100", "Fri 30 Apr 17:00 +0000"],
    ),
    (
        "clock reads 17:00 on last friday of the month",
        "2027-03-27T00:00",
        "2027-04-30T23:00",
        ["Fri 30 Apr 17:00 +0000"],
    ),
    (
        "clock reads 08:00 on monday, first wednesday",
        "2027-03-29T09:00",
        "2027-04-07T09:00",
        ["Mon 05 Apr 08:00 +0000", "Wed 07 Apr 08:00 +0000"],
    ),
    (
        "clock passes every 6 hours",
        "2027-03-17T05:00",
        "2027-03-18T00:00",
        ["Wed 17 Mar 06:00 -0100", "Wed 17 Mar 12:00 -0100", "Wed 17 Mar 18:00 -0100", "Thu 18 Mar 00:00 -0100"],
    ),
    (
        "clock passes every 12 hours",
        "2027-03-27T13:00",
        "2027-03-28T23:00",
        ["Sun 28 Mar 01:00 +0000", "Sun 28 Mar 13:00 +0000"],
    ),
    (
        "clock passes every 2 weeks",
        "2027-03-17T00:00",
        "2027-04-20T00:00",
        ["Mon 22 Mar 00:00 -0100", "Mon 05 Apr 00:00 +0000", "Mon 19 Apr 00:00 +0000"],
    ),
    (
        "clock passes every 1 month",
        "2027-03-17T00:00",
        "2027-05-02T00:00",
        ["Thu 01 Apr 00:00 +0000", "Sat 01 May 00:00 +0000"],
    ),
]


@pytest.mark.parametrize(
    ("line", "low", "high", "wanted"), CLOCK, ids=[f"{each[0]} from {each[1][:10]}" for each in CLOCK]
)
def test_clock_fires_at_these_moments(line: str, low: str, high: str, wanted: list[str]) -> None:
    assert moments(line, low, high) == wanted


def test_29th_of_february_is_found_years_ahead() -> None:
    line = trigger("clock reads 09:00 on day 29 of the month")
    after = datetime(2027, 1, 30, tzinfo=AZORES)
    found = next_moment(line, after, AZORES)
    assert found is not None
    assert (found.year, found.month, found.day) == (2027, 3, 29)


@given(
    st.datetimes(datetime(2027, 1, 1), datetime(2028, 1, 1)),
    st.integers(0, 23),
    st.integers(0, 59),
    st.sampled_from([AZORES, LISBON, KIRITIMATI]),
)
def test_clock_time_is_what_the_clock_shows_or_right_after_a_gap(
    wall: datetime, hour: int, minute: int, zone: ZoneInfo
) -> None:
    moment = at_wall(wall.date(), wall.time().replace(hour=hour, minute=minute, second=0, microsecond=0), zone)
    shown = moment.astimezone(UTC).astimezone(zone)
    if (shown.hour, shown.minute) != (hour, minute):  # in a gap: the second before it the clocks were on the other side
        before = (moment.astimezone(UTC) - timedelta(seconds=1)).astimezone(zone)
        assert before.utcoffset() != shown.utcoffset()
        assert before.replace(tzinfo=None) < datetime.combine(wall.date(), datetime.min.time()).replace(
            hour=hour, minute=minute
        )
    else:
        assert shown.date() == wall.date()


@given(
    st.datetimes(datetime(2027, 1, 1), datetime(2028, 1, 1), timezones=st.just(UTC)),
    st.sampled_from([each[0] for each in CLOCK]),
)
def test_next_moment_is_the_first_of_those_to_come(after: datetime, line: str) -> None:
    found = next_moment(trigger(line), after, AZORES)
    assert found is not None
    assert found > after
    assert list(clock_moments(trigger(line), after, found, AZORES)) == [found]


@pytest.mark.parametrize("text", ["someday", "the 32nd", "sixth friday", "day 0", ""])
def test_days_that_are_none_are_refused(text: str) -> None:
    with pytest.raises(NoDays, match="day"):
        parse_days(text, SPOT)


@given(st.dates(date(2027, 1, 1), date(2029, 1, 1)))
def test_every_day_is_its_weekday_and_one_nth_of_it(day: date) -> None:
    names = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]
    assert is_among(parse_days(names[day.weekday()], SPOT), day)
    nths = [
        word
        for word in ("first", "second", "third", "fourth", "fifth")
        if is_among(parse_days(f"{word} {names[day.weekday()]}", SPOT), day)
    ]
    assert len(nths) == 1


# --- starts and ends, through the program

PLACES = (
    '[places.cal]\nkind = "calendar"\nfolder = "cal"\n[places.log]\nkind = "sheet"\nfile = "log.csv"\ncreate = true\n'
)
STEP = "\nadd row to log\n  What  event.title\n  At  event.start\n  Now  now\n"


@pytest.fixture
def timed(desk: Desk) -> Desk:
    return desk.settings(SETTINGS, PLACES)


def put(desk: Desk, uid: str, start: Any, end: Any, **more: Any) -> None:
    desk.write(f"cal/{uid}.ics", write_calendar(Event(uid=uid, title=uid, start=start, end=end, **more), STAMP))


def logged(desk: Desk) -> list[list[str]]:
    path = desk.folder / "log.csv"
    return [line.split(",") for line in path.read_text().splitlines()[1:]] if path.exists() else []


def play(desk: Desk, *moments: str, code: int = 0) -> list[list[str]]:
    for moment in moments:
        result = desk.run("run", "--now", moment)
        assert result.code == code, result.err
    return logged(desk)


def at(text: str, zone: ZoneInfo = AZORES) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=zone)


def test_starts_in_three_zones_and_whole_days_fire_in_order(timed: Desk) -> None:
    timed.workflow("when cal begins an event\n" + STEP)
    put(timed, "azores", at("2027-03-17T10:00"), at("2027-03-17T11:00"))
    put(timed, "lisbon", at("2027-03-17T10:30", LISBON), at("2027-03-17T12:00", LISBON))
    put(timed, "utc", at("2027-03-17T10:45", ZoneInfo("UTC")), at("2027-03-17T11:45", ZoneInfo("UTC")))
    put(timed, "whole", date(2027, 3, 17), date(2027, 3, 18))
    play(timed, "2027-03-16 23:00", "2027-03-17 00:00", "2027-03-17 09:29")
    assert [row[0] for row in logged(timed)] == ["whole"]
    assert [row[0] for row in play(timed, "2027-03-17 09:30", "2027-03-17 09:45", "2027-03-17 10:00")] == [
        "whole",
        "lisbon",
        "utc",
        "azores",
    ]


def test_series_fires_for_each_occurrence_but_those_moved_or_cancelled(timed: Desk) -> None:
    timed.workflow("when cal begins an event\n  early  30 minutes\n" + STEP)
    put(
        timed,
        "s",
        at("2027-03-26T23:50"),
        at("2027-03-27T00:50"),
        rule="FREQ=DAILY;COUNT=5",
        excluded=(at("2027-03-29T23:50"),),
    )
    path = timed.folder / "cal/s.ics"
    moved = Event(
        uid="s", title="s", start=at("2027-03-28T20:00"), end=at("2027-03-28T21:00"), occurrence=at("2027-03-28T23:50")
    )
    own = write_calendar(moved, STAMP)
    body = own[own.index(b"BEGIN:VEVENT") : own.index(b"END:VCALENDAR")]
    timed.write("cal/s.ics", path.read_bytes().replace(b"END:VCALENDAR", body + b"END:VCALENDAR"))
    result = timed.run("watch", "--now", "2027-03-26 12:00", "--until", "2027-04-01 12:00", "--quiet")
    assert result.code == 0, result.err
    assert [(row[1], row[2]) for row in logged(timed)] == [
        ("2027-03-26 23:50", "2027-03-26 23:20"),
        ("2027-03-27 23:50", "2027-03-27 23:20"),
        ("2027-03-28 20:00", "2027-03-28 19:30"),
        ("2027-03-30 23:50", "2027-03-30 23:20"),
    ]


def test_early_in_days_counts_calendar_days_over_a_clock_change(timed: Desk) -> None:
    timed.workflow("when cal begins an event\n  early  1 day\n" + STEP)
    put(timed, "a", at("2027-03-28T10:00"), at("2027-03-28T11:00"))
    assert play(timed, "2027-03-26 10:00", "2027-03-27 09:59") == []
    assert [row[2] for row in play(timed, "2027-03-27 10:00")] == ["2027-03-27 10:00"]


def test_start_moved_later_fires_again_and_earlier_at_once(timed: Desk) -> None:
    timed.workflow("when cal begins an event\n  early  10 minutes\n" + STEP)
    put(timed, "a", at("2027-03-17T10:00"), at("2027-03-17T11:00"))
    assert len(play(timed, "2027-03-17 09:00", "2027-03-17 09:50")) == 1
    put(timed, "a", at("2027-03-17T12:00"), at("2027-03-17T13:00"))
    assert len(play(timed, "2027-03-17 09:55", "2027-03-17 11:49")) == 1
    assert len(play(timed, "2027-03-17 11:50")) == 2
    put(timed, "b", at("2027-03-17T12:05"), at("2027-03-17T13:00"))  # its moment is past, it has not begun: at once
    assert [row[0] for row in play(timed, "2027-03-17 12:00")] == ["a", "a", "b"]
    put(timed, "a", at("2027-03-17T12:00"), at("2027-03-17T14:00"))  # only its end moved: its start has fired
    assert len(play(timed, "2027-03-17 12:01")) == 3


def test_event_cancelled_or_changed_until_the_last_moment_is_followed(timed: Desk) -> None:
    timed.workflow('when cal begins an event\n  where  location is "dome"\n' + STEP)
    put(timed, "a", at("2027-03-17T10:00"), at("2027-03-17T11:00"), location="dome")
    put(timed, "b", at("2027-03-17T10:00"), at("2027-03-17T11:00"), location="hall")
    put(timed, "c", at("2027-03-17T10:00"), at("2027-03-17T11:00"), location="dome")
    play(timed, "2027-03-17 09:00")
    put(timed, "a", at("2027-03-17T10:00"), at("2027-03-17T11:00"), location="dome", cancelled=True)
    put(timed, "b", at("2027-03-17T10:00"), at("2027-03-17T11:00"), location="dome")
    (timed.folder / "cal/c.ics").unlink()
    assert [row[0] for row in play(timed, "2027-03-17 10:00")] == ["b"]


def test_clock_set_back_fires_nothing_twice_and_set_forward_tells_what_was_missed(timed: Desk) -> None:
    timed.workflow("when cal begins an event\n" + STEP)
    put(timed, "a", at("2027-03-17T10:00"), at("2027-03-17T11:00"))
    put(timed, "b", at("2027-03-17T13:00"), at("2027-03-17T14:00"))
    assert len(play(timed, "2027-03-17 09:00", "2027-03-17 10:00")) == 1
    assert len(play(timed, "2027-03-17 08:00", "2027-03-17 10:00")) == 1
    result = timed.run("run", "--now", "2027-03-18 10:00", "--json")
    (missed,) = result.json["runs"]
    assert (missed["outcome"], missed["subject"]) == ("missed", "b")
    assert len(play(timed, "2027-03-18 10:01")) == 1


def test_first_run_fires_no_late_starts(timed: Desk) -> None:
    timed.workflow("missed  12 hours\n\nwhen cal begins an event\n" + STEP)
    put(timed, "a", at("2027-03-17T10:00"), at("2027-03-17T11:00"))
    assert play(timed, "2027-03-17 10:30") == []
