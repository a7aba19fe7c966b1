"""iCalendar out and in, held against independent parsers; recurrence against another expansion."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import icalendar
import pytest
import recurring_ical_events
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from whenvoca.calendars.components import list_components
from whenvoca.calendars.event import Attendee, Event, changed_fields
from whenvoca.calendars.patch import add_events, change_event
from whenvoca.calendars.reader import may_touch, read_calendar, read_events
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.calendars.writer import empty_calendar, to_ical_duration, write_calendar
from whenvoca.errors import SourceFault
from whenvoca.values.durations import Duration
from whenvoca.values.zones import load_zone

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
TEXTS = st.text(
    st.characters(blacklist_categories=("Cs", "Cc"), blacklist_characters="\u2028\u2029\x85"), max_size=90
).map(lambda t: " ".join(t.split()))
ZONES = st.sampled_from(
    [
        "Atlantic/Azores",
        "Europe/Lisbon",
        "America/New_York",
        "Australia/Lord_Howe",
        "Asia/Kathmandu",
        "UTC",
        "Africa/Casablanca",
    ]
)
WALLS = st.datetimes(min_value=datetime(2020, 1, 1), max_value=datetime(2034, 12, 31)).map(
    lambda d: d.replace(second=0, microsecond=0)
)


@st.composite
def events(draw: st.DrawFn) -> Event:
    """Events with any combination of fields."""
    zone = ZoneInfo(draw(ZONES))
    start: Any = draw(WALLS).replace(tzinfo=zone).astimezone(UTC).astimezone(zone)
    end: Any = (start.astimezone(UTC) + timedelta(minutes=draw(st.integers(1, 3000)))).astimezone(zone)
    if draw(st.booleans()):
        start = start.date()
        end = start + timedelta(days=draw(st.integers(1, 9)))
    people = draw(st.lists(st.sampled_from("abcdef"), unique=True, max_size=4))
    return Event(
        uid=draw(st.uuids()).hex,
        title=draw(TEXTS),
        start=start,
        end=end,
        location=draw(TEXTS),
        details=draw(st.lists(TEXTS, max_size=3).map("\n".join)),
        attendees=tuple(
            Attendee(f"{name}@example.org", optional=draw(st.booleans()), answer="NEEDS-ACTION", answer_wanted=True)
            for name in people
        ),
        organizer="desk@example.org" if people else "",
        alarms=tuple(
            draw(
                st.lists(
                    st.integers(-9000, 9000).map(lambda n: Duration(seconds=n * 60).in_days()), max_size=2, unique=True
                )
            )
        ),
        rule=draw(st.sampled_from(["", "FREQ=DAILY;COUNT=3", "FREQ=WEEKLY;BYDAY=MO,WE;INTERVAL=2"])),
        busy=draw(st.sampled_from(["yes", "no", "tentative", "unavailable"])),
        priority=draw(st.integers(0, 9)),
        colour=draw(st.sampled_from(["", "teal"])),
        categories=tuple(draw(st.lists(TEXTS.filter(bool), max_size=2, unique=True))),
        private=draw(st.booleans()),
        origin=draw(st.sampled_from(["", "r/w/R-1/slot/"])),
        sequence=draw(st.integers(0, 3)),
    )


@given(events())
def test_what_is_written_is_read_back_equal_by_the_library(event: Event) -> None:
    data = write_calendar(event, STAMP)
    (read,) = read_events(data, AZORES)
    assert changed_fields(event, read) == {}
    assert (read.uid, read.origin, read.sequence, read.organizer) == (
        event.uid,
        event.origin,
        event.sequence,
        event.organizer,
    )
    assert set(read.attendees) == set(event.attendees)
    assert all(len(line) <= 75 for line in data.split(b"\r\n"))
    assert b"\n" not in data.replace(b"\r\n", b"")


@given(events())
def test_what_is_written_is_valid_by_the_letter(event: Event) -> None:
    calendar = icalendar.Calendar.from_ical(write_calendar(event, STAMP))
    (component,) = calendar.walk("VEVENT")
    assert not calendar.errors
    assert not component.errors
    assert {"UID", "DTSTAMP", "DTSTART", "DTEND"} <= set(component)
    for name in (
        "UID",
        "DTSTAMP",
        "DTSTART",
        "DTEND",
        "SUMMARY",
        "DESCRIPTION",
        "LOCATION",
        "TRANSP",
        "STATUS",
        "CLASS",
        "PRIORITY",
        "COLOR",
        "RRULE",
        "ORGANIZER",
    ):
        assert not isinstance(component.get(name), list), f"{name} may stand once only (RFC 5545 3.6.1)"
    zones = {str(zone["TZID"]) for zone in calendar.walk("VTIMEZONE")}
    for name in ("DTSTART", "DTEND"):
        if zone := component[name].params.get("TZID"):
            assert zone in zones
    for alarm in component.walk("VALARM"):
        assert {"ACTION", "TRIGGER", "DESCRIPTION"} <= set(alarm)
    if "ATTENDEE" in component:
        assert "ORGANIZER" in component


@pytest.mark.parametrize(
    "zone",
    [
        "Atlantic/Azores",
        "Europe/Dublin",
        "America/New_York",
        "Australia/Lord_Howe",
        "Asia/Tokyo",
        "Africa/Casablanca",
        "America/Sao_Paulo",
        "Pacific/Apia",
    ],
)
def test_zone_component_tells_the_same_offsets_as_the_system(zone: str) -> None:
    text = "\r\n".join(
        ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", *vtimezone_lines(load_zone(zone), 2027), "END:VCALENDAR", ""]
    )
    (component,) = icalendar.Calendar.from_ical(text).walk("VTIMEZONE")
    written, real = component.to_tz(lookup_tzid=False), ZoneInfo(zone)
    for day in range(0, 365 * 3, 5):
        wall = datetime(2027, 1, 1, 12) + timedelta(days=day)
        assert wall.replace(tzinfo=written).utcoffset() == wall.replace(tzinfo=real).utcoffset(), wall


FOREIGN = (
    b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Other//EN\r\nX-WR-CALNAME:Mine\r\nBEGIN:VEVENT\r\nUID:u1\r\nDTSTAMP:20270101T000000Z\r\n"
    b'X-ODD;A="b:c":keep\r\n  me '
    b"folded\r\nDTSTART;TZID=Atlantic/Azores:20270317T213000\r\nDURATION:PT2H\r\nSUMMARY:Old\r\nSEQUENCE:4\r\n"
    b"GEO:38.5;-28.7\r\nBEGIN:VALARM\r\nACTION:AUDIO\r\nTRIGGER:-PT5M\r\nX-SOUND:bell\r\nEND:VALARM\r\nEND:VEVENT\r\n"
    b"BEGIN:VTODO\r\nUID:t1\r\nDTSTAMP:20270101T000000Z\r\nSUMMARY:Old\r\nEND:VTODO\r\nEND:VCALENDAR\r\n"
)


def test_properties_we_do_not_know_survive_a_change() -> None:
    (old,) = read_events(FOREIGN, AZORES)
    new = replace(
        old, title="New, title", start=old.start + timedelta(hours=1), end=old.end + timedelta(hours=1), sequence=5
    )
    changed = change_event(FOREIGN, old, new, STAMP, AZORES)
    for kept in (
        b"X-WR-CALNAME:Mine",
        b'X-ODD;A="b:c":keep\r\n  me folded\r\n',
        b"GEO:38.5;-28.7",
        b"X-SOUND:bell",
        b"UID:t1",
    ):
        assert kept in changed
    assert (b"DURATION:PT2H" in changed, b"DTEND" in changed) == (True, False)  # it is as long as before
    (read,) = read_events(changed, AZORES)
    assert changed_fields(new, read) == {}
    assert read.sequence == 5
    assert changed.count(b"SUMMARY:Old") == 1  # the task's


@given(st.lists(events(), min_size=1, max_size=4, unique_by=lambda event: event.uid))
def test_events_put_into_one_file_stand_side_by_side(several: list[Event]) -> None:
    data = add_events(FOREIGN, several, STAMP)
    read = {event.uid: event for event in read_events(data, AZORES)}
    assert len(read) == len(several) + 1
    assert all(changed_fields(event, read[event.uid]) == {} for event in several)
    names = [component.uid for component in list_components(data) if component.name == "VTIMEZONE"]
    assert len(names) == len(set(names))
    first = several[0]
    changed = change_event(data, first, replace(first, title="other", sequence=9), STAMP, AZORES)
    again = {event.uid: event for event in read_events(changed, AZORES)}
    assert again[first.uid].title == "other"
    assert all(changed_fields(event, again[event.uid]) == {} for event in several[1:])


@pytest.mark.parametrize(
    ("data", "fault"),
    [
        (FOREIGN[:200], "is cut in the middle"),
        (b"hello", "does not begin with BEGIN:VCALENDAR"),
        (b"", "does not begin"),
    ],
)
def test_broken_files_are_refused_with_their_name(data: bytes, fault: str) -> None:
    with pytest.raises(SourceFault, match=fault) as caught:
        read_events(data, AZORES, file="domes/x.ics")
    assert caught.value.where == "domes/x.ics"


def test_an_event_that_cannot_be_read_is_named_with_its_line() -> None:
    reading = read_calendar(FOREIGN.replace(b"20270317T213000", b"2027031xT2"), AZORES)
    assert reading.events == []
    assert "DTSTART" in reading.unread[0].said("domes/x.ics")
    assert "2027031xT2 cannot be read" in reading.unread[0].why


@given(events(), st.integers(-30, 60))
def test_expansion_agrees_with_another_one(event: Event, offset: int) -> None:
    first = event.start if not isinstance(event.start, datetime) else event.start.date()
    low = datetime(first.year, first.month, first.day, tzinfo=AZORES) + timedelta(days=offset)
    high = low + timedelta(days=21)
    calendar = icalendar.Calendar.from_ical(write_calendar(event, STAMP))
    oracle = recurring_ical_events.of(calendar).between(low, high)
    starts = {
        each["DTSTART"].dt if not isinstance(each["DTSTART"].dt, datetime) else each["DTSTART"].dt.astimezone(UTC)
        for each in oracle
    }
    ours = {
        o.start.astimezone(UTC) if isinstance(o.start, datetime) else o.start
        for o in expand_events([event], low, high, AZORES)
    }
    if event.is_whole_day:  # the oracle takes whole days in UTC; compare those well inside
        inside = {day for day in starts | ours if low.date() < day < high.date() - timedelta(days=1)}
        assert ours & inside == starts & inside
    else:
        assert ours == starts


def test_changed_and_excluded_occurrences_stand_for_the_original_ones() -> None:
    start = datetime(2027, 3, 18, 11, tzinfo=AZORES)
    series = Event(
        uid="s",
        title="Wash",
        start=start,
        end=start + timedelta(hours=1),
        rule="FREQ=WEEKLY",
        excluded=(start + timedelta(days=7),),
    )
    moved = Event(
        uid="s",
        title="Wash",
        start=start + timedelta(days=15),
        end=start + timedelta(days=15, hours=1),
        occurrence=start + timedelta(days=14),
    )
    found = expand_events([series, moved], start, start + timedelta(days=28), AZORES)
    assert [event.start.day for event in found] == [18, 2, 8]
    assert [event.start.hour for event in found] == [11, 11, 11]  # also after the clocks have changed


@given(events(), st.dates(min_value=date(2020, 1, 1), max_value=date(2034, 1, 1)))
def test_the_quick_look_never_says_no_wrongly(event: Event, day: date) -> None:
    low = datetime(day.year, day.month, day.day, tzinfo=AZORES)
    if expand_events([event], low, low + timedelta(days=5), AZORES):
        assert may_touch(write_calendar(event, STAMP), day, day + timedelta(days=5))


@pytest.mark.parametrize(
    ("seconds", "text"), [(-1500, "-PT25M"), (0, "PT0S"), (86400, "P1D"), (-90061, "-P1DT1H1M1S"), (3600, "PT1H")]
)
def test_durations_are_written_as_the_standard_says(seconds: int, text: str) -> None:
    assert to_ical_duration(Duration(seconds=seconds)) == text


def test_second_of_two_equal_wall_times_is_written_in_utc() -> None:
    start = datetime(2027, 10, 31, 0, 30, tzinfo=AZORES, fold=1)
    data = write_calendar(Event(uid="u", start=start, end=start + timedelta(hours=2)), STAMP)
    assert b"DTSTART:20271031T013000Z" in data
    (read,) = read_events(data, AZORES)
    assert read.start.astimezone(UTC) == start.astimezone(UTC)  # type: ignore[union-attr]


def test_empty_calendar_is_one() -> None:
    assert read_events(empty_calendar(), AZORES) == []
