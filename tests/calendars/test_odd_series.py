"""Series in ways that other programs write: dates with their own length, changes from one on, rules of exceptions."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from tests.calendars.foreign import calendar, event, lines_of, without, zone
from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.reader import read_calendar
from whenvoca.calendars.recurrence import expand_events
from whenvoca.values.zones import load_zone

BERLIN = load_zone("Europe/Berlin")
PLACE = '[places.cal]\nkind = "calendar"\nfile = "all.ics"\n'
NOW = ("--in", "cal", "--now", "2027-03-01 10:00")
DAILY = "RRULE:FREQ=DAILY;COUNT=5"
RANGED = "RECURRENCE-ID;RANGE=THISANDFUTURE:20270319T100000Z"


def shown(*parts: str) -> list[str]:
    """Title, start and length of all occurrences in 2027, in UTC."""
    reading = read_calendar(calendar(*parts), BERLIN)
    assert not reading.unread
    found = expand_events(reading.events, datetime(2027, 1, 1, tzinfo=UTC), datetime(2028, 1, 1, tzinfo=UTC), BERLIN)
    lines = []
    for each in found:
        start, end = (moment.astimezone(UTC) for moment in each.span(BERLIN))
        lines.append(f"{each.title} {start:%m-%d %H:%M} {(end - start) // timedelta(minutes=1)}")
    return lines


@pytest.mark.parametrize(
    ("lines", "wanted"),
    [
        (
            ["DURATION:PT1H", "RDATE;VALUE=PERIOD:20270318T120000Z/PT2H,20270319T120000Z/20270319T150000Z"],
            ["a 03-17 10:00 60", "a 03-18 12:00 120", "a 03-19 12:00 180"],
        ),
        # over a change of the clocks a day is not 24 hours
        (["RDATE;VALUE=PERIOD;TZID=Europe/Berlin:20270327T120000/P1D"], ["a 03-17 10:00 0", "a 03-27 11:00 1380"]),
        (["RDATE;VALUE=PERIOD;TZID=Europe/Berlin:20270327T120000/PT24H"], ["a 03-17 10:00 0", "a 03-27 11:00 1440"]),
        (["DURATION:PT1H", "RDATE;VALUE=DATE:20270318"], ["a 03-17 10:00 60", "a 03-17 23:00 1440"]),
        (
            ["RRULE:FREQ=DAILY;COUNT=6", "EXRULE:FREQ=DAILY;INTERVAL=3"],
            ["a 03-18 10:00 0", "a 03-19 10:00 0", "a 03-21 10:00 0", "a 03-22 10:00 0"],
        ),
        # 2027-03-17 is a wednesday: not in the rule, and the first of three (RFC 5545 3.3.10)
        (["RRULE:FREQ=WEEKLY;COUNT=3;BYDAY=FR"], ["a 03-17 10:00 0", "a 03-19 10:00 0", "a 03-26 10:00 0"]),
        (["RRULE:FREQ=WEEKLY;BYDAY=FR;COUNT=1"], ["a 03-17 10:00 0"]),
        (["RRULE:FREQ=MONTHLY;BYMONTHDAY=1;COUNT=2"], ["a 03-17 10:00 0", "a 04-01 10:00 0"]),
        (["RRULE:FREQ=WEEKLY;COUNT=2;BYDAY=WE"], ["a 03-17 10:00 0", "a 03-24 10:00 0"]),
        (["RRULE:FREQ=DAILY;UNTIL=20270318T235960Z"], ["a 03-17 10:00 0", "a 03-18 10:00 0"]),
    ],
)
def test_dates_of_a_series(lines: list[str], wanted: list[str]) -> None:
    assert shown(event("a", *lines)) == wanted


def test_a_leap_second_is_the_one_before_it() -> None:
    [found] = read_calendar(calendar(event("a", "DTEND:20270317T110060Z")), BERLIN).events
    assert found.end == datetime(2027, 3, 17, 11, 0, 59, tzinfo=UTC)
    [found] = read_calendar(calendar(event("see 20270317T110060")), BERLIN).events
    assert found.title == "see 20270317T110060"


@pytest.mark.parametrize("line", ["X-WR-TIMEZONE:America/New_York", "X-WR-TIMEZONE;VALUE=TEXT:America/New_York"])
def test_times_without_a_zone_are_in_that_of_the_calendar(line: str) -> None:
    floating = event("a", start="DTSTART:20270317T100000")
    assert shown(line + "\n", floating, event("b"), event("c", start="DTSTART;TZID=Europe/Berlin:20270317T100000")) == [
        "c 03-17 09:00 0",
        "b 03-17 10:00 0",
        "a 03-17 14:00 0",
    ]
    assert shown("X-WR-TIMEZONE:Nowhere\n", floating) == ["a 03-17 09:00 0"]


def test_a_change_of_all_later_ones_moves_them() -> None:
    later = event("a", RANGED, "DTEND:20270319T143000Z", start="DTSTART:20270319T140000Z").replace("Y:a", "Y:late")
    master = event("a", DAILY, "DTEND:20270317T110000Z")
    wanted = [
        "a 03-17 10:00 60",
        "a 03-18 10:00 60",
        "late 03-19 14:00 30",
        "late 03-20 14:00 30",
        "late 03-21 14:00 30",
    ]
    assert shown(master, later) == wanted
    # one that was changed by itself after it, and a second change of all later ones
    own = event("a", "RECURRENCE-ID:20270320T100000Z", start="DTSTART:20270320T080000Z")
    assert shown(master, later, own) == [*wanted[:3], "a 03-20 08:00 0", wanted[4]]
    again = later.replace("0319T", "0321T").replace("late", "last")
    assert shown(again, master, later) == [*wanted[:4], "last 03-21 14:00 30"]
    assert shown(master, later.replace("SUMMARY", "STATUS:CANCELLED\nSUMMARY")) == wanted[:2]
    assert shown(master.replace(DAILY, DAILY + "\nEXDATE:20270320T100000Z"), later) == [*wanted[:3], wanted[4]]


def test_a_change_of_all_later_ones_over_a_change_of_the_clocks() -> None:
    """They move by the clock of the series: from ten to two o'clock in Berlin, also in summer."""
    name = "W. Europe Standard Time"
    master = event("a", "RRULE:FREQ=WEEKLY;COUNT=3", start=f"DTSTART;TZID={name}:20270317T100000")
    later = event(
        "a",
        f"RECURRENCE-ID;RANGE=THISANDFUTURE;TZID={name}:20270324T100000",
        start=f"DTSTART;TZID={name}:20270324T140000",
    )
    assert shown(zone(name), master, later) == ["a 03-17 09:00 0", "a 03-24 13:00 0", "a 03-31 12:00 0"]


def layered(desk: Desk) -> str:
    desk.settings(SETTINGS, PLACE)
    master = event("rota", DAILY, "LOCATION:Hall", "DTEND:20270317T110000Z")
    later = event("rota", RANGED, "LOCATION:Barn", "DTEND:20270319T143000Z", start="DTSTART:20270319T140000Z")
    return str(desk.write("all.ics", calendar(master, later)))


def test_one_of_those_moved_is_changed_as_it_is_shown(desk: Desk) -> None:
    path = Path(layered(desk))
    before = path.read_bytes()
    assert desk.say("rename rota on 20 march to b", *NOW).code == 0
    found = read_calendar(path.read_bytes(), BERLIN)
    occurrences = expand_events(
        found.events, datetime(2027, 3, 19, tzinfo=UTC), datetime(2027, 3, 23, tzinfo=UTC), BERLIN
    )
    assert [(each.title, each.location, f"{each.start:%d %H:%M}") for each in occurrences] == [
        ("rota", "Barn", "19 14:00"),
        ("b", "Barn", "20 14:00"),
        ("rota", "Barn", "21 14:00"),
    ]
    assert sum("RANGE" in line for line in lines_of(path.read_bytes())) == 1
    assert desk.run("undo", "1", "--yes").code == 0
    now = read_calendar(path.read_bytes(), BERLIN)
    assert len(now.events) == len(read_calendar(before, BERLIN).events)  # it follows its series again


@pytest.mark.parametrize(
    ("request_", "said"),
    [
        ("rename rota on 19 march to b", "carries a change of all later occurrences"),
        ("delete rota on 19 march", "carries a change of all later occurrences"),
        ("move rota from 20 march on to 16:00", "was changed from an occurrence on (RANGE=THISANDFUTURE)"),
    ],
)
def test_what_cannot_be_changed_by_itself_is_refused(desk: Desk, request_: str, said: str) -> None:
    path = Path(layered(desk))
    before = path.read_bytes()
    result = desk.say(request_, *NOW)
    assert result.code == 1
    assert said in " ".join((result.out + result.err).split())
    assert path.read_bytes() == before


def test_a_series_with_a_rule_of_exceptions_does_not_move(desk: Desk) -> None:
    desk.settings(SETTINGS, PLACE)
    path = desk.write("all.ics", calendar(event("rota", DAILY, "EXRULE:FREQ=DAILY;INTERVAL=3")))
    result = desk.say("let the whole series rota start at 16:00", *NOW)
    assert "has a rule of exceptions (EXRULE)" in " ".join((result.out + result.err).split())
    assert desk.say("rename all rota to b", *NOW).code == 0
    assert "EXRULE:FREQ=DAILY;INTERVAL=3" in lines_of(path.read_bytes())


def test_periods_move_with_their_series(desk: Desk) -> None:
    desk.settings(SETTINGS, PLACE)
    periods = "RDATE;VALUE=PERIOD:20270325T120000Z/PT2H"
    path = desk.write("all.ics", calendar(event("rota", DAILY, periods, "DTEND:20270317T110000Z")))
    assert desk.say("move the whole series rota to 12:00", *NOW).code == 0
    [found] = read_calendar(path.read_bytes(), BERLIN).events
    assert f"{found.start:%d %H:%M}" == "17 12:00"
    [(start, end)] = found.periods
    assert end - start == timedelta(hours=2)
    assert desk.run("undo", "1", "--yes").code == 0
    assert periods in lines_of(path.read_bytes())


@pytest.mark.parametrize(("head", "noon"), [("", 12), ("X-WR-TIMEZONE:Europe/Berlin\n", 14)])
def test_times_without_a_zone_stay_so(desk: Desk, head: str, noon: int) -> None:
    """Other programs find an occurrence by the time that they wrote."""
    desk.settings(SETTINGS, PLACE)
    rota = event("rota", DAILY, "EXDATE:20270319T100000", "DURATION:PT1H", start="DTSTART:20270317T100000")
    path = desk.write("all.ics", before := calendar(head, rota))
    for said, line in (
        ("delete rota on 18 march", "EXDATE:20270318T100000"),
        ("rename rota on 20 march to b", "RECURRENCE-ID:20270320T100000"),
        ("move the whole series rota to 12:00", f"DTSTART:20270317T{noon}0000"),
    ):
        assert desk.say(said, *NOW).code == 0
        assert line in lines_of(path.read_bytes())
        assert b"TZID" not in path.read_bytes()
        assert desk.run("undo", "1" if "delete" in said else "3" if "rename" in said else "5", "--yes").code == 0
        if "rename" in said:
            path.write_bytes(before)  # an occurrence that was changed once keeps its VEVENT
    names = ("SEQUENCE", "DTSTAMP", "LAST-MODIFIED")
    assert without(lines_of(path.read_bytes()), *names) == without(lines_of(before), *names)
