"""iCalendar out (RFC 5545, RFC 7986): a plain writer of the common lines.

A plain one because 10,000 events take the iCalendar library seconds; that library is its oracle in the tests.
"""

from __future__ import annotations

import re
from datetime import UTC, date, datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.task import PROPERTIES as TASK_PROPERTIES
from whenvoca.calendars.task import Task
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.values.durations import Duration

ORIGIN = "X-WHENVOCA-ORIGIN"
_BUSY = "X-WHENVOCA-BUSY"
_PRODUCT = "PRODID:-//Whenvoca//Whenvoca//EN"
_TO_ESCAPE = re.compile(r"[\\;,\n\r]")
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]")

_OF_TASKS = ("due", "section", "person", "finished", "source")
# Which properties each field of the language is written as; what is not listed is never touched in a change.
PROPERTIES = {
    "title": ("SUMMARY",), "start": ("DTSTART",), "end": ("DTEND", "DURATION"), "location": ("LOCATION",),
    "details": ("DESCRIPTION",), "attendees": ("ATTENDEE",), "optional": ("ATTENDEE",), "repeat": ("RRULE",),
    "busy": ("TRANSP", "STATUS", _BUSY), "priority": ("PRIORITY",), "colour": ("COLOR",),
    "category": ("CATEGORIES",), "private": ("CLASS",),
}  # fmt: skip


def write_calendar(event: Event, stamp: datetime) -> bytes:
    """A whole iCalendar object with that one event and its zones. ``stamp`` is the DTSTAMP."""
    return _head(tuple(zones_of(event))) + join_lines([*event_lines(event, stamp), "END:VCALENDAR"])


@lru_cache(maxsize=256)
def _head(zones: tuple[tuple[str, int], ...]) -> bytes:
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", _PRODUCT]
    for zone, year in zones:
        lines += vtimezone_lines(zone, year)
    return join_lines(lines)


def empty_calendar() -> bytes:
    """An iCalendar object that holds nothing yet."""
    return join_lines(["BEGIN:VCALENDAR", "VERSION:2.0", _PRODUCT, "END:VCALENDAR"])


def join_lines(lines: list[str]) -> bytes:
    """Content lines folded at 75 octets (RFC 5545 3.1), with their line ends."""
    folded = [line if len(line) <= 75 and line.isascii() else fold_line(line) for line in lines]
    return ("\r\n".join(folded) + "\r\n").encode()


def fold_line(line: str) -> str:
    """One content line, folded so that no piece is longer than 75 octets and no character is cut."""
    if line.isascii():
        return (
            line
            if len(line) <= 75
            else "\r\n ".join([line[:75], *(line[i : i + 74] for i in range(75, len(line), 74))])
        )
    raw = line.encode()
    if len(raw) <= 75:
        return line
    pieces, begin, limit = [], 0, 75
    while begin < len(raw):
        end = min(begin + limit, len(raw))
        while end < len(raw) and raw[end] & 0xC0 == 0x80:
            end -= 1
        pieces.append(raw[begin:end].decode())
        begin, limit = end, 74
    return "\r\n ".join(pieces)


def zones_of(event: Event) -> list[tuple[str, int]]:
    """The zones that the event's lines name, each with the first year it is needed for."""
    found: dict[str, int] = {}
    for value in (event.start, event.end, event.occurrence, *event.excluded, *event.added):
        if isinstance(value, datetime) and (zone := _zone_name(value)):
            found[zone] = min(found.get(zone, 9999), value.year)
    return sorted(found.items())


def event_lines(event: Event, stamp: datetime) -> list[str]:
    """The VEVENT of an event, the VTODO of a task."""
    if isinstance(event, Task):
        return _task_lines(event, stamp)
    lines = ["BEGIN:VEVENT", f"UID:{event.uid}", f"DTSTAMP:{_utc(stamp)}"]
    if event.occurrence is not None:
        lines.append(moment_line("RECURRENCE-ID", event.occurrence))
    for name, attribute in _FIELDS:
        if attribute == "busy" or getattr(event, attribute):
            lines += field_lines(name, event)
    lines += [moment_line("EXDATE", value) for value in event.excluded]
    lines += [moment_line("RDATE", value) for value in event.added]
    if event.organizer:
        lines.append(f"ORGANIZER:mailto:{event.organizer}")
    if event.url:
        lines.append(f"URL:{event.url}")
    if event.sequence:
        lines.append(f"SEQUENCE:{event.sequence}")
    if event.origin:
        lines.append(f"{ORIGIN}:{escape_text(event.origin)}")
    for span in event.alarms:
        lines += alarm_lines(span, event.title)
    lines.append("END:VEVENT")
    return lines


def _task_lines(task: Task, stamp: datetime) -> list[str]:
    lines = ["BEGIN:VTODO", f"UID:{task.uid}", f"DTSTAMP:{_utc(stamp)}"]
    for name in TASK_PROPERTIES:
        lines += field_lines(name, task)
    if task.sequence:
        lines.append(f"SEQUENCE:{task.sequence}")
    if task.origin:
        lines.append(f"{ORIGIN}:{escape_text(task.origin)}")
    for span in task.alarms:
        lines += alarm_lines(span, task.title)
    return [*lines, "END:VTODO"]


def _task_field_lines(name: str, task: Task) -> list[str]:
    match name:
        case "due":
            return [moment_line("DUE", task.end)] if task.end is not None else []
        case "section":
            return [f"CATEGORIES:{escape_text(task.section)}"] if task.section else []
        case "person":
            if not task.person:
                return []
            from urllib.parse import quote

            where = f"mailto:{task.person}" if "@" in task.person else f"urn:whenvoca:person:{quote(task.person)}"
            return [f"ATTENDEE:{where}"]
        case "finished":
            if task.finished is None:
                return ["STATUS:NEEDS-ACTION"]
            return [f"COMPLETED:{_utc(task.finished)}", "STATUS:COMPLETED", "PERCENT-COMPLETE:100"]
        case "source":
            return [f"RELATED-TO:{escape_text(task.source)}"] if task.source else []
    return []


# The fields of an event in the order they are written, each with its attribute; an empty one has no line.
_FIELDS = (
    ("title", "title"), ("start", "start"), ("end", "end"), ("repeat", "rule"), ("location", "location"), ("details", "details"),
    ("attendees", "attendees"), ("busy", "busy"), ("priority", "priority"), ("colour", "colour"), ("category", "categories"),
    ("private", "private"),
)  # fmt: skip


def field_lines(name: str, event: Event) -> list[str]:
    """The content lines of one field of the language; none where the field is empty."""
    if isinstance(event, Task) and name in _OF_TASKS:
        return _task_field_lines(name, event)
    match name:
        case "title":
            return [f"SUMMARY:{escape_text(event.title)}"] if event.title else []
        case "start":
            return [moment_line("DTSTART", event.start)] if event.start is not None else []
        case "end":
            return [moment_line("DTEND", event.end)]
        case "repeat":
            return [f"RRULE:{event.rule}"] if event.rule else []
        case "location":
            return [f"LOCATION:{escape_text(event.location)}"] if event.location else []
        case "details":
            return [f"DESCRIPTION:{escape_text(event.details)}"] if event.details else []
        case "attendees" | "optional":
            return [_attendee_line(each) for each in event.attendees]
        case "busy":
            return _busy_lines(event)
        case "priority":
            return [f"PRIORITY:{event.priority}"] if event.priority else []
        case "colour":
            return [f"COLOR:{event.colour}"] if event.colour else []
        case "category":
            return (
                ["CATEGORIES:" + ",".join(escape_text(each) for each in event.categories)] if event.categories else []
            )
        case "private":
            return ["CLASS:PRIVATE"] if event.private else []
    raise KeyError(name)


def _busy_lines(event: Event) -> list[str]:
    lines = ["TRANSP:" + ("TRANSPARENT" if event.busy == "no" else "OPAQUE")]
    if event.cancelled:
        lines.append("STATUS:CANCELLED")
    elif event.busy == "tentative":
        lines.append("STATUS:TENTATIVE")
    elif event.busy == "unavailable":
        lines.append(f"{_BUSY}:unavailable")
    return lines


def alarm_lines(span: Duration, title: str) -> list[str]:
    """A VALARM that shows the title (RFC 5545 3.6.6)."""
    return ["BEGIN:VALARM", "ACTION:DISPLAY", f"TRIGGER:{to_ical_duration(span)}",
            f"DESCRIPTION:{escape_text(title) or 'Reminder'}", "END:VALARM"]  # fmt: skip


@lru_cache(maxsize=1024)
def to_ical_duration(span: Duration) -> str:
    """The duration as RFC 5545 3.3.6 writes it: -PT25M."""
    total = span.to_seconds()
    sign = "-" if total < 0 else ""
    days, rest = divmod(abs(total), 86400)
    hours, rest = divmod(rest, 3600)
    clock = "".join(f"{amount}{unit}" for amount, unit in ((hours, "H"), (rest // 60, "M"), (rest % 60, "S")) if amount)
    day_part = f"{days}D" if days else ""
    return f"{sign}P{day_part}{'T' + clock if clock else ''}" if day_part or clock else "PT0S"


def escape_text(text: str) -> str:
    """A TEXT value (RFC 5545 3.3.11): backslash, comma, semicolon and line breaks escaped, control characters gone."""
    if not _TO_ESCAPE.search(text) and text.isprintable():
        return text
    text = _CONTROL.sub("", text.replace("\r\n", "\n").replace("\r", "\n"))
    return text.replace("\\", "\\\\").replace(";", "\\;").replace(",", "\\,").replace("\n", "\\n")


@lru_cache(maxsize=64)
def _utc(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y%m%dT%H%M%SZ}"


def to_ical_moment(value: datetime | date) -> tuple[str, str]:
    """Parameters and value of a DATE or DATE-TIME: local with TZID where the zone has a name, else UTC."""
    if not isinstance(value, datetime):
        return ";VALUE=DATE", f"{value:%Y%m%d}" if value.year > 999 else value.isoformat().replace("-", "")
    zone = _zone_name(value)
    if zone:
        return f";TZID={zone}", value.isoformat("T", "seconds")[:19].replace("-", "").replace(":", "")
    return "", value.astimezone(UTC).strftime("%Y%m%dT%H%M%SZ")


def _zone_name(value: datetime) -> str:
    """The zone to write, empty for UTC. The second of two equal wall times can only be told in UTC."""
    zone = value.tzinfo
    if not isinstance(zone, ZoneInfo) or zone.key in ("UTC", "Etc/UTC"):
        return ""
    return "" if value.fold and value.utcoffset() != value.replace(fold=0).utcoffset() else zone.key


def moment_line(name: str, value: datetime | date) -> str:
    """The content line of a property that holds a moment or a day."""
    parameters, text = to_ical_moment(value)
    return f"{name}{parameters}:{text}"


def _attendee_line(attendee: Attendee) -> str:
    parameters = ""
    if attendee.name:
        parameters += f';CN="{attendee.name.replace(chr(34), chr(39))}"'
    if attendee.optional:
        parameters += ";ROLE=OPT-PARTICIPANT"
    if attendee.answer:
        parameters += f";PARTSTAT={attendee.answer}"
    if attendee.answer_wanted:
        parameters += ";RSVP=TRUE"
    return f"ATTENDEE{parameters}:mailto:{attendee.address}"
