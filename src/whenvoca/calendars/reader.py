"""iCalendar in: common lines by our own reader, all else by the iCalendar library, which knows RFC 5545 whole."""

from __future__ import annotations

import re
import warnings
from collections import Counter
from collections.abc import Set
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from typing import Any, Literal
from zoneinfo import ZoneInfo

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.components import by_name, content_lines, list_components, unescape_text, unfolded
from whenvoca.calendars.event import Attendee, Busy, Event, to_start
from whenvoca.calendars.patch import book_of
from whenvoca.calendars.plain_reader import read_plain, read_plain_event
from whenvoca.calendars.task import Task, due_after
from whenvoca.calendars.valid import refuse_unusable_event
from whenvoca.calendars.writer import ORIGIN, PERSON
from whenvoca.calendars.zone_book import ZoneBook
from whenvoca.errors import SourceFault, WhenvocaError
from whenvoca.values.durations import Duration
from whenvoca.values.usable import LAST_YEAR

Noun = Literal["event", "task"]
_LONG_ZONE = re.compile(rb';TZID="?([^":;\r\n]{60})[^":;]{200}', re.IGNORECASE)
_HOURS = re.compile(r":[+-]?PT", re.IGNORECASE)
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
    return Reading(events, reading.unread, reading.twins)


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
    book = ZoneBook(zone, book_of(data).definitions)
    reading = Reading([], [])
    for each in list_components(data):
        if each.name != ("VTODO" if noun == "task" else "VEVENT"):
            continue
        text = data[each.begin : each.end]
        try:
            text = _in_utf_8(text)
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


def _counts_hours(text: bytes) -> bool:
    lines = by_name(unfolded(text)).get("DURATION") if b"DURATION" in text.upper() else None
    return bool(lines and _HOURS.search(lines[0]))


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


def to_event(component: Any, book: ZoneBook, *, counts_hours: bool = False) -> Event:
    """The event of one VEVENT of the iCalendar library; ``counts_hours``: its DURATION names no days, which the library
    does not keep (PT24H). Raises SourceFault for what cannot be understood."""
    if not component.get("DTSTART"):
        raise SourceFault("it has no start", fix="give it one there, or take it away")
    start = _moment(component, "DTSTART", book)
    if start.year > LAST_YEAR:
        raise SourceFault(f"its start {start.isoformat()[:10]} lies outside the years that calendars can hold here")
    return Event(
        uid=_text(component, "UID"),
        title=_text(component, "SUMMARY"),
        start=start,
        end=_end_of(component, start, book, counts_hours=counts_hours),
        location=_text(component, "LOCATION"),
        details=_text(component, "DESCRIPTION"),
        attendees=tuple(_attendee(each) for each in _several(component.get("ATTENDEE"))),
        organizer=_address(_one(component, "ORGANIZER")) if "ORGANIZER" in component else "",
        alarms=_alarms(component),
        rule=_rule(component),
        excluded=_dates(component, "EXDATE", book, start),
        added=_dates(component, "RDATE", book, start),
        occurrence=_moment(component, "RECURRENCE-ID", book) if "RECURRENCE-ID" in component else None,
        busy=_busy(component),
        priority=_number(component, "PRIORITY"),
        colour=_text(component, "COLOR"),
        categories=tuple(str(each) for group in _several(component.get("CATEGORIES")) for each in group.cats),
        private=_text(component, "CLASS").upper() in ("PRIVATE", "CONFIDENTIAL"),
        url=_text(component, "URL"),
        origin=_text(component, ORIGIN),
        sequence=_number(component, "SEQUENCE"),
        cancelled=_text(component, "STATUS").upper() == "CANCELLED",
    )


def _one(component: Any, name: str) -> Any:
    """The property; of several the first, which other programs take too."""
    return _several(component[name])[0]


def _text(component: Any, name: str) -> str:
    return str(_one(component, name)) if name in component else ""


def _number(component: Any, name: str) -> int:
    """A whole number; 0 for what is none."""
    try:
        return int(_text(component, name) or 0)
    except ValueError:
        return 0


def _rule(component: Any) -> str:
    rules = _several(component.get("RRULE"))
    if len(rules) > 1:
        raise SourceFault("it has several rules of repetition (RRULE), which are not followed")
    if component.get("EXRULE"):
        raise SourceFault("it has a rule of exceptions (EXRULE), which is not followed")
    return rules[0].to_ical().decode() if rules else ""


def _alarms(component: Any) -> tuple[Duration, ...]:
    return tuple(span for alarm in component.walk("VALARM") if (span := _alarm(alarm)) is not None)


def to_task(component: Any, book: ZoneBook) -> Task:
    """The task of one VTODO of the iCalendar library."""
    from urllib.parse import unquote

    start = _moment(component, "DTSTART", book) if "DTSTART" in component else None
    due = _moment(component, "DUE", book) if "DUE" in component else None
    if due is None and start is not None and "DURATION" in component:
        due = due_after(start, _one(component, "DURATION").dt)
    finished = _moment(component, "COMPLETED", book) if "COMPLETED" in component else None
    if finished is None and str(component.get("STATUS", "")).upper() == "COMPLETED":
        changed = next((name for name in ("LAST-MODIFIED", "DTSTAMP") if component.get(name)), "")
        finished = _moment(component, changed, book) if changed else datetime(1970, 1, 1, tzinfo=UTC)
    categories = [str(each) for group in _several(component.get("CATEGORIES")) for each in group.cats]
    people = _several(component.get("ATTENDEE"))
    mail, name = (_address(people[0]), str(people[0].params.get(PERSON, ""))) if people else ("", "")
    related = _several(component.get("RELATED-TO"))
    return Task(
        uid=_text(component, "UID"),
        title=_text(component, "SUMMARY"),
        start=start,
        end=due,
        section=categories[0] if categories else "",
        person=name or unquote(mail.removeprefix("urn:whenvoca:person:")),
        person_mail=mail if name or "@" in mail else "",
        details=_text(component, "DESCRIPTION"),
        priority=_number(component, "PRIORITY"),
        alarms=_alarms(component),
        finished=finished if isinstance(finished, datetime) or finished is None else to_start(finished, book.default),
        source=str(related[0]) if related else "",
        origin=_text(component, ORIGIN),
        sequence=_number(component, "SEQUENCE"),
        cancelled=_text(component, "STATUS").upper() == "CANCELLED",
    )


def _end_of(component: Any, start: datetime | date, book: ZoneBook, *, counts_hours: bool) -> datetime | date:
    """DTEND, or DURATION behind the start; days of it are on the calendar, its clock is exact (RFC 5545 3.3.6)."""
    if "DTEND" in component:
        return _moment(component, "DTEND", book)
    if "DURATION" not in component:
        return start if isinstance(start, datetime) else start + timedelta(days=1)
    span = _one(component, "DURATION").dt
    if not isinstance(start, datetime):
        return start + span  # type: ignore[no-any-return]
    days = timedelta() if counts_hours else timedelta(days=span.days)
    wall: datetime = start + days
    clock: timedelta = span - days
    return (wall.astimezone(UTC) + clock).astimezone(start.tzinfo)


def _moment(component: Any, name: str, book: ZoneBook) -> datetime | date:
    """A DATE or DATE-TIME in its zone, as the file or the system knows that."""
    value = _one(component, name)
    return _in_zone(value.dt, str(value.params.get("TZID", "")), book, name)


def _in_zone(moment: Any, name: str, book: ZoneBook, line: str) -> datetime | date:
    if isinstance(moment, tuple):
        moment = moment[0]  # a period counts with its start
    if not isinstance(moment, date):
        raise SourceFault(f"its {line} {moment} is not a date")
    if not isinstance(moment, datetime):
        return moment
    if moment.tzinfo is not None and moment.tzname() == "UTC" and not name:
        return moment.replace(tzinfo=UTC)
    return moment.replace(tzinfo=book.zone(name, moment.year) if name else book.default)


def _several(value: Any) -> list[Any]:
    return [] if value is None else value if isinstance(value, list) else [value]


def _dates(component: Any, name: str, book: ZoneBook, start: datetime | date) -> tuple[datetime | date, ...]:
    """The moments of such lines; those without a zone are on the clock of the event."""
    own: Any = start.tzinfo if isinstance(start, datetime) else None
    on_its_clock = book if own is None else ZoneBook(own, book.definitions)
    return tuple(
        _in_zone(each.dt, str(group.params.get("TZID", "")), on_its_clock, name)
        for group in _several(component.get(name))
        for each in group.dts
    )


def _address(value: Any) -> str:
    text = str(value)
    return text[7:] if text.lower().startswith("mailto:") else text


def _attendee(value: Any) -> Attendee:
    parameters = value.params
    return Attendee(
        address=_address(value),
        optional=str(parameters.get("ROLE", "")).upper() == "OPT-PARTICIPANT",
        answer=str(parameters.get("PARTSTAT", "")).upper(),
        answer_wanted=str(parameters.get("RSVP", "")).upper() == "TRUE",
        name=str(parameters.get("CN", "")),
    )


def _alarm(component: Any) -> Duration | None:
    trigger = component.get("TRIGGER")
    span = getattr(trigger, "dt", None)
    if not isinstance(span, timedelta) or str(trigger.params.get("RELATED", "START")).upper() != "START":
        return None
    return Duration(seconds=round(span.total_seconds())).in_days()


def _busy(component: Any) -> Busy:
    if _text(component, "TRANSP").upper() == "TRANSPARENT":
        return "no"
    if _text(component, "STATUS").upper() == "TENTATIVE":
        return "tentative"
    return "unavailable" if _text(component, "X-WHENVOCA-BUSY").lower() == "unavailable" else "yes"


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
