"""iCalendar in: common lines by our own reader, all else by the iCalendar library, which knows RFC 5545 whole."""

from __future__ import annotations

import re
import warnings
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from typing import Any, Literal
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Attendee, Busy, Event, to_start
from whenvoca.calendars.plain_reader import read_plain
from whenvoca.calendars.task import Task, due_after
from whenvoca.calendars.writer import ORIGIN, PERSON
from whenvoca.errors import SourceFault, WhenvocaError
from whenvoca.values.durations import Duration
from whenvoca.values.zones import load_zone

Noun = Literal["event", "task"]
_SMALL = 10_000  # bytes: what holds no more than an event or two is read several times while it is changed
_read_again = lru_cache(maxsize=64)(read_plain)
_DATES = re.compile(rb"^(DTSTART|DTEND|DURATION|RRULE|RDATE)[;:]([^\r\n]*)", re.MULTILINE)
_DAY = re.compile(rb"(\d{4})(\d{2})(\d{2})(?:T\d{6}Z?)?\s*\Z")


def read_events(data: bytes, zone: ZoneInfo, *, file: str = "", noun: Noun = "event") -> list[Event]:
    """All events, or tasks, of an iCalendar object. ``zone`` is meant where a time carries none.

    Raises SourceFault if the text is no iCalendar object or is cut in the middle.
    """
    refuse_cut(data, file)
    read = _read_again if len(data) < _SMALL else read_plain
    if noun == "event" and (plain := read(data, zone)) is not None:
        return list(plain)
    return read_through_library(data, zone, file=file, noun=noun)


def read_through_library(data: bytes, zone: ZoneInfo, *, file: str = "", noun: Noun = "event") -> list[Event]:
    """The same by the iCalendar library alone. Raises SourceFault."""
    from icalendar import Calendar

    # it guesses at odd zones, which we refuse or take as it does
    warnings.filterwarnings("ignore", module=r"icalendar\.")
    try:
        calendar = Calendar.from_ical(data)
        if noun == "task":
            return [to_task(component, zone) for component in calendar.walk("VTODO")]
        events = calendar.walk("VEVENT")
        if without := [each for each in events if not each.get("DTSTART")]:
            title = str(without[0].get("SUMMARY", "")) or str(without[0].get("UID", ""))
            raise SourceFault(f'the event "{title}" has no start', fix="give it one there, or take it away")
        return [to_event(component, zone) for component in events]
    except WhenvocaError as error:
        raise SourceFault(error.message, where=file, fix=error.fix) from error
    except (ValueError, KeyError, IndexError, TypeError, AttributeError, OverflowError) as error:
        reason = str(error).splitlines()[0][:120] if str(error) else type(error).__name__
        raise SourceFault(f"is no iCalendar file that can be read: {reason}", where=file) from error


def _refuse_strange_zone(value: Any) -> None:
    """Raises SourceFault for a time of a zone that nobody knows, which would be read hours off."""
    moment, name = getattr(value, "dt", None), str(getattr(value, "params", {}).get("TZID", ""))
    if name and isinstance(moment, datetime) and moment.tzinfo is None:
        raise SourceFault(
            f'there is no time zone "{name}", and the file does not say what it is', fix="correct the zone there"
        )


def refuse_cut(data: bytes, file: str) -> None:
    """Raises SourceFault unless the text begins and ends as an iCalendar object does."""
    stripped = data.strip().removeprefix(b"\xef\xbb\xbf")
    if not stripped.upper().startswith(b"BEGIN:VCALENDAR"):
        raise SourceFault("is no iCalendar file: it does not begin with BEGIN:VCALENDAR", where=file)
    if not stripped.upper().endswith(b"END:VCALENDAR"):
        raise SourceFault(
            "is cut in the middle: END:VCALENDAR is missing", where=file, fix="restore it from a backup or take it away"
        )


def to_event(component: Any, zone: ZoneInfo) -> Event:
    """The event of one VEVENT of the iCalendar library. Raises SourceFault for a zone that nobody knows."""
    for name in ("DTSTART", "DTEND", "RECURRENCE-ID"):
        _refuse_strange_zone(component.get(name))
    start = _moment(component["DTSTART"].dt, zone)
    return Event(
        uid=str(component.get("UID", "")),
        title=str(component.get("SUMMARY", "")),
        start=start,
        end=_end_of(component, start, zone),
        location=str(component.get("LOCATION", "")),
        details=str(component.get("DESCRIPTION", "")),
        attendees=tuple(_attendee(each) for each in _several(component.get("ATTENDEE"))),
        organizer=_address(component.get("ORGANIZER", "")),
        alarms=tuple(span for alarm in component.walk("VALARM") if (span := _alarm(alarm)) is not None),
        rule=component["RRULE"].to_ical().decode() if not isinstance(component.get("RRULE", []), list) else "",
        excluded=_dates(component.get("EXDATE"), zone),
        added=_dates(component.get("RDATE"), zone),
        occurrence=_moment(component["RECURRENCE-ID"].dt, zone) if "RECURRENCE-ID" in component else None,
        busy=_busy(component),
        priority=int(component.get("PRIORITY", 0)),
        colour=str(component.get("COLOR", "")),
        categories=tuple(str(each) for group in _several(component.get("CATEGORIES")) for each in group.cats),
        private=str(component.get("CLASS", "")).upper() in ("PRIVATE", "CONFIDENTIAL"),
        url=str(component.get("URL", "")),
        origin=str(component.get(ORIGIN, "")),
        sequence=int(component.get("SEQUENCE", 0)),
        cancelled=str(component.get("STATUS", "")).upper() == "CANCELLED",
    )


def to_task(component: Any, zone: ZoneInfo) -> Task:
    """The task of one VTODO of the iCalendar library."""
    from urllib.parse import unquote

    start = _moment(component["DTSTART"].dt, zone) if "DTSTART" in component else None
    due = _moment(component["DUE"].dt, zone) if "DUE" in component else None
    if due is None and start is not None and "DURATION" in component:
        due = due_after(start, component["DURATION"].dt)
    finished = _moment(component["COMPLETED"].dt, zone) if "COMPLETED" in component else None
    if finished is None and str(component.get("STATUS", "")).upper() == "COMPLETED":
        changed = component.get("LAST-MODIFIED") or component.get("DTSTAMP")
        finished = _moment(changed.dt, zone) if changed is not None else datetime(1970, 1, 1, tzinfo=UTC)
    categories = [str(each) for group in _several(component.get("CATEGORIES")) for each in group.cats]
    people = _several(component.get("ATTENDEE"))
    mail, name = (_address(people[0]), str(people[0].params.get(PERSON, ""))) if people else ("", "")
    related = _several(component.get("RELATED-TO"))
    return Task(
        uid=str(component.get("UID", "")),
        title=str(component.get("SUMMARY", "")),
        start=start,
        end=due,
        section=categories[0] if categories else "",
        person=name or unquote(mail.removeprefix("urn:whenvoca:person:")),
        person_mail=mail if name or "@" in mail else "",
        details=str(component.get("DESCRIPTION", "")),
        priority=int(component.get("PRIORITY", 0)),
        alarms=tuple(span for alarm in component.walk("VALARM") if (span := _alarm(alarm)) is not None),
        finished=finished if isinstance(finished, datetime) or finished is None else to_start(finished, zone),
        source=str(related[0]) if related else "",
        origin=str(component.get(ORIGIN, "")),
        sequence=int(component.get("SEQUENCE", 0)),
        cancelled=str(component.get("STATUS", "")).upper() == "CANCELLED",
    )


def _end_of(component: Any, start: datetime | date, zone: ZoneInfo) -> datetime | date:
    if "DTEND" in component:
        return _moment(component["DTEND"].dt, zone)
    if "DURATION" in component:
        return start + component["DURATION"].dt  # type: ignore[no-any-return]
    return start if isinstance(start, datetime) else start + timedelta(days=1)


def _moment(value: Any, zone: ZoneInfo) -> datetime | date:
    if not isinstance(value, datetime):
        return value  # type: ignore[no-any-return]
    if value.tzinfo is None:
        return value.replace(tzinfo=zone)
    if isinstance(value.tzinfo, ZoneInfo):
        return value
    if value.tzinfo is UTC or value.tzname() == "UTC":
        return value.replace(tzinfo=UTC)
    return _with_known_zone(value)


def _with_known_zone(value: datetime) -> datetime:
    """The moment in the zone of the same name, if the system knows one; else fixed to its offset's instant."""
    try:
        named = load_zone(str(getattr(value.tzinfo, "key", None) or value.tzinfo))
    except WhenvocaError:
        return value.astimezone(UTC)
    return value.astimezone(named)


def _several(value: Any) -> list[Any]:
    return [] if value is None else value if isinstance(value, list) else [value]


def _dates(value: Any, zone: ZoneInfo) -> tuple[datetime | date, ...]:
    return tuple(
        _moment(each.dt if not isinstance(each.dt, tuple) else each.dt[0], zone)
        for group in _several(value)
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
    if str(component.get("TRANSP", "OPAQUE")).upper() == "TRANSPARENT":
        return "no"
    if str(component.get("STATUS", "")).upper() == "TENTATIVE":
        return "tentative"
    return "unavailable" if str(component.get("X-WHENVOCA-BUSY", "")).lower() == "unavailable" else "yes"


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
