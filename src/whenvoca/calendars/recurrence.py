"""Occurrences of repeating events (RFC 5545 3.8.5), by dateutil's rules on the wall clock of the event's zone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event, to_start
from whenvoca.errors import RowFault

MOST_OCCURRENCES = 10_000  # of one series in one question; more is a rule gone wrong


def expand_events(events: Iterable[Event], low: datetime, high: datetime, zone: ZoneInfo) -> list[Event]:
    """All occurrences that lie wholly or partly between two moments, in order of start.

    An occurrence of a series carries its RECURRENCE-ID; changed occurrences stand for the original ones.
    """
    events = list(events)
    changed = {(event.uid, _instant(event.occurrence, zone)) for event in events if event.occurrence is not None}
    found = []
    for event in events:
        for occurrence in iter_occurrences(event, low, high, zone):
            is_original = event.occurrence is None and (event.rule or event.added)
            if is_original and (event.uid, _instant(occurrence.occurrence, zone)) in changed:
                continue
            if touches(occurrence, low, high, zone):
                found.append(occurrence)
    return sorted(found, key=lambda event: (event.span(zone)[0], event.is_whole_day is False, event.title, event.uid))


def touches(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> bool:
    """Whether the event lies wholly or partly between two moments; what takes no time counts with its start."""
    start, end = event.span(zone)
    return start < high and (end > low or (start == end and start >= low))


def iter_occurrences(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[Event]:
    """The occurrences of one event that begin before ``high`` and end after ``low``, without regard to changed ones."""
    if not (event.rule or event.added) or event.occurrence is not None:
        yield event
        return
    length = to_start(event.end, zone) - to_start(event.start, zone)
    whole = event.end - event.start if event.is_whole_day else None  # type: ignore[operator]
    excluded = {_instant(value, zone) for value in event.excluded}
    count = 0
    for start in _starts(event, low - length - timedelta(days=1), high, zone):
        if _instant(start, zone) in excluded:
            continue
        count += 1
        if count > MOST_OCCURRENCES:
            raise RowFault(f'"{event.title}" repeats more than {MOST_OCCURRENCES} times in that period')
        if whole is not None:
            yield replace(event, start=start, end=start + whole, occurrence=start, rule="", added=(), excluded=())
        else:
            assert isinstance(start, datetime)
            end = (start.astimezone(UTC) + length).astimezone(start.tzinfo)
            yield replace(event, start=start, end=end, occurrence=start, rule="", added=(), excluded=())


def occurrence_at(event: Event, moment: datetime | date, zone: ZoneInfo) -> Event | None:
    """The occurrence of a series that begins at that moment, None if it gives none there."""
    begin = _instant(moment, zone)
    for each in iter_occurrences(event, begin, begin + timedelta(days=1), zone):
        if each.occurrence is not None and _instant(each.occurrence, zone) == begin:
            return each
    return None


def _starts(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[datetime | date]:
    """DTSTART is the first occurrence whether its rule gives it or not (RFC 5545 3.8.5.3), then those of rule and RDATE."""
    dates = {_instant(value, zone): value for value in (event.start, *event.added)}
    first = [dates[key] for key in sorted(dates) if low <= key < high]
    if not event.rule:
        yield from first
        return
    seen = set(dates)
    for value in _rule_starts(event, low, high, zone):
        while first and _instant(first[0], zone) <= _instant(value, zone):
            yield first.pop(0)
        if _instant(value, zone) not in seen:
            yield value
    yield from first


def _rule_starts(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[datetime | date]:
    start = event.start
    own_zone = start.tzinfo if isinstance(start, datetime) else zone
    wall = start.replace(tzinfo=None) if isinstance(start, datetime) else datetime.combine(start, time())
    rule = parse_rule(event.rule, wall, own_zone)
    begin, end = low.astimezone(own_zone).replace(tzinfo=None), high.astimezone(own_zone).replace(tzinfo=None)
    for each in rule.xafter(begin - timedelta(days=1), inc=True):
        if each > end + timedelta(days=1):
            return
        if not isinstance(start, datetime):
            yield each.date()
        else:
            moment = each.replace(tzinfo=own_zone).astimezone(UTC).astimezone(own_zone)
            if low <= moment < high:
                yield moment


def parse_rule(text: str, wall: datetime, zone: Any) -> Any:
    """dateutil's rule of an RRULE value on naive wall times. Raises RowFault if it is none."""
    from dateutil.rrule import rrulestr

    parts = [part for part in text.split(";") if part]
    plain = []
    for part in parts:
        name, _, value = part.partition("=")
        if name.upper() == "UNTIL":
            value = _local_until(value, zone)
        plain.append(f"{name}={value}")
    try:
        return rrulestr(";".join(plain), dtstart=wall, ignoretz=True)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise RowFault(f'"{text}" is no rule of repetition (RRULE)') from error


def _local_until(value: str, zone: Any) -> str:
    """UNTIL as a wall time of the event's zone; a date takes its whole day."""
    if len(value) == 8:
        return value + "T235959"
    if value.endswith("Z"):
        moment = datetime.strptime(value, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
        return moment.astimezone(zone).strftime("%Y%m%dT%H%M%S")
    return value


def _instant(value: datetime | date | None, zone: ZoneInfo) -> datetime:
    assert value is not None
    return to_start(value, zone).astimezone(UTC)
