"""Dates of a series written in another type than its start: heeded where it is clear what is meant."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from tests.calendars.foreign import calendar, event, lines_of, zone
from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.reader import read_calendar
from whenvoca.calendars.recurrence import expand_events
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
TIMED = "DTSTART;TZID=Europe/Berlin:20270317T003000"
DAY = "DTSTART;VALUE=DATE:20270317"
OWN = "Own Time"


@pytest.mark.parametrize(
    ("start", "line", "left"),
    [
        (TIMED, "EXDATE;VALUE=DATE:20270318", [17, 19]),  # the day by the clock of the series, in UTC the one before
        (TIMED, "EXDATE:20270318T003000", [17, 19]),  # without a zone: on that clock too
        (TIMED, "EXDATE;TZID=Europe/Berlin:20270318T003000", [17, 19]),
        (TIMED, "EXDATE:20270317T233000Z", [17, 19]),
        (TIMED, "EXDATE:20270318T003000Z", [17, 18, 19]),
        (TIMED.replace("Europe/Berlin", OWN), "EXDATE:20270318T003000", [17, 19]),
        (TIMED, "RDATE:20270320T003000", [17, 18, 19, 20]),
        (DAY, "EXDATE;VALUE=DATE:20270318", [17, 19]),
        (DAY, "EXDATE:20270318T000000", [17, 19]),
        (DAY, "EXDATE:20270318T000000Z", [17, 19]),
        ("DTSTART:20270317T003000", "EXDATE:20270318T003000", [17, 19]),
    ],
)
def test_what_is_taken_out_or_put_in_is_known(start: str, line: str, left: list[int]) -> None:
    data = calendar(zone(OWN), event("band", "RRULE:FREQ=DAILY;COUNT=3", line, start=start))
    events = read_calendar(data, AZORES).events
    found = expand_events(events, datetime(2027, 3, 10, tzinfo=UTC), datetime(2027, 4, 1, tzinfo=UTC), AZORES)
    assert [each.start.day for each in found] == left


@pytest.mark.parametrize("place", ['folder = "cal"', 'file = "cal/all.ics"'])
@pytest.mark.parametrize("own", ["RECURRENCE-ID:20270318T000000", "RECURRENCE-ID:20270318T000000Z"])
def test_a_moved_day_whose_original_start_has_a_time_is_one_event(desk: Desk, place: str, own: str) -> None:
    moved = event("band", own, "DTEND;VALUE=DATE:20270322", start="DTSTART;VALUE=DATE:20270321")
    desk.settings(SETTINGS, f'[places.cal]\nkind = "calendar"\n{place}\n')
    path = desk.write("cal/all.ics", calendar(event("band", "RRULE:FREQ=DAILY;COUNT=3", start=DAY), moved))

    def days() -> list[str]:
        shown = desk.run("agenda", "--from", "2027-03-10", "--until", "2027-04-01", "--json").json["events"]
        return [each["start"][8:] for each in shown]

    assert days() == ["17", "19", "21"]
    said = desk.say("rename band on 21 march 2027 to Choir", "--in", "cal", "--now", "2027-03-15 10:00")
    assert said.code == 0, said
    assert lines_of(path.read_bytes()).count("SUMMARY:Choir") == 1
    assert days() == ["17", "19", "21"]
