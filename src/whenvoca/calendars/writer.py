"""iCalendar out (RFC 5545, RFC 7986): a plain writer of the common lines.

A plain one because 10,000 events take the iCalendar library seconds; that library is its oracle in the tests.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import UTC, date, datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import COMMENT, Attendee, Event
from whenvoca.calendars.task import PROPERTIES as TASK_PROPERTIES
from whenvoca.calendars.task import Task
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.values.durations import Duration
from whenvoca.values.file_zones import FileZone
from whenvoca.values.zones import told_apart

ORIGIN = "X-WHENVOCA-ORIGIN"
PERSON = "X-WHENVOCA-PERSON"  # a parameter: by which name of [people] a task's attendee is known
_BUSY = "X-WHENVOCA-BUSY"
PRODUCT = "PRODID:-//Whenvoca//Whenvoca//EN"
_TO_ESCAPE = re.compile(r"[\\;,\n\r]")
_PLAIN_PARAMETER = re.compile(r"[\w/+.-]+")
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]")

_OF_TASKS = ("due", "section", "person", "finished", "source")
# Which properties each field of the language is written as; what is not listed is never touched in a change.
PROPERTIES = {
    "title": ("SUMMARY",),
    "start": ("DTSTART",),
    "end": ("DTEND", "DURATION"),
    "location": ("LOCATION",),
    "details": ("DESCRIPTION",),
    "attendees": ("ATTENDEE",),
    "optional": ("ATTENDEE",),
    "answers": ("ATTENDEE",),
    "repeat": ("RRULE",),
    "busy": ("TRANSP", "STATUS", _BUSY),
    "priority": ("PRIORITY",),
    "colour": ("COLOR",),
    "category": ("CATEGORIES",),
    "private": ("CLASS",),
    "meeting-link": ("CONFERENCE",),
}


def write_calendar(event: Event, stamp: datetime) -> bytes:
    """A whole iCalendar object with that one event and its zones. ``stamp`` is the DTSTAMP."""
    return _head(tuple(zones_of(event))) + join_lines([*event_lines(event, stamp), "END:VCALENDAR"])


@lru_cache(maxsize=256)
def _head(zones: tuple[tuple[ZoneInfo | FileZone, int], ...]) -> bytes:
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", PRODUCT]
    for zone, year in zones:
        lines += vtimezone_lines(zone, year)
    return join_lines(lines)


def empty_calendar(zone: ZoneInfo | None = None) -> bytes:
    """An iCalendar object that holds nothing yet; ``zone`` is meant in it where a time carries none."""
    meant = [f"X-WR-TIMEZONE:{zone.key}"] if zone else []
    return join_lines(["BEGIN:VCALENDAR", "VERSION:2.0", PRODUCT, *meant, "END:VCALENDAR"])


def join_lines(lines: list[str]) -> bytes:
    """Content lines folded at 75 octets (RFC 5545 3.1), with their line ends."""
    if not lines:
        return b""
    return (
        "\r\n".join([line if len(line) <= 75 and line.isascii() else fold_line(line) for line in lines]) + "\r\n"
    ).encode()


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


def zones_of(event: Event) -> list[tuple[ZoneInfo | FileZone, int]]:
    """The zones that the event's lines name, each with the first year it is needed for."""
    found: dict[ZoneInfo | FileZone, int] = {}
    periods = (start for start, _ in event.periods)
    for value in (event.start, event.end, event.occurrence, *event.excluded, *event.added, *periods):
        if isinstance(value, datetime) and (zone := _zone_of(value)) and value.year < found.get(zone, 10_000):
            found[zone] = value.year
    return sorted(found.items(), key=lambda each: each[0].key)


def event_lines(event: Event, stamp: datetime) -> list[str]:
    """The VEVENT of an event, the VTODO of a task."""
    if isinstance(event, Task):
        return _task_lines(event, stamp)
    lines = ["BEGIN:VEVENT", f"UID:{event.uid}", f"DTSTAMP:{_utc(stamp)}"]
    if event.occurrence is not None:
        lines.append(moment_line("RECURRENCE-ID", event.occurrence))
    for write in _FIELDS.values():
        lines += write(event)
    if event.excluded or event.is_series:
        lines += [moment_line("EXDATE", value) for value in event.excluded]
        lines += added_lines(event)
    if event.organizer:
        lines.append(f"ORGANIZER:mailto:{event.organizer}")
    if event.url:
        lines.append(f"URL:{event.url}")
    if event.sequence:
        lines.append(f"SEQUENCE:{event.sequence}")
    if event.origin:
        lines.append(f"{ORIGIN}:{escape_text(event.origin)}")
    lines += event.extra
    for span in event.alarms:
        lines += alarm_lines(span, event.title)
    lines.append("END:VEVENT")
    return lines


def added_lines(event: Event) -> list[str]:
    """The RDATE lines of a series: its dates, and its periods."""
    lines = [moment_line("RDATE", value) for value in event.added]
    for start, end in event.periods:
        zone, begin = to_ical_moment(start)
        last = to_ical_moment(end.astimezone(start.tzinfo))[1]
        lines.append(f"RDATE;VALUE=PERIOD{zone}:{begin}/{last}")
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
            if task.person_mail and task.person_mail != task.person:
                name = _quoted(task.person)
                return [f"ATTENDEE;CN={name};{PERSON}={name}:mailto:{task.person_mail}"]
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


# The content lines of each field of an event, in the order they are written; none where it is empty.
_FIELDS: dict[str, Callable[[Event], Sequence[str]]] = {
    "title": lambda e: (f"SUMMARY:{escape_text(e.title)}",) if e.title else (),
    "start": lambda e: (moment_line("DTSTART", e.start),) if e.start is not None else (),
    "end": lambda e: (moment_line("DTEND", e.end),),
    "repeat": lambda e: (f"RRULE:{e.rule}",) if e.rule else (),
    "location": lambda e: (f"LOCATION:{escape_text(e.location)}",) if e.location else (),
    "details": lambda e: (f"DESCRIPTION:{escape_text(e.details)}",) if e.details else (),
    "attendees": lambda e: [_attendee_line(each) for each in e.attendees] if e.attendees else (),
    "busy": lambda e: _busy_lines(e),
    "priority": lambda e: (f"PRIORITY:{e.priority}",) if e.priority else (),
    "colour": lambda e: (f"COLOR:{e.colour}",) if e.colour else (),
    "category": lambda e: ("CATEGORIES:" + ",".join(map(escape_text, e.categories)),) if e.categories else (),
    "private": lambda e: ("CLASS:PRIVATE",) if e.private else (),
    "meeting-link": lambda e: (f"CONFERENCE;VALUE=URI;FEATURE=VIDEO:{e.meeting_link}",) if e.meeting_link else (),
}


def field_lines(name: str, event: Event) -> Sequence[str]:
    """The content lines of one field of the language; none where the field is empty."""
    if isinstance(event, Task) and name in _OF_TASKS:
        return _task_field_lines(name, event)
    return _FIELDS["attendees" if name in ("optional", "answers") else name](event)


def _busy_lines(event: Event) -> Sequence[str]:
    shown = "TRANSP:TRANSPARENT" if event.busy == "no" else "TRANSP:OPAQUE"
    if event.cancelled:
        return shown, "STATUS:CANCELLED"
    if event.busy == "tentative":
        return shown, "STATUS:TENTATIVE"
    return (shown, f"{_BUSY}:unavailable") if event.busy == "unavailable" else (shown,)


def alarm_lines(span: Duration, title: str) -> list[str]:
    """A VALARM that shows the title (RFC 5545 3.6.6)."""
    return [
        "BEGIN:VALARM",
        "ACTION:DISPLAY",
        f"TRIGGER:{to_ical_duration(span)}",
        f"DESCRIPTION:{escape_text(title) or 'Reminder'}",
        "END:VALARM",
    ]


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


def carried(text: str) -> str:
    """The text as iCalendar carries it (RFC 5545 3.3.11) and reads it back: one kind of line end, no controls."""
    return text if text.isprintable() else _CONTROL.sub("", text.replace("\r\n", "\n").replace("\r", "\n"))


def escape_text(text: str) -> str:
    """A TEXT value (RFC 5545 3.3.11): backslash, comma, semicolon and line breaks escaped, control characters gone."""
    if not _TO_ESCAPE.search(text) and text.isprintable():
        return text
    text = carried(text)
    return text.replace("\\", "\\\\").replace(";", "\\;").replace(",", "\\,").replace("\n", "\\n")


@lru_cache(maxsize=64)
def _utc(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y%m%dT%H%M%SZ}"


def to_ical_moment(value: datetime | date) -> tuple[str, str]:
    """Parameters and value of a DATE or DATE-TIME: local with TZID where the zone has a name, else UTC."""
    if not isinstance(value, datetime):
        return ";VALUE=DATE", f"{value:%Y%m%d}" if value.year > 999 else value.isoformat().replace("-", "")
    zone = _zone_of(value)
    if zone is not None:
        day = f"{value.year:04}{value.month:02}{value.day:02}"
        name = zone.key if _PLAIN_PARAMETER.fullmatch(zone.key) else _quoted(zone.key)
        return f";TZID={name}", f"{day}T{value.hour:02}{value.minute:02}{value.second:02}"
    return "", value.astimezone(UTC).strftime("%Y%m%dT%H%M%SZ")


def _zone_of(value: datetime) -> ZoneInfo | FileZone | None:
    """The zone to write, None for UTC."""
    zone = value.tzinfo
    if not isinstance(zone, ZoneInfo | FileZone) or zone.key in ("UTC", "Etc/UTC"):
        return None
    return zone if told_apart(value) is value else None


def moment_line(name: str, value: datetime | date) -> str:
    """The content line of a property that holds a moment or a day."""
    parameters, text = to_ical_moment(value)
    return f"{name}{parameters}:{text}"


def _quoted(value: str) -> str:
    """The value of a parameter in quotes, which none can stand in (RFC 5545 3.1)."""
    return f'"{value.replace(chr(34), chr(39))}"'


def _attendee_line(attendee: Attendee) -> str:
    parameters = ""
    if attendee.name:
        parameters += f";CN={_quoted(attendee.name)}"
    if attendee.optional:
        parameters += ";ROLE=OPT-PARTICIPANT"
    if attendee.answer:
        parameters += f";PARTSTAT={attendee.answer}"
    if attendee.answer_wanted:
        parameters += ";RSVP=TRUE"
    if attendee.comment:
        parameters += f";{COMMENT}={_quoted(attendee.comment)}"
    return f"ATTENDEE{parameters}:mailto:{attendee.address}"
