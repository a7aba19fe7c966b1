"""The reader of common lines, held against the iCalendar library: the same events, or none at all."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given

from tests.calendars.test_icalendar import AZORES, STAMP, events
from whenvoca.calendars.event import Event
from whenvoca.calendars.plain_reader import read_plain
from whenvoca.calendars.reader import read_events, read_one_by_one
from whenvoca.calendars.writer import write_calendar


def told(found: list[Event]) -> list[dict[str, Any]]:
    """Every field, with moments as instants and the name of their zone."""
    return [
        {
            name: [(str(each), getattr(each, "tzinfo", None) and str(each.astimezone(UTC))) for each in value]
            if isinstance(value := getattr(event, name), tuple)
            else (str(value), str(getattr(value, "tzinfo", "")))
            for name in event.__struct_fields__
        }
        for event in found
    ]


@given(events())
def test_what_we_write_is_read_as_the_library_reads_it(event: Event) -> None:
    data = write_calendar(event, STAMP)
    plain = read_plain(data, AZORES)
    is_common = "INTERVAL" not in event.rule and not any(
        "\\" in each or "," in each or ";" in each for each in event.categories
    )
    assert (plain is not None) == is_common
    if plain is not None and b"\\\\" not in data:  # the library takes a backslash and an n behind it for a line break
        assert told(plain) == told(read_one_by_one(data, AZORES, by_library=True).events)
    (read,) = read_events(data, AZORES)
    assert (read.title, read.details, read.location) == (event.title, event.details, event.location)


def calendar(*lines: str, start: str = "DTSTART:20270317T212000Z") -> bytes:
    """An event with these lines."""
    inside = ["BEGIN:VEVENT", "UID:u", *([start] if start else []), *lines, "END:VEVENT"]
    return "\r\n".join(["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", *inside, "END:VCALENDAR", ""]).encode()


COMMON: list[tuple[str, ...]] = [
    (),
    ("DTEND;TZID=Europe/Lisbon:20270317T230000",),
    ("DTEND:20270317T230000", "SUMMARY;LANGUAGE=en:Wide camera\\, dome 2\\; north\\nsecond line"),
    (
        "RECURRENCE-ID;VALUE=DATE:20270317",
        "EXDATE;TZID=Europe/Lisbon:20270318T212000,20270319T212000",
        "EXDATE:20270320T213000Z",
    ),
    ("RRULE:FREQ=MONTHLY;UNTIL=20280101T000000Z;BYDAY=-1FR,2MO", "RDATE:20270401T100000Z"),
    (
        'ATTENDEE;CN="Inês; night: two";ROLE=OPT-PARTICIPANT;RSVP=true:MAILTO:ines@example.org',
        "ORGANIZER;CN=Desk:mailto:d@example.org",
    ),
    ("STATUS:Tentative", "CLASS:private", "TRANSP:OPAQUE", "X-WHENVOCA-BUSY:unavailable", "X-OTHER;A=b:c\\,d"),
    (
        "CATEGORIES:one,two",
        "CATEGORIES:three",
        "PRIORITY:5",
        "SEQUENCE:12",
        "COLOR:teal",
        "URL:https://example.org/a?b=c:d",
    ),
    (
        "BEGIN:VALARM",
        "ACTION:DISPLAY",
        "TRIGGER;RELATED=START:-P1DT2H",
        "END:VALARM",
        "BEGIN:VALARM",
        "TRIGGER:PT0S",
        "END:VALARM",
    ),
    ("DESCRIPTION:folded in the mid", " dle\r\n\tand again"),
    ("DURATION:P2D",),
    ("DURATION:P1W",),
]


@pytest.mark.parametrize("lines", COMMON, ids=lambda lines: lines[0][:30] if lines else "bare")
@pytest.mark.parametrize(
    "start", ["DTSTART:20270317T212000Z", "DTSTART;VALUE=DATE:20270317", "DTSTART:20270317T212000"]
)
def test_common_lines_are_read_as_the_library_reads_them(lines: tuple[str, ...], start: str) -> None:
    data = calendar(*lines, start=start)
    plain = read_plain(data, AZORES)
    assert plain is not None
    assert told([each for each in plain if is_usable(each)]) == told(
        read_one_by_one(data, AZORES, by_library=True).events
    )


@pytest.mark.parametrize("length", ["PT1H", "PT25M", "PT24H", "PT36H", "P1D", "PT0S"])
@pytest.mark.parametrize("day", ["20270317", "20270327", "20271030"])  # the clocks change within the last two
def test_lengths_are_read_as_the_library_reads_them(length: str, day: str) -> None:
    data = calendar(f"DURATION:{length}", start=f"DTSTART;TZID=Europe/Berlin:{day}T212000")
    plain = read_plain(data, AZORES)
    assert plain is not None
    assert told(plain) == told(read_one_by_one(data, AZORES, by_library=True).events)


def is_usable(event: Event) -> bool:
    """A day beside a time is read by one of them, and by none of them used."""
    return isinstance(event.start, datetime) == isinstance(event.end, datetime)


STRANGE: list[tuple[str, ...]] = [
    ("DURATION:P1DT1H",),
    ("DURATION:-PT1H",),
    ("DURATION:PT1H", "DTEND:20270317T230000Z"),
    ("DTEND;TZID=Somewhere Else:20270317T230000",),
    ("DTEND:20270317",),
    ("DTEND;VALUE=DATE:20270229",),
    ("RRULE:FREQ=WEEKLY;BYDAY=MO;INTERVAL=2",),
    ("RRULE:FREQ=HOURLY",),
    ("RRULE:FREQ=WEEKLY;INTERVAL=0",),
    ("SUMMARY:one", "SUMMARY:two"),
    ("SUMMARY;ENCODING=QUOTED-PRINTABLE:=41",),
    ("no colon at all",),
    ("summary:small",),
    ("BEGIN:VALARM", "TRIGGER;RELATED=END:-PT5M", "END:VALARM"),
    ("BEGIN:VALARM", "TRIGGER:PT", "END:VALARM"),
    ("BEGIN:VALARM", "TRIGGER;VALUE=DATE-TIME:20270317T200000Z", "END:VALARM"),
    ("BEGIN:X-PART", "END:X-PART"),
    ("ATTENDEE;CN=with^nhat:mailto:a@example.org",),
    ("CATEGORIES:one\\,two",),
    ("RDATE;VALUE=PERIOD:20270401T100000Z/PT1H",),
    ("PRIORITY:high",),
    ("DTSTART:20270318T212000Z",),
    ("END:VCALENDAR",),
]


@pytest.mark.parametrize("lines", STRANGE, ids=lambda lines: lines[0][:30])
def test_strange_lines_are_left_to_the_library(lines: tuple[str, ...]) -> None:
    assert read_plain(calendar(*lines), AZORES) is None


@pytest.mark.parametrize(
    "data",
    [
        calendar(start=""),
        calendar()[:-20],
        b"\xef\xbb\xbf" + calendar(),
        calendar() + b"BEGIN:VCALENDAR\r\n",
        calendar("SUMMARY:\xff").replace(b"\xc3\xbf", b"\xff"),
        b"",
    ],
    ids=["no start", "cut", "byte order mark", "two objects", "no UTF-8", "empty"],
)
def test_objects_that_are_not_whole_are_left_to_the_library(data: bytes) -> None:
    assert read_plain(data, AZORES) is None
