"""Zones that only a file defines: occurrences after a clock change are right, and the file keeps its TZID."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.calendars.foreign import calendar, event, lines_of, zone
from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.reader import read_calendar, read_events
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import from_state, to_state
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.ledger.codec import decode_state, encode
from whenvoca.values.file_zones import FileZone, file_zone
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
NAMES = [
    "W. Europe Standard Time",
    "Customized Time Zone",
    "(UTC+01:00) Amsterdam\\, Berlin\\, Rome",
    "/freeassociation.sourceforge.net/Europe/Berlin",
    "Europe/berlin",
    "Mitteleuropa: Büro; 2",
]
CALENDARS = '[places.cal]\nkind = "calendar"\nfolder = "cal"\n'


def series(name: str, *, defined: bool = True) -> bytes:
    """Each monday at nine over a change of the clocks, the second one taken out."""
    quoted = '"' + name.replace("\\,", ",") + '"'
    made = event(
        "tour",
        f"DTEND;TZID={quoted}:20270322T100000",
        "RRULE:FREQ=WEEKLY;COUNT=3",
        f"EXDATE;TZID={quoted}:20270329T090000",
        "X-KEEP;A=b:me",
        start=f"DTSTART;TZID={quoted}:20270322T090000",
    )
    return calendar(*([zone(name)] if defined else []), made)


def starts(data: bytes) -> list[str]:
    found = expand_events(
        read_events(data, AZORES), datetime(2027, 3, 1, tzinfo=UTC), datetime(2027, 5, 1, tzinfo=UTC), AZORES
    )
    return [f"{each.span(AZORES)[0].astimezone(UTC):%m-%d %H:%M}" for each in found]


@pytest.mark.parametrize("name", NAMES)
def test_occurrences_follow_the_clocks_of_the_file(name: str) -> None:
    assert starts(series(name)) == ["03-22 08:00", "04-05 07:00"]


@pytest.mark.parametrize("name", ["W. Europe Standard Time", "Europe/berlin", "/example.org/20270101_1/Europe/Berlin"])
def test_names_of_windows_and_others_are_known_without_a_definition(name: str) -> None:
    assert starts(series(name, defined=False)) == ["03-22 08:00", "04-05 07:00"]


def test_a_name_that_nobody_knows_is_unread_with_its_reason() -> None:
    (unread,) = read_calendar(series("Moon/Base", defined=False), AZORES).unread
    assert 'there is no time zone "Moon/Base"' in unread.why


@pytest.mark.parametrize("name", NAMES)
def test_changes_keep_the_zone_of_the_file_and_undo_brings_all_back(desk: Desk, name: str) -> None:
    desk.settings(SETTINGS, CALENDARS)
    before = series(name)
    desk.write("cal/a.ics", before)
    assert desk.say("move the tour to 10:00, all of them", "--now", "2027-03-20").code == 0
    lines = lines_of((desk.folder / "cal/a.ics").read_bytes())
    quoted = name.replace("\\,", ",")
    plain = quoted if all(sign.isalnum() or sign in "/._-" for sign in quoted) else f'"{quoted}"'
    assert f"DTSTART;TZID={plain}:20270322T120000" in lines  # ten in the Azores is noon there
    assert f"EXDATE;TZID={plain}:20270329T120000" in lines
    assert f"TZID:{name}" in lines
    assert starts((desk.folder / "cal/a.ics").read_bytes()) == ["03-22 11:00", "04-05 10:00"]
    assert desk.say("undo that", "--now", "2027-03-20").code == 0
    after = lines_of((desk.folder / "cal/a.ics").read_bytes())
    assert starts((desk.folder / "cal/a.ics").read_bytes()) == ["03-22 08:00", "04-05 07:00"]
    assert "X-KEEP;A=b:me" in after


@pytest.mark.parametrize("name", NAMES)
def test_one_occurrence_is_taken_out_and_comes_back(desk: Desk, name: str) -> None:
    desk.settings(SETTINGS, CALENDARS).workflow(
        'when cal begins an event\n  where  title is "tour"\n\ndelete event\n  which  this one\n'
    )
    desk.write("cal/a.ics", series(name))
    assert desk.run("run", "--now", "2027-04-05 05:00").code == 0
    assert desk.run("run", "--now", "2027-04-05 07:01").code == 0
    assert starts((desk.folder / "cal/a.ics").read_bytes()) == ["03-22 08:00"]
    number = desk.run("runs", "--json").json["runs"][0]["run"]
    assert desk.run("undo", str(number), "--yes", "--now", "2027-04-05 07:02").code == 0
    assert starts((desk.folder / "cal/a.ics").read_bytes()) == ["03-22 08:00", "04-05 07:00"]


@pytest.mark.parametrize("name", NAMES)
def test_an_event_keeps_its_zone_in_the_ledger_and_in_another_file(name: str) -> None:
    (found,) = read_events(series(name), AZORES)
    again = from_state(decode_state(encode(to_state(found))))
    assert again == found
    assert again.start.tzinfo is found.start.tzinfo  # type: ignore[union-attr]
    copied = write_calendar(found, datetime(2027, 1, 1, tzinfo=UTC))
    assert f"TZID:{name}" in lines_of(copied)
    assert starts(copied) == starts(series(name))


def test_a_zone_of_the_system_holds_where_the_file_says_the_same() -> None:
    (same,) = read_events(series("Europe/Berlin"), AZORES)
    assert same.start.tzinfo == ZoneInfo("Europe/Berlin")  # type: ignore[union-attr]
    (other,) = read_events(series("Europe/Lisbon"), AZORES)  # its rules are those of Central Europe in this file
    assert isinstance(other.start.tzinfo, FileZone)  # type: ignore[union-attr]


WHERE = [
    "Europe/Berlin",
    "Atlantic/Azores",
    "America/New_York",
    "Australia/Lord_Howe",
    "Asia/Tokyo",
    "Africa/Casablanca",
]
MOMENTS = st.datetimes(datetime(2027, 1, 1), datetime(2031, 12, 30))


@given(st.sampled_from(WHERE), MOMENTS, st.integers(0, 1))
def test_a_defined_zone_reckons_as_the_system_does(name: str, moment: datetime, fold: int) -> None:
    system = load_zone(name)
    defined = file_zone("x", "\n".join(vtimezone_lines(system, 2026)))
    wall = moment.replace(fold=fold)
    assert wall.replace(tzinfo=defined).utcoffset() == wall.replace(tzinfo=system).utcoffset()
    there = moment.replace(tzinfo=UTC).astimezone(defined)
    expected = moment.replace(tzinfo=UTC).astimezone(system)
    assert (there.replace(tzinfo=None), there.fold) == (expected.replace(tzinfo=None), expected.fold)
    assert there.astimezone(UTC) == moment.replace(tzinfo=UTC)


BROKEN = [
    ("BEGIN:VTIMEZONE\nTZID:x\nEND:VTIMEZONE", "holds no STANDARD"),
    ("BEGIN:VTIMEZONE\nTZID:x\nBEGIN:STANDARD\nDTSTART:soon\nEND:STANDARD\nEND:VTIMEZONE", 'no offset ""'),
    (zone("x").replace("+0200", "+9900"), 'no offset "+9900"'),
    (zone("x").replace("FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10", "FREQ=HOURLY"), "too often"),
    (zone("x").replace("FREQ=YEARLY", "FREQ=SOMETIMES"), "no rule of repetition"),
]


@pytest.mark.parametrize(("text", "said"), BROKEN)
def test_a_definition_that_cannot_be_used_is_said_of_its_event_alone(text: str, said: str) -> None:
    data = calendar(text + "\n", event("bad", start="DTSTART;TZID=x:20270322T090000"), event("good"))
    reading = read_calendar(data, AZORES)
    assert [each.uid for each in reading.events] == ["good"]
    assert said in reading.unread[0].why


def test_days_are_of_no_zone() -> None:
    (found,) = read_events(calendar(zone("x"), event("a", start="DTSTART;VALUE=DATE:20270322")), AZORES)
    assert (found.start, found.end) == (date(2027, 3, 22), date(2027, 3, 22) + timedelta(days=1))


def test_a_length_of_days_is_on_the_calendar_also_beside_an_alarm_that_repeats() -> None:
    alarm = ("BEGIN:VALARM", "ACTION:DISPLAY", "TRIGGER:-PT5M", "REPEAT:2", "DURATION:PT5M", "END:VALARM")
    start = "DTSTART;TZID=Europe/Berlin:20271030T212000"
    for length, hours in (("P1D", 25), ("PT24H", 24)):
        (found,) = read_calendar(calendar(event("one", f"DURATION:{length}", *alarm, start=start)), AZORES).events
        assert (found.end.astimezone(UTC) - found.start.astimezone(UTC)).total_seconds() == hours * 3600
