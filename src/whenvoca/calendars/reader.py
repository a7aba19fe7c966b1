"""iCalendar in: common lines by our own reader, all else by the iCalendar library, which knows RFC 5545 whole."""

from __future__ import annotations

import re
import warnings
from collections import Counter
from collections.abc import Set
from datetime import date, datetime, timedelta
from functools import lru_cache
from typing import Any, Literal
from zoneinfo import ZoneInfo

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.by_library import to_event, to_task
from whenvoca.calendars.components import (
    by_name,
    content_lines,
    list_components,
    unescape_text,
    unfolded,
    without_leap_second,
)
from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import book_of
from whenvoca.calendars.plain_reader import read_plain, read_plain_event
from whenvoca.calendars.valid import refuse_unusable_event
from whenvoca.calendars.zone_book import meant_by
from whenvoca.errors import SourceFault, WhenvocaError

Noun = Literal["event", "task"]
_LONG_ZONE = re.compile(rb';TZID="?([^":;\r\n]{60})[^":;]{200}', re.IGNORECASE)
_MOMENTS = re.compile(
    rb"^(?:DTSTART|DTEND|DUE|COMPLETED|RECURRENCE-ID|EXDATE|RDATE|RRULE)[;:].*(?:\r?\n[ \t].*)*",
    re.MULTILINE | re.IGNORECASE,
)
_HOURS = re.compile(rb"[:/][+-]?PT", re.IGNORECASE)
_SMALL = 10_000  # bytes: what holds no more than an event or two is read several times while it is changed
_read_again = lru_cache(maxsize=64)(read_plain)
_DATES = re.compile(rb"^(DTSTART|DTEND|DURATION|RRULE|RDATE)[;:]([^\r\n]*)", re.MULTILINE)
_DAY = re.compile(rb"(\d{4})(\d{2})(\d{2})(?:T\d{6}Z?)?\s*\Z")


class UnreadEvent(Struct, frozen=True):
    """An event or task that cannot be used: which one, on which line of its file it begins, and why."""

    uid: str
    title: str
    line: int
    why: str

    def said(self, file: str) -> str:
        """The same in a sentence that names the file."""
        named = f'"{self.title}"' if self.title else "the event without a title"
        return f"{file}, line {self.line}: {named} cannot be used: {self.why}"


class Reading(Struct, frozen=True):
    """What an iCalendar object holds: what can be used, and what cannot; ``twins`` are UIDs that several have."""

    events: list[Event]
    unread: list[UnreadEvent] = []
    twins: Set[str] = frozenset()


def read_events(data: bytes, zone: ZoneInfo, *, file: str = "", noun: Noun = "event") -> list[Event]:
    """The events, or tasks, of an iCalendar object that can be used. ``zone`` is meant where a time carries none.

    Raises SourceFault if the text is no iCalendar object or is cut in the middle.
    """
    return read_calendar(data, zone, file=file, noun=noun).events


def read_calendar(data: bytes, zone: ZoneInfo, *, file: str = "", noun: Noun = "event") -> Reading:
    """The same with what cannot be used: one bad event hides no other. Raises SourceFault."""
    refuse_cut(data, file)
    zone = meant_by(data) or zone
    read = _read_again if len(data) < _SMALL else read_plain
    if noun == "event" and (plain := read(data, zone)) is not None and all(_is_usable(each) for each in plain):
        return _without_cancelled(_told_apart(_days_of_series(Reading(list(plain)))))
    reading = _told_apart(_days_of_series(read_one_by_one(data, zone, noun=noun)))
    return reading if noun == "task" else _without_cancelled(reading)


def _told_apart(reading: Reading) -> Reading:
    """Of several versions of one event the newest, by its SEQUENCE; what is not told apart by that is noted."""
    versions: dict[tuple[str, datetime | date | None], list[Event]] = {}
    for event in reading.events:
        versions.setdefault((event.uid, event.occurrence), []).append(event)
    if len(versions) == len(reading.events):
        return reading
    newest = {key: max(event.sequence for event in events) for key, events in versions.items()}
    kept = [event for event in reading.events if event.sequence == newest[event.uid, event.occurrence]]
    count = Counter((event.uid, event.occurrence) for event in kept)
    return Reading(kept, reading.unread, {uid for (uid, _), number in count.items() if number > 1})


def _days_of_series(reading: Reading) -> Reading:
    """A changed occurrence of a series of whole days is known by its day, also where a program wrote a time there."""
    days = {event.uid for event in reading.events if event.occurrence is None and event.is_whole_day}
    events = [
        replace(event, occurrence=event.occurrence.date())
        if isinstance(event.occurrence, datetime) and event.uid in days
        else event
        for event in reading.events
    ]
    return Reading(_with_later(events), reading.unread, reading.twins)


def _with_later(events: list[Event]) -> list[Event]:
    """Each series with those of its changed occurrences that hold for all after them (RFC 5545 3.2.13)."""
    later: dict[str, list[Event]] = {}
    for event in events:
        if event.and_later and event.occurrence is not None:
            later.setdefault(event.uid, []).append(event)
    if not later:
        return events
    in_order = {uid: tuple(sorted(found, key=lambda each: f"{each.occurrence}")) for uid, found in later.items()}
    return [
        replace(event, later=in_order[event.uid]) if event.occurrence is None and event.uid in in_order else event
        for event in events
    ]


def _without_cancelled(reading: Reading) -> Reading:
    """A cancelled event is none (RFC 5545 3.8.1.11); a cancelled occurrence is one that its series does not give."""
    if not any(event.cancelled for event in reading.events):
        return reading
    out: dict[str, list[datetime | date]] = {}
    for event in reading.events:
        if event.cancelled and event.occurrence is not None:
            out.setdefault(event.uid, []).append(event.occurrence)
    return Reading(
        [
            replace(event, excluded=(*event.excluded, *out[event.uid]))
            if event.uid in out and event.occurrence is None
            else event
            for event in reading.events
            if not event.cancelled
        ],
        reading.unread,
        reading.twins,
    )


def read_one_by_one(data: bytes, zone: ZoneInfo, *, noun: Noun = "event", by_library: bool = False) -> Reading:
    """Each component by itself, by the iCalendar library where it holds anything but common lines, or always."""
    from icalendar import Component

    # it guesses at odd zones, which we know or refuse
    warnings.filterwarnings("ignore", module=r"icalendar\.")
    book = book_of(data, zone)
    reading = Reading([], [])
    for each in list_components(data):
        if each.name != ("VTODO" if noun == "task" else "VEVENT"):
            continue
        text = data[each.begin : each.end]
        try:
            text = _in_utf_8(text)
            text = _MOMENTS.sub(lambda line: without_leap_second(line[0]), text)
            _refuse_long_zone(text)
            if noun == "event" and not by_library and (plain := read_plain_event(text, book)) is not None:
                refuse_unusable_event(plain)
                reading.events.append(plain if plain.uid == each.uid else replace(plain, uid=each.uid))
                continue
            component = _first(Component.from_ical(text))
            event: Event = (
                to_task(component, book)
                if noun == "task"
                else to_event(component, book, counts_hours=_counts_hours(text))
            )
            refuse_unusable_event(event)
            reading.events.append(event if event.uid == each.uid else replace(event, uid=each.uid))
        except (
            WhenvocaError,
            ValueError,
            KeyError,
            IndexError,
            TypeError,
            AttributeError,
            OverflowError,
            OSError,
        ) as error:
            line = data.count(b"\n", 0, each.begin) + 1
            why = error.message if isinstance(error, WhenvocaError) else _in_words(error, text)
            reading.unread.append(UnreadEvent(each.uid, _title_in(text), line, why))
    return reading


def _counts_hours(text: bytes) -> set[str]:
    """Of DURATION and RDATE those whose spans are hours, however many."""
    if not _HOURS.search(text):
        return set()
    lines = by_name(unfolded(text))
    return {name for name in ("DURATION", "RDATE") for line in lines.get(name, []) if _HOURS.search(line.encode())}


def _in_utf_8(text: bytes) -> bytes:
    """The text, unfolded where a fold cuts a sign in two.

    Raises SourceFault where it is not UTF-8 (RFC 5545 3.1.4): what is not understood must not be written back.
    """
    try:
        text.decode()
    except UnicodeDecodeError:
        lines = [line for _, _, line in content_lines(text)]
        for line in lines:
            try:
                line.decode()
            except UnicodeDecodeError as error:
                said = line.decode("cp1252", "replace")[:60]
                raise SourceFault(f'"{said}" is not written in UTF-8', fix="save the file in UTF-8") from error
        return b"\r\n".join([*lines, b""])
    return text


def _refuse_long_zone(text: bytes) -> None:
    """Raises SourceFault for a name of a zone that no system can look for."""
    if found := _LONG_ZONE.search(text):
        raise SourceFault(f'there is no time zone "{found[1].decode("utf-8", "replace")}…"')


def _first(component: Any) -> Any:
    return component[0] if isinstance(component, list) else component


def _title_in(text: bytes) -> str:
    lines = (line for line in unfolded(text) if line[:7].upper() == "SUMMARY")
    return unescape_text(next(lines, "").partition(":")[2])[:80]


def _in_words(error: Exception, text: bytes) -> str:
    """What the library cannot read: the line that it fails on, as far as one by one tells."""
    from icalendar import Component

    head, tail = text.split(b"\n", 1)[0], text.rstrip().rsplit(b"\n", 1)[-1]
    for line in unfolded(text)[1:-1]:
        if line[:6].upper() in ("BEGIN:", "END:VA"):
            break
        try:
            found = _first(Component.from_ical(b"\n".join([head.strip(), line.encode(), tail, b""])))
            for value in found.values():
                for one in value if isinstance(value, list) else [value]:
                    one.to_ical()
                    getattr(one, "dt", None)
        except (ValueError, KeyError, IndexError, TypeError, AttributeError, OverflowError):
            return f"{line[:60]} cannot be read"
    return "a line of it cannot be read"


def _is_usable(event: Event) -> bool:
    try:
        refuse_unusable_event(event)
    except WhenvocaError:
        return False
    return True


def refuse_cut(data: bytes, file: str) -> None:
    """Raises SourceFault unless the text begins and ends as an iCalendar object does. Words behind its end do no harm;
    an object that begins there does, unless it ends too."""
    stripped = data.strip().removeprefix(b"\xef\xbb\xbf")
    if not stripped.upper().startswith(b"BEGIN:VCALENDAR"):
        raise SourceFault("is no iCalendar file: it does not begin with BEGIN:VCALENDAR", where=file)
    _, end, rest = stripped.upper().rpartition(b"END:VCALENDAR")
    if not end or b"BEGIN:" in rest:
        raise SourceFault(
            "is cut in the middle: END:VCALENDAR is missing", where=file, fix="restore it from a backup or take it away"
        )


def may_touch(data: bytes, low: date, high: date) -> bool:
    """Whether an object's events could lie between two days: a look at its lines, without parsing it.

    It errs on the side of yes: whatever repeats, or is not understood at once, could.
    """
    starts: list[tuple[int, int, int]] = []
    ends: list[tuple[int, int, int]] = []
    body = data[data.find(b"BEGIN:VEVENT") :]
    for name, value in _DATES.findall(body):
        if name in (b"RRULE", b"RDATE", b"DURATION"):
            return True
        found = _DAY.search(value)
        if not found:
            return True
        day = (int(found[1]), int(found[2]), int(found[3]))
        (starts if name == b"DTSTART" else ends).append(day)
    if not starts:
        return True
    early, late = low - timedelta(days=2), high + timedelta(days=2)
    last = max(starts + ends)
    return min(starts) <= (late.year, late.month, late.day) and last >= (early.year, early.month, early.day)
