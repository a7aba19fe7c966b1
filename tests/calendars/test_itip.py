"""iTIP objects (RFC 5546 section 3): what each method must hold, may not hold, and how other libraries read it."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest
from icalendar import Calendar
from msgspec.structs import replace

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.itip import Method, read_replies, to_cancel, to_reply, write_itip
from whenvoca.calendars.reader import read_events
from whenvoca.errors import SourceFault
from whenvoca.values.durations import Duration
from whenvoca.values.zones import load_zone

LISBON = load_zone("Europe/Lisbon")
STAMP = datetime(2027, 3, 1, 10, tzinfo=UTC)
MEETING = Event(
    uid="m-1",
    title="Meeting; über, all",
    start=datetime(2027, 4, 5, 10, tzinfo=LISBON),
    end=datetime(2027, 4, 5, 11, tzinfo=LISBON),
    location="Hall, East",
    details="one\ntwo",
    organizer="desk@example.org",
    attendees=(Attendee("ines@example.org"), Attendee("tomas@example.org", answer="ACCEPTED", name="Tomás")),
    alarms=(Duration(seconds=-900),),
    origin="our/mark",
    extra=("X-OURS:secret",),
    sequence=2,
)
SERIES = replace(MEETING, rule="FREQ=WEEKLY;COUNT=4", excluded=(datetime(2027, 4, 12, 10, tzinfo=LISBON),))
MOVED = replace(
    MEETING,
    occurrence=datetime(2027, 4, 19, 10, tzinfo=LISBON),
    start=datetime(2027, 4, 19, 12, tzinfo=LISBON),
    end=datetime(2027, 4, 19, 13, tzinfo=LISBON),
)
DAYS = replace(MEETING, start=date(2027, 4, 5), end=date(2027, 4, 7))

MUST = {
    "REQUEST": ("ATTENDEE", "DTSTAMP", "DTSTART", "ORGANIZER", "SUMMARY", "UID", "SEQUENCE"),
    "CANCEL": ("ATTENDEE", "DTSTAMP", "ORGANIZER", "UID", "SEQUENCE", "STATUS"),
    "REPLY": ("ATTENDEE", "DTSTAMP", "ORGANIZER", "UID"),
}
NEVER = ("X-WHENVOCA-ORIGIN", "X-OURS", "REQUEST-STATUS")


def made(method: Method, *events: Event) -> list[Event]:
    """The components as they go out by that method."""
    if method == "CANCEL":
        return [to_cancel(each, ["ines@example.org"]) for each in events]
    return [to_reply(each, "ines@example.org", "declined") for each in events] if method == "REPLY" else list(events)


@pytest.mark.parametrize("method", ["REQUEST", "CANCEL", "REPLY"])
@pytest.mark.parametrize(
    "events", [(MEETING,), (SERIES, MOVED), (MOVED,), (DAYS,)], ids=["one", "all", "moved", "days"]
)
def test_what_a_method_holds(method: Method, events: tuple[Event, ...]) -> None:
    data = write_itip(method, made(method, *events), STAMP, comment="see you" if method == "REPLY" else "")
    found: Any = Calendar.from_ical(data)
    assert found["METHOD"] == method
    parts = found.walk("VEVENT")
    assert len(parts) == len(events)
    assert len(found.walk("VALARM")) == 0
    assert {str(part["UID"]) for part in parts} == {"m-1"}
    for part, event in zip(parts, events, strict=True):
        assert all(part.get(name) is not None for name in MUST[method]), part
        assert not [name for name in NEVER if name in part]
        assert ("RECURRENCE-ID" in part) == (event.occurrence is not None)
        assert int(part["SEQUENCE"]) == (3 if method == "CANCEL" else 2)
        people = part["ATTENDEE"] if isinstance(part["ATTENDEE"], list) else [part["ATTENDEE"]]
        assert len(people) == (2 if method == "REQUEST" else 1)
    if method == "REPLY":
        assert parts[0]["COMMENT"] == "see you"
        assert parts[0]["ATTENDEE"].params["PARTSTAT"] == "DECLINED"
    if method == "CANCEL":
        assert parts[0]["STATUS"] == "CANCELLED"
        assert str(parts[0]).count("STATUS") <= 1
    if method == "REQUEST":
        waits, answered = parts[0]["ATTENDEE"]
        assert (waits.params["PARTSTAT"], waits.params["RSVP"]) == ("NEEDS-ACTION", "TRUE")
        assert answered.params["PARTSTAT"] == "ACCEPTED"
    wanted = {} if events[0] is DAYS else {"Europe/Lisbon"}
    assert {str(zone["TZID"]) for zone in found.walk("VTIMEZONE")} == set(wanted)


def test_our_own_reader_reads_it_back() -> None:
    (event,) = read_events(write_itip("REQUEST", [MEETING], STAMP), LISBON)
    assert (event.title, event.start, event.details) == (MEETING.title, MEETING.start, MEETING.details)
    assert event.organizer == "desk@example.org"


def reply(*lines: str, method: str = "REPLY") -> bytes:
    body = ["BEGIN:VCALENDAR", "VERSION:2.0", f"METHOD:{method}", "BEGIN:VEVENT", *lines, "END:VEVENT", "END:VCALENDAR"]
    return "\r\n".join([*body, ""]).encode()


USUAL = ("UID:m-1", "DTSTAMP:20270301T100000Z")
REPLIES = [
    (("ATTENDEE;PARTSTAT=ACCEPTED:mailto:a@example.org",), ("a@example.org", "accepted", "")),
    (
        ("ATTENDEE;PARTSTAT=declined:MAILTO:A@example.org", "COMMENT:on\\nleave"),
        ("A@example.org", "declined", "on leave"),
    ),
    (("ATTENDEE;PARTSTAT=TENTATIVE;CN=A:mailto:a@example.org",), ("a@example.org", "tentative", "")),
    (
        ('ATTENDEE;PARTSTAT=DELEGATED;DELEGATED-TO="mailto:b@example.org":mailto:a@example.org',),
        ("a@example.org", "delegated", ""),
    ),
    (("ATTENDEE;PARTSTAT=NEEDS-ACTION:mailto:a@example.org",), None),
    (("ATTENDEE;PARTSTAT=X-MAYBE:mailto:a@example.org",), None),
    (("ATTENDEE:mailto:a@example.org",), None),
    ((), None),
]


@pytest.mark.parametrize(("lines", "wanted"), REPLIES)
def test_answers_are_read(lines: tuple[str, ...], wanted: tuple[str, str, str] | None) -> None:
    found = read_replies(reply(*USUAL, *lines), LISBON)
    assert [(each.attendee, each.word, each.comment) for each in found] == ([wanted] if wanted else [])
    if "DELEGATED" in "".join(lines):
        assert found[0].delegate == "b@example.org"


def test_a_counter_proposes_other_times() -> None:
    lines = ("ATTENDEE;PARTSTAT=TENTATIVE:mailto:a@example.org", "DTSTART:20270405T120000Z", "DTEND:20270405T130000Z")
    (found,) = read_replies(reply(*USUAL, *lines, "SEQUENCE:4", method="COUNTER"), LISBON)
    assert (found.word, found.sequence, found.stamp) == ("proposed", 4, "20270301T100000Z")
    assert isinstance(found.end, datetime)
    assert isinstance(found.start, datetime)
    assert found.end - found.start == timedelta(hours=1)


@pytest.mark.parametrize("method", ["PUBLISH", "REQUEST", "ADD", "CANCEL", "REFRESH", "DECLINECOUNTER", ""])
def test_other_methods_are_no_answers(method: str) -> None:
    with pytest.raises(SourceFault, match="no answer"):
        read_replies(reply(*USUAL, method=method), LISBON)
