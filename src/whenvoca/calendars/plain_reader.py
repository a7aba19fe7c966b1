"""iCalendar in, the common lines only (RFC 5545): a twentieth of the time that the iCalendar library takes.

Whatever is not understood at once, down to a parameter, is left to the library, which is also the oracle of the tests.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, timedelta
from itertools import takewhile
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.components import unescape_text
from whenvoca.calendars.event import COMMENT, Attendee, Busy, Event
from whenvoca.calendars.zone_book import ZoneBook, definition_of
from whenvoca.errors import WhenvocaError
from whenvoca.values.durations import Duration

_FOLD = re.compile(r"\r?\n[ \t]")
_LINE = re.compile(r'([A-Z][A-Z0-9-]*)((?:;[A-Z-]+=(?:"[^"^]*"|[^";:,^]*))*):(.*)', re.DOTALL)
_PARAMETER = re.compile(r';([A-Z-]+)=(?:"([^"]*)"|([^;]*))')
_DAY = re.compile(r"(\d{4})(\d\d)(\d\d)\Z", re.ASCII)
_MOMENT = re.compile(r"(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)(Z?)\Z", re.ASCII)
_SPAN = re.compile(r"([+-]?)P(?:(\d+)W|(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?)\Z", re.ASCII)
_ZONE = re.compile(r"[A-Z][A-Za-z_]+(?:/[A-Za-z_+-]+)+\Z")
_NUMBER = re.compile(r"\d{1,6}\Z", re.ASCII)
# in the order
_RULE_PARTS = ("FREQ", "UNTIL", "COUNT", "INTERVAL", "BYDAY", "BYMONTHDAY", "BYMONTH", "BYSETPOS", "WKST")
_RULE_PART = re.compile(
    r"(?:FREQ=(?:DAILY|WEEKLY|MONTHLY|YEARLY)|UNTIL=\d{8}(?:T\d{6}Z)?|(?:COUNT|INTERVAL)=[1-9]\d*|WKST=[A-Z]{2}"
    r"|BYDAY=(?:-?[1-9]\d?)?[A-Z]{2}(?:,(?:-?[1-9]\d?)?[A-Z]{2})*|BY(?:MONTHDAY|MONTH|SETPOS)=-?[1-9]\d*(?:,-?[1-9]\d*)*)\Z",
    re.ASCII,
)
_SEVERAL = ("ATTENDEE", "CATEGORIES", "EXDATE", "RDATE")
_TEXTS = {
    "UID": "uid",
    "SUMMARY": "title",
    "LOCATION": "location",
    "DESCRIPTION": "details",
    "COLOR": "colour",
    "X-WHENVOCA-ORIGIN": "origin",
}
_UPPER = ("CLASS", "STATUS", "TRANSP")


class _Strange(Exception):
    """A line that the library has to read."""


def read_plain(data: bytes, zone: ZoneInfo) -> list[Event] | None:
    """The events of an iCalendar object that holds nothing but common lines, None for any other. ``zone`` is meant
    where a time carries none."""
    try:
        lines = iter(_FOLD.sub("", data.decode()).replace("\r", "").strip("\n").split("\n"))
        if next(lines) != "BEGIN:VCALENDAR":
            return None
        return list(_events(lines, zone))
    except (_Strange, StopIteration, ValueError, OverflowError, WhenvocaError):
        return None


def read_plain_event(text: bytes, book: ZoneBook) -> Event | None:
    """The event of a VEVENT that holds nothing but common lines, None for any other."""
    try:
        lines = iter(_FOLD.sub("", text.decode()).replace("\r", "").strip("\n").split("\n"))
        event = _event(lines, book) if next(lines) == "BEGIN:VEVENT" else None
        return event if next(lines, None) is None else None
    except (_Strange, StopIteration, ValueError, OverflowError, WhenvocaError):
        return None


def _events(lines: Iterator[str], zone: ZoneInfo) -> Iterator[Event]:
    definitions: dict[str, str] = {}
    book, is_begun = ZoneBook(zone, definitions), False
    for line in lines:
        if line == "BEGIN:VEVENT":
            is_begun = True
            yield _event(lines, book)
        elif line == "BEGIN:VTIMEZONE":
            if is_begun:  # an event before it may have named it
                raise _Strange
            name, text = definition_of([line, *takewhile(lambda each: each != "END:VTIMEZONE", lines), "END:VTIMEZONE"])
            definitions[name] = text
        elif line == "END:VCALENDAR":
            if next(lines, None) is not None:
                raise _Strange
            return
        elif not _LINE.fullmatch(line) or line.startswith(("BEGIN:", "END:")):
            raise _Strange
    raise _Strange


def _event(lines: Iterator[str], book: ZoneBook) -> Event:
    given: dict[str, Any] = {}
    said: dict[str, str] = {}
    alarms: list[Duration] = []
    length: Duration | None = None
    for line in lines:
        if line == "END:VEVENT":
            break
        if line == "BEGIN:VALARM":
            alarms += _alarm(lines)
            continue
        name, parameters, value = _pieces(line)
        if name in _TEXTS:
            if "VALUE=" in parameters or "ENCODING=" in parameters or _TEXTS[name] in given:
                raise _Strange
            given[_TEXTS[name]] = unescape_text(value) if "\\" in value else value
        elif name in _UPPER or name == "X-WHENVOCA-BUSY":
            if parameters or name in said:
                raise _Strange
            said[name] = value.upper()
        elif name in _READERS:
            field, read = _READERS[name]
            found = read(parameters, value, book)
            if name in _SEVERAL:
                given[field] = given.get(field, ()) + found
            elif field in given:
                raise _Strange
            else:
                given[field] = found
        elif name == "DURATION":
            length = _length(value) if not parameters and length is None else _strange()
        elif name in ("BEGIN", "END", "EXRULE"):
            raise _Strange
    else:
        raise _Strange
    start = given["start"] if "start" in given and given.get("uid") else _strange()
    own = start.tzinfo if isinstance(start, datetime) else book.default
    if own is not book.default and any(
        getattr(each, "tzinfo", own) is book.default for name in ("excluded", "added") for each in given.get(name, ())
    ):
        raise _Strange  # a moment without a zone is on the clock of the event
    if isinstance(start, datetime) and start.tzinfo is book.default:
        clock = start.timetz().replace(tzinfo=UTC)
        if any(isinstance(each, datetime) and each.timetz() == clock for each in given.get("excluded", ())):
            raise _Strange  # the same time of day in UTC: the clock of the event may be meant
    if length is not None:
        given["end"] = _end_after(start, length) if "end" not in given else _strange()
    given.setdefault("end", start if isinstance(start, datetime) else start + timedelta(days=1))
    return Event(
        **given,
        alarms=tuple(alarms),
        busy=_busy(said),
        private=said.get("CLASS") in ("PRIVATE", "CONFIDENTIAL"),
        cancelled=said.get("STATUS") == "CANCELLED",
    )


def _length(value: str) -> Duration:
    """A DURATION of days, or of hours and less (RFC 5545 3.3.6)."""
    span = _SPAN.match(value)
    if span is None or span[1] == "-" or value[-1] in "PT":
        raise _Strange
    weeks, days, hours, minutes, seconds = (int(each or 0) for each in span.groups()[1:])
    clock = hours * 3600 + minutes * 60 + seconds
    if "T" in value and (weeks or days):
        raise _Strange
    return Duration(days=weeks * 7 + days, seconds=clock)


def _end_after(start: datetime | date, length: Duration) -> datetime | date:
    """Days on the calendar, then the clock exactly."""
    last = start + timedelta(days=length.days)
    if not isinstance(last, datetime):
        return last if not length.seconds else _strange()
    if not length.seconds:
        return last
    return (last.astimezone(UTC) + timedelta(seconds=length.seconds)).astimezone(last.tzinfo)


def _strange() -> Any:
    raise _Strange


def _pieces(line: str) -> tuple[str, str, str]:
    """Name, parameters as they are written, and value of a content line (RFC 5545 3.1)."""
    head, colon, value = line.partition(":")
    if colon and head.replace("-", "").isalnum() and head.isupper():
        return head, "", value
    found = _LINE.fullmatch(line)
    if found is None:
        raise _Strange
    return found[1], found[2], found[3]


def _alarm(lines: Iterator[str]) -> list[Duration]:
    """The span of a VALARM before or after the start (RFC 5545 3.8.6.3)."""
    found: list[Duration] = []
    for line in lines:
        if line == "END:VALARM":
            return found
        name, parameters, value = _pieces(line)
        if name == "TRIGGER":
            span = _SPAN.match(value)
            if parameters not in ("", ";RELATED=START") or found or span is None or value[-1] in "PT":
                raise _Strange
            sign = -1 if span[1] == "-" else 1
            weeks, days, hours, minutes, seconds = (int(each or 0) for each in span.groups()[1:])
            clock = sign * (hours * 3600 + minutes * 60 + seconds)
            found.append(Duration(days=sign * (weeks * 7 + days), seconds=clock).in_days())
        elif name in ("BEGIN", "END"):
            raise _Strange
    raise _Strange


def _busy(said: dict[str, str]) -> Busy:
    if said.get("TRANSP") == "TRANSPARENT":
        return "no"
    if said.get("STATUS") == "TENTATIVE":
        return "tentative"
    return "unavailable" if said.get("X-WHENVOCA-BUSY") == "UNAVAILABLE" else "yes"


def _moment(parameters: str, value: str, book: ZoneBook) -> datetime | date:
    """A DATE or DATE-TIME (RFC 5545 3.3.4, 3.3.5)."""
    if parameters == ";VALUE=DATE":
        day = _DAY.match(value) or _strange()
        return date(int(day[1]), int(day[2]), int(day[3]))
    found = _MOMENT.match(value) or _strange()
    wall = datetime(int(found[1]), int(found[2]), int(found[3]), int(found[4]), int(found[5]), int(found[6]))
    if not parameters:
        return wall.replace(tzinfo=UTC if found[7] else book.default)
    if found[7] or not parameters.startswith(";TZID="):
        raise _Strange
    name = parameters[6:]
    if not _ZONE.match(name) or name.startswith("Etc/"):
        raise _Strange
    return wall.replace(tzinfo=book.zone(name, wall.year))


def _moments(parameters: str, value: str, book: ZoneBook) -> tuple[datetime | date, ...]:
    return tuple(_moment(parameters, each, book) for each in value.split(","))


def _rule(parameters: str, value: str, book: ZoneBook) -> str:
    """An RRULE as it stands, where it is written as the library writes it."""
    parts = value.split(";")
    order = [
        _RULE_PARTS.index(name) if (name := part.partition("=")[0]) in _RULE_PARTS else _strange() for part in parts
    ]
    if parameters or not all(map(_RULE_PART.match, parts)) or order != sorted(set(order)):
        raise _Strange
    return value


def _number(parameters: str, value: str, book: ZoneBook) -> int:
    return int(value) if not parameters and _NUMBER.match(value) else _strange()


def _address(value: str) -> str:
    if "\\" in value:
        raise _Strange
    return value[7:] if value[:7].lower() == "mailto:" else value


def _organizer(parameters: str, value: str, book: ZoneBook) -> str:
    return _address(value)


def _attendee(parameters: str, value: str, book: ZoneBook) -> tuple[Attendee, ...]:
    found = {name: quoted or bare for name, quoted, bare in _PARAMETER.findall(parameters)}
    return (
        Attendee(
            address=_address(value),
            optional=found.get("ROLE", "").upper() == "OPT-PARTICIPANT",
            answer=found.get("PARTSTAT", "").upper(),
            answer_wanted=found.get("RSVP", "").upper() == "TRUE",
            name=found.get("CN", ""),
            comment=found.get(COMMENT, ""),
        ),
    )


def _categories(parameters: str, value: str, book: ZoneBook) -> tuple[str, ...]:
    if parameters or "\\" in value:
        raise _Strange
    return tuple(value.split(","))


def _url(parameters: str, value: str, book: ZoneBook) -> str:
    return value if not parameters and "\\" not in value else _strange()


def _conference(parameters: str, value: str, book: ZoneBook) -> str:
    is_plain = parameters.upper() in (";VALUE=URI", ";VALUE=URI;FEATURE=VIDEO") and value.startswith("https://")
    return value if is_plain and "\\" not in value else _strange()


_READERS: dict[str, tuple[str, Callable[[str, str, ZoneBook], Any]]] = {
    "DTSTART": ("start", _moment),
    "DTEND": ("end", _moment),
    "RECURRENCE-ID": ("occurrence", _moment),
    "EXDATE": ("excluded", _moments),
    "RDATE": ("added", _moments),
    "RRULE": ("rule", _rule),
    "ATTENDEE": ("attendees", _attendee),
    "ORGANIZER": ("organizer", _organizer),
    "CATEGORIES": ("categories", _categories),
    "PRIORITY": ("priority", _number),
    "SEQUENCE": ("sequence", _number),
    "URL": ("url", _url),
    "CONFERENCE": ("meeting_link", _conference),
}
