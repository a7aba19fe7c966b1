"""Occurrences of repeating events (RFC 5545 3.8.5), on the wall clock of the event's zone."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
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
_COUNT = re.compile(r"\bCOUNT=(\d+)", re.IGNORECASE)
_UNTIL = re.compile(r"\bUNTIL=(\d{4})(\d\d)(\d\d)", re.IGNORECASE)
_MOST_YEARS = 128  # over which a counted series is followed to its end
MOST_OCCURRENCES = 100_000  # of one series in one question; more than that nobody reads


def expand_events(
    events: Iterable[Event], low: datetime, high: datetime, zone: ZoneInfo, left_out: dict[str, str] | None = None
) -> list[Event]:
    """All occurrences that lie wholly or partly between two moments, in order of start.

    An occurrence of a series carries its RECURRENCE-ID; changed occurrences stand for the original ones. A series that
    gives too many ends with the last that is shown, and ``left_out`` says so by its UID; without that RowFault is
    raised.
    """
    events = list(events)
    changed: dict[str, set[datetime]] = {}
    for event in events:
        if event.occurrence is not None:
            changed.setdefault(event.uid, set()).add(_instant(event.occurrence, zone))
    found = []
    for event in events:
        others = changed.get(event.uid) if event.occurrence is None and event.is_series else None
        try:
            for occurrence in iter_occurrences(event, low, high, zone):
                if others and _instant(occurrence.occurrence, zone) in others:
                    continue
                if touches(occurrence, low, high, zone):
                    found.append(occurrence)
        except RowFault as fault:
            if left_out is None:
                raise
            left_out[event.uid] = fault.message
    return sorted(found, key=lambda event: (event.span(zone)[0], event.is_whole_day is False, event.title, event.uid))


def touches(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> bool:
    """Whether the event lies wholly or partly between two moments; what takes no time counts with its start."""
    start, end = event.span(zone)
    return start < high and (end > low or (start == end and start >= low))


def iter_occurrences(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[Event]:
    """The occurrences of one event that begin before ``high`` and end after ``low``, without regard to changed ones.

    Raises RowFault where the rule cannot be read.
    """
    if not event.is_series or event.occurrence is not None:
        yield event
        return
    if not event.later:
        yield from _iter_given(event, low, high, zone)
        return
    wide = max(
        abs(_instant(each.start, zone) - _instant(each.occurrence, zone)) + _length(each, zone) for each in event.later
    )
    for each in _iter_given(event, low - wide, high + wide, zone):
        changed = _changed_with(each, event.later, zone)
        if not changed.cancelled:
            yield changed


def _changed_with(occurrence: Event, later: Sequence[Event], zone: ZoneInfo) -> Event:
    """The occurrence as the last change of "this and later" before it has it (RFC 5545 3.2.13)."""
    at = occurrence.occurrence
    before = [each for each in later if _instant(each.occurrence, zone) <= _instant(at, zone)]
    if not before:
        return occurrence
    change = before[-1]
    assert at is not None
    assert change.occurrence is not None
    start = moved_as(at, change.occurrence, change.start)
    return replace(change, start=start, end=_end_after(start, change, zone), occurrence=at, and_later=False)


def moved_as(moment: datetime | date, before: datetime | date, after: datetime | date) -> datetime | date:
    """Where a moment of a series goes when what stood at ``before`` goes to ``after``: as far by the series' own clock,
    which may be another one afterwards."""
    if isinstance(moment, datetime) and isinstance(before, datetime) and isinstance(after, datetime):
        distance = moment.astimezone(before.tzinfo).replace(tzinfo=None) - before.replace(tzinfo=None)
        return (after.replace(tzinfo=None) + distance).replace(tzinfo=after.tzinfo)
    return moment + (day_of(after) - day_of(before))


def _length(event: Event, zone: ZoneInfo) -> timedelta:
    return to_start(event.end, zone) - to_start(event.start, zone)


def _end_after(start: datetime | date, event: Event, zone: ZoneInfo) -> datetime | date:
    """The end of an occurrence of the event that begins there: days on the calendar, the clock exactly."""
    if not isinstance(start, datetime):
        return start + (event.end - event.start if event.is_whole_day else _DAY)
    return (start.astimezone(UTC) + _length(event, zone)).astimezone(start.tzinfo)


def _iter_given(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[Event]:
    """The occurrences of a series as rule and dates give them."""
    ends = {_instant(start, zone): end for start, end in event.periods}
    longest = max([_length(event, zone), *(end - start for start, end in event.periods)])
    low -= longest + _DAY
    excluded = {_instant(value, zone) for value in event.excluded}
    for rule in event.exception_rules:
        excluded |= {_instant(value, zone) for value in _rule_starts(rule, event.start, low, high, zone)}
    days = _days_out(event)
    length = _length(event, zone) if isinstance(event.start, datetime) else None
    plain = replace(event, rule="", added=(), periods=(), excluded=(), exception_rules=(), later=())
    count, last = 0, event.start
    for start in _starts(event, low, high, zone):
        if (excluded and _instant(start, zone) in excluded) or (days and day_of(start) in days):
            continue
        count += 1
        if count > MOST_OCCURRENCES:
            shown = f"{last:%Y-%m-%d %H:%M}" if isinstance(last, datetime) else f"{last:%Y-%m-%d}"
            raise RowFault(
                f'"{event.title}" occurs more than {MOST_OCCURRENCES:,} times in that period; after {shown} '
                f"{_how_many(event, start, high, zone)} more are left out"
            )
        last = start
        end = ends.get(_instant(start, zone)) if ends else None
        if end is None and length is not None and isinstance(start, datetime):
            end = (start.astimezone(UTC) + length).astimezone(start.tzinfo)
        yield replace(plain, start=start, end=end or _end_after(start, event, zone), occurrence=start)


def _how_many(event: Event, start: datetime | date, high: datetime, zone: ZoneInfo) -> str:
    """How many dates the rule gives from there on, in words where they are too many to be counted."""
    most = 2 * MOST_OCCURRENCES
    number = sum(1 for _ in islice(_rule_starts(event.rule, event.start, _instant(start, zone), high, zone), most))
    return f"{number:,}" if number < most else f"more than {most - 1:,}"


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


def end_of_series(event: Event, zone: ZoneInfo) -> datetime | None:
    """A moment behind everything that a series gives; None where it has no end.

    Raises RowFault where the rule cannot be read.
    """
    single = [_instant(each, zone) for each in (event.start, *event.added, *(end for _, end in event.periods))]
    last = max(single) + _length(event, zone)
    if event.rule and (found := _UNTIL.search(event.rule)):
        last = max(last, datetime(int(found[1]), int(found[2]), int(found[3]), tzinfo=UTC) + 2 * _DAY)
    elif event.rule and (found := _COUNT.search(event.rule)):
        begin, count, years = _instant(event.start, zone), int(found[1]), 1
        while years < _MOST_YEARS and _reach(event, begin, years, zone) < count:
            years *= 2
        last = max(last, begin + years * 366 * _DAY)
    elif event.rule:
        return None
    return last + _DAY


def _reach(event: Event, begin: datetime, years: int, zone: ZoneInfo) -> int:
    """How many dates the rule gives in so many years."""
    return sum(1 for _ in _rule_starts(event.rule, event.start, begin, begin + years * 366 * _DAY, zone))


def _starts(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[datetime | date]:
    """DTSTART comes first, whether its rule gives it or not (RFC 5545 3.8.5.3), then those of rule and RDATE."""
    periods = (start for start, _ in event.periods)
    dates = {_instant(value, zone): value for value in (*periods, *event.added, event.start)}
    first = [dates[key] for key in sorted(dates) if low <= key < high]
    rule = _counted(event.rule, event.start)
    if not rule:
        yield from first
        return
    seen = set(dates)
    for value in _rule_starts(rule, event.start, low, high, zone):
        while first and _instant(first[0], zone) <= _instant(value, zone):
            yield first.pop(0)
        if _instant(value, zone) not in seen:
            yield value
    yield from first


@lru_cache(maxsize=4096)
def _counted(rule: str, start: datetime | date) -> str:
    """The rule; where it counts and does not give the start itself, which is the first all the same, with one fewer
    (RFC 5545 3.3.10: "The DTSTART property value always counts as the first occurrence")."""
    if not (found := _COUNT.search(rule)):
        return rule
    wall = datetime(*start.timetuple()[:6])
    own: Any = start.tzinfo if isinstance(start, datetime) else UTC
    if next(iter(walls_between(rule, wall, wall, wall, own)), None) is not None:
        return rule
    count = int(found[1]) - 1
    return f"{rule[: found.start()]}COUNT={count}{rule[found.end() :]}" if count else ""


def _rule_starts(
    rule: str, start: datetime | date, low: datetime, high: datetime, zone: ZoneInfo
) -> Iterator[datetime | date]:
    if not isinstance(start, datetime):
        wall = datetime.combine(start, time())
        begin, end = (each.astimezone(zone).replace(tzinfo=None) for each in (low, high))
        for each in walls_between(rule, wall, begin - _DAY, end + _DAY, zone):
            yield each.date()
        return
    yield from moments_between(rule, start, low, high)


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
