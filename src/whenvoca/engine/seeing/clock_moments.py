"""Moments of triggers by the clock: at which moments between two others one fires, and when next."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.language import tree
from whenvoca.language.days import is_among
from whenvoca.values.durations import Duration, add_to_date, sum_durations
from whenvoca.values.zones import first_moment

_DAY = timedelta(days=1)
_FAR = 366 * 6  # days that are searched for the next moment: five years bring every 29th of February
_ANCHOR = date(2024, 1, 1)  # a Monday: from here spans of days, weeks and months are counted


def clock_moments(trigger: tree.Trigger, after: datetime, until: datetime, zone: ZoneInfo) -> Iterator[datetime]:
    """The moments later than ``after`` and not later than ``until`` at which the trigger fires, in order, in ``zone``.

    A clock time that the clocks skip fires right after the gap; one that comes twice fires the first time.
    """
    node = trigger.slots["VALUE"]
    if trigger.definition.value_type == "duration":
        found = _passing(_to_span(node), after, until, zone)
    else:
        times = sorted(
            {
                each.value
                for each in (node.items if isinstance(node, tree.ListOf) else (node,))
                if isinstance(each, tree.Literal)
            }
        )
        days = trigger.slots.get("DAYS")
        found = _reading(times, days if isinstance(days, tree.Days) else None, after, until, zone)
    last: datetime | None = None
    for moment in found:
        if moment > until:
            return
        if moment > after and (last is None or moment > last):
            last = moment
            yield moment


def next_moment(trigger: tree.Trigger, after: datetime, zone: ZoneInfo) -> datetime | None:
    """When the trigger fires next, None if it does not within five years."""
    return next(clock_moments(trigger, after, after + timedelta(days=_FAR), zone), None)


def to_span(node: tree.Node | None) -> Duration:
    """The duration of a setting that is written out; none at all where it is missing."""
    return _to_span(node) if node is not None else Duration()


def _to_span(node: Any) -> Duration:
    return sum_durations(Duration.of(amount.value, unit) for amount, unit in node.pieces)


def _reading(
    times: list[time], days: tree.Days | None, after: datetime, until: datetime, zone: ZoneInfo
) -> Iterator[datetime]:
    day, last = after.astimezone(zone).date() - _DAY, until.astimezone(zone).date() + _DAY
    while day <= last:
        if days is None or is_among(days, day):
            yield from sorted(at_wall(day, each, zone) for each in times)
        day += _DAY


def at_wall(day: date, clock: time, zone: ZoneInfo) -> datetime:
    """The moment at which the clocks of a zone read that; the first moment behind a gap they skip."""
    wall = datetime.combine(day, clock, tzinfo=zone)
    there = wall.astimezone(UTC).astimezone(zone)
    if there.replace(tzinfo=None) == wall.replace(tzinfo=None):
        return wall
    low, high = wall.replace(fold=1).astimezone(UTC), wall.replace(fold=0).astimezone(UTC)
    offset = low.astimezone(zone).utcoffset()
    while high - low > timedelta(seconds=1):  # the clocks change between these two
        middle = low + (high - low) / 2
        low, high = (middle, high) if middle.astimezone(zone).utcoffset() == offset else (low, middle)
    return high.replace(microsecond=0).astimezone(zone)


def _passing(span: Duration, after: datetime, until: datetime, zone: ZoneInfo) -> Iterator[datetime]:
    """Spans of hours and minutes are counted from each midnight, longer ones from a Monday that stands fast."""
    if span.months or span.days:
        begin, ahead = after.astimezone(zone).date(), _ANCHOR
        steps = max(0, ((begin - _ANCHOR).days - 62) // max(1, span.days + 31 * span.months))
        ahead = add_to_date(_ANCHOR, Duration(months=span.months * steps, days=span.days * steps))
        while (moment := first_moment(ahead, zone)) <= until:
            yield moment
            steps += 1
            ahead = add_to_date(_ANCHOR, Duration(months=span.months * steps, days=span.days * steps))
        return
    step = timedelta(seconds=span.to_seconds())
    day, last = after.astimezone(zone).date(), until.astimezone(zone).date()
    while day <= last:
        begin, end = (first_moment(each, zone).astimezone(UTC) for each in (day, day + _DAY))
        count = max(0, int((after - begin) / step)) if after > begin else 0
        moment = begin + count * step
        while moment < end and moment <= until:
            yield moment.astimezone(zone)
            moment += step
        day += _DAY
