"""Occurrences of repeating events (RFC 5545 3.8.5), on the wall clock of the event's zone."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from itertools import islice
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Event, to_start
from whenvoca.errors import RowFault
from whenvoca.values.rules import walls_between

_DAY = timedelta(days=1)
MOST_OCCURRENCES = 100_000  # of one series in one question; more than that nobody reads


def expand_events(
    events: Iterable[Event], low: datetime, high: datetime, zone: ZoneInfo, left_out: list[str] | None = None
) -> list[Event]:
    """All occurrences that lie wholly or partly between two moments, in order of start.

    An occurrence of a series carries its RECURRENCE-ID; changed occurrences stand for the original ones. A series that
    gives too many ends with the last that is shown, and ``left_out`` says so; without such a list RowFault is raised.
    """
    events = list(events)
    changed = {(event.uid, _instant(event.occurrence, zone)) for event in events if event.occurrence is not None}
    found = []
    for event in events:
        try:
            for occurrence in iter_occurrences(event, low, high, zone):
                is_original = event.occurrence is None and (event.rule or event.added)
                if is_original and (event.uid, _instant(occurrence.occurrence, zone)) in changed:
                    continue
                if touches(occurrence, low, high, zone):
                    found.append(occurrence)
        except RowFault as fault:
            if left_out is None:
                raise
            left_out.append(fault.message)
    return sorted(found, key=lambda event: (event.span(zone)[0], event.is_whole_day is False, event.title, event.uid))


def touches(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> bool:
    """Whether the event lies wholly or partly between two moments; what takes no time counts with its start."""
    start, end = event.span(zone)
    return start < high and (end > low or (start == end and start >= low))


def iter_occurrences(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[Event]:
    """The occurrences of one event that begin before ``high`` and end after ``low``, without regard to changed ones.

    Raises RowFault where the rule cannot be read.
    """
    if not (event.rule or event.added) or event.occurrence is not None:
        yield event
        return
    length = to_start(event.end, zone) - to_start(event.start, zone)
    whole = event.end - event.start if event.is_whole_day else None
    excluded = {_instant(value, zone) for value in event.excluded}
    days = _days_out(event)
    count, last = 0, event.start
    for start in _starts(event, low - length - timedelta(days=1), high, zone):
        if _instant(start, zone) in excluded or (days and day_of(start) in days):
            continue
        count += 1
        if count > MOST_OCCURRENCES:
            shown = f"{last:%Y-%m-%d %H:%M}" if isinstance(last, datetime) else f"{last:%Y-%m-%d}"
            raise RowFault(
                f'"{event.title}" occurs more than {MOST_OCCURRENCES:,} times in that period; those after {shown} are '
                "left out"
            )
        last = start
        if whole is not None:
            yield replace(event, start=start, end=start + whole, occurrence=start, rule="", added=(), excluded=())
        else:
            assert isinstance(start, datetime)
            end = (start.astimezone(UTC) + length).astimezone(start.tzinfo)
            yield replace(event, start=start, end=end, occurrence=start, rule="", added=(), excluded=())


def _days_out(event: Event) -> set[date]:
    """The days of EXDATE lines that are written as days where the event has times, or the other way round, as some
    programs do: the occurrence of that day is meant."""
    return {day_of(each) for each in event.excluded if isinstance(each, datetime) is event.is_whole_day}


def day_of(moment: datetime | date) -> date:
    """The day of a moment by its own clock."""
    return moment.date() if isinstance(moment, datetime) else moment


def occurrence_at(event: Event, moment: datetime | date, zone: ZoneInfo) -> Event | None:
    """The occurrence of a series that begins at that moment, None if it gives none there.

    Raises RowFault where the rule cannot be read.
    """
    begin = _instant(moment, zone)
    for each in iter_occurrences(event, begin, begin + timedelta(days=1), zone):
        if each.occurrence is not None and _instant(each.occurrence, zone) == begin:
            return each
    return None


def _starts(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[datetime | date]:
    """DTSTART comes first, whether its rule gives it or not (RFC 5545 3.8.5.3), then those of rule and RDATE."""
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
    if not isinstance(start, datetime):
        wall = datetime.combine(start, time())
        begin, end = (each.astimezone(zone).replace(tzinfo=None) for each in (low, high))
        for each in walls_between(event.rule, wall, begin - _DAY, end + _DAY, zone):
            yield each.date()
        return
    yield from moments_between(event.rule, start, low, high)


def moments_between(rule: str, start: datetime, low: datetime, high: datetime) -> list[datetime]:
    """The moments that a rule gives from ``low`` on and before ``high``, on the wall clock of the start's zone, in
    order.

    A wall time that the clocks skip is the moment just as long after midnight; one that comes twice is the first.
    Raises RowFault where the rule cannot be read.
    """
    own: Any = start.tzinfo
    begin, end = low.astimezone(own), high.astimezone(own)
    odd = [day for year in range(begin.year, end.year + 1) for day in _odd_days(own, year)]
    is_near = begin.date() in odd or end.date() in odd  # there the order of wall times is not that of moments
    if is_near:
        begin, end = begin - _DAY, end + _DAY
    found = list(islice(walls_between(rule, start, begin, end, own), 2 * MOST_OCCURRENCES))
    for day in odd:
        index = bisect_left(found, datetime(day.year, day.month, day.day, tzinfo=own))
        while index < len(found) and found[index].date() == day:
            found[index] = found[index].replace(fold=0).astimezone(UTC).astimezone(own)
            index += 1
    if is_near:
        first, last = low.astimezone(UTC), high.astimezone(UTC)
        return [each for each in found if first <= each < last]
    if found and found[-1] == end:
        found.pop()
    return found


@lru_cache(maxsize=4096)
def _odd_days(zone: Any, year: int) -> tuple[date, ...]:
    """The days of a year on which the clocks of a zone change."""
    found, day = [], datetime(year, 1, 1, tzinfo=zone)
    while day.year == year:
        if day.utcoffset() != (day + _DAY).utcoffset():
            found.append(day.date())
        day += _DAY
    return tuple(found)


def _instant(value: datetime | date | None, zone: ZoneInfo) -> datetime:
    assert value is not None
    return to_start(value, zone).astimezone(UTC)
