"""iTIP (RFC 5546): invitations, changes and cancellations out, answers in and out, as iCalendar objects."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from datetime import UTC, date, datetime
from typing import Any, Literal
from zoneinfo import ZoneInfo

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.state import event_key
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.calendars.writer import escape_text, event_lines, join_lines, zones_of
from whenvoca.errors import SourceFault

Method = Literal["REQUEST", "CANCEL", "REPLY"]
_HEAD = ("BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Whenvoca//Whenvoca//EN", "CALSCALE:GREGORIAN")
_WORDS = {"ACCEPTED": "accepted", "DECLINED": "declined", "TENTATIVE": "tentative", "DELEGATED": "delegated"}
_LONGEST_COMMENT = 2000


class Reply(Struct, frozen=True, kw_only=True):
    """What one attendee answers about one event, or one occurrence of it. ``word`` is accepted, declined, tentative,
    delegated, or proposed (a COUNTER, then with the times that are proposed)."""

    uid: str
    occurrence: datetime | date | None
    attendee: str
    word: str
    comment: str = ""
    delegate: str = ""
    start: datetime | date | None = None
    end: datetime | date | None = None
    sequence: int = 0
    stamp: str = ""  # DTSTAMP, in UTC

    @property
    def key(self) -> str:
        """The key of the event that it is about."""
        return event_key(self.uid, self.occurrence)


def write_itip(method: Method, events: Sequence[Event], stamp: datetime, *, comment: str = "") -> bytes:
    """The object of that method with these components of one UID, and their zones. What is only ours stays out:
    reminders, marks, lines that nothing here reads."""
    zones: dict[str, tuple[Any, int]] = {}
    for event in events:
        for zone, year in zones_of(event):
            known = zones.get(zone.key)
            zones[zone.key] = (zone, min(year, known[1]) if known else year)
    lines = [*_HEAD, f"METHOD:{method}"]
    for zone, year in zones.values():
        lines += vtimezone_lines(zone, year)
    for event in events:
        own = event_lines(_to_send(event, method), stamp)
        if method == "CANCEL":
            own = [each for each in own if not each.startswith("STATUS:")]
            own.insert(-1, "STATUS:CANCELLED")
        if not event.sequence:
            own.insert(-1, "SEQUENCE:0")
        if comment:
            own.insert(-1, f"COMMENT:{escape_text(comment[:_LONGEST_COMMENT])}")
        lines += own
    return join_lines([*lines, "END:VCALENDAR"])


def _to_send(event: Event, method: Method) -> Event:
    attendees = event.attendees
    if method == "REQUEST":
        attendees = tuple(
            each if each.has_answered else replace(each, answer="NEEDS-ACTION", answer_wanted=True)
            for each in attendees
        )
    return replace(event, attendees=attendees, alarms=(), origin="", extra=())


def to_cancel(event: Event, addresses: Iterable[str]) -> Event:
    """The event as a CANCEL names it: only those whom it concerns, one SEQUENCE further."""
    wanted = {each.lower() for each in addresses}
    concerned = tuple(each for each in event.attendees if each.address.lower() in wanted)
    return replace(event, attendees=concerned, sequence=event.sequence + 1)


def to_reply(event: Event, address: str, word: str) -> Event:
    """The event as a REPLY names it: with that attendee alone, and their answer (RFC 5546 3.2.3)."""
    mine = next((each for each in event.attendees if each.address.lower() == address.lower()), Attendee(address))
    return replace(
        event,
        attendees=(replace(mine, answer=word.upper(), answer_wanted=False),),
        rule="" if event.occurrence is not None else event.rule,
    )


def stamped_events(data: bytes, zone: ZoneInfo) -> list[tuple[Event, str]]:
    """The events of an invitation, each with its DTSTAMP in UTC."""
    from icalendar import Calendar

    stamps: dict[str, str] = {}
    with suppress(ValueError, IndexError, KeyError, AttributeError, TypeError):
        found: Any = Calendar.from_ical(data.decode("utf-8", "replace"))
        for part in found.walk("VEVENT"):
            key = event_key(str(part.get("UID", "")), _moment(part, "RECURRENCE-ID", zone))
            stamps[key] = f"{part['DTSTAMP'].dt.astimezone(UTC):%Y%m%dT%H%M%SZ}"
    return [(each, stamps.get(event_key(each.uid, each.occurrence), "")) for each in read_events(data, zone)]


# --- answers in


def read_replies(data: bytes, zone: ZoneInfo) -> list[Reply]:
    """The answers in a REPLY or a COUNTER. Raises SourceFault where it is neither, or cannot be read."""
    from icalendar import Calendar

    found: Any
    try:
        found = Calendar.from_ical(data.decode("utf-8", "replace"))
    except (ValueError, IndexError, KeyError) as error:
        raise SourceFault("the answer is no calendar that can be read") from error
    method = str(found.get("METHOD", "")).upper()
    if method not in ("REPLY", "COUNTER"):
        raise SourceFault("the calendar is no answer")
    replies = []
    for part in found.walk("VEVENT"):
        try:
            replies += _replies_of(part, zone, is_counter=method == "COUNTER")
        except (ValueError, TypeError, AttributeError, KeyError) as error:
            raise SourceFault("the answer names no moment that can be read") from error
    return replies


def _replies_of(part: Any, zone: ZoneInfo, *, is_counter: bool) -> list[Reply]:
    people = part.get("ATTENDEE") or []
    uid = str(part.get("UID", ""))
    if not uid:
        return []
    replies = []
    for each in people if isinstance(people, list) else [people]:
        status = str(each.params.get("PARTSTAT", "")).upper()
        word = "proposed" if is_counter else _WORDS.get(status, "")
        if not word:
            continue
        delegates = each.params.get("DELEGATED-TO") or []
        delegate = str(delegates[0] if isinstance(delegates, list) else delegates) if delegates else ""
        stamp = part.get("DTSTAMP")
        replies.append(
            Reply(
                uid=uid,
                occurrence=_moment(part, "RECURRENCE-ID", zone),
                attendee=_bare(each),
                word=word,
                comment=" ".join(str(part.get("COMMENT") or "").split())[:_LONGEST_COMMENT],
                delegate=_bare(delegate),
                start=_moment(part, "DTSTART", zone) if is_counter else None,
                end=_moment(part, "DTEND", zone) if is_counter else None,
                sequence=int(part.get("SEQUENCE", 0) or 0),
                stamp=f"{stamp.dt.astimezone(UTC):%Y%m%dT%H%M%SZ}" if isinstance(stamp.dt, datetime) else "",
            )
        )
    return replies


def _bare(address: Any) -> str:
    text = str(address).strip().strip('"')
    return text[7:] if text.lower().startswith("mailto:") else text


def _moment(part: Any, name: str, zone: ZoneInfo) -> Any:
    value = part.get(name)
    if value is None:
        return None
    found = value.dt
    if isinstance(found, datetime) and found.tzinfo is None:
        return found.replace(tzinfo=zone)
    return found
