"""Free time: what busy events leave of the windows of certain days."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.calendars.event import Event

Span = tuple[datetime, datetime]  # moments in UTC; the second is the first one that is outside


class Window(Struct, frozen=True):
    """The part of certain weekdays (0 is Monday) that counts. One that ends before it begins goes over midnight."""

    begin: time
    end: time
    weekdays: frozenset[int]


def spans_of(window: Window, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[Span]:
    """Each day's part of the window between two moments, in order. ``low`` cuts off what is before it."""
    day, last = low.astimezone(zone).date() - timedelta(days=1), high.astimezone(zone).date()
    while day <= last:
        if day.weekday() in window.weekdays:
            following = day + timedelta(days=window.end <= window.begin)
            begin = datetime.combine(day, window.begin, zone).astimezone(UTC)
            end = datetime.combine(following, window.end, zone).astimezone(UTC)
            begin, end = max(begin, low.astimezone(UTC)), min(end, high.astimezone(UTC))
            if begin < end:
                yield begin, end
        day += timedelta(days=1)


def busy_spans(events: Iterable[Event], zone: ZoneInfo, people: Collection[str] = (), holds: int = 1) -> list[Span]:
    """When these events take time, joined where they touch. With ``people`` (addresses) only events count that one of
    them attends and has not declined, and those that name nobody. What ``holds`` several is busy where as many are."""
    wanted = {address.lower() for address in people}
    taken: list[Span] = []
    for event in events:
        if event.takes_time and (not wanted or _concerns(event, wanted)):
            begin, end = event.span(zone)
            if begin < end:
                taken.append((begin.astimezone(UTC), end.astimezone(UTC)))
    return joined(taken) if holds == 1 else full_spans(taken, holds)


def full_spans(spans: Iterable[Span], holds: int) -> list[Span]:
    """Where as many spans as that, or more, lie over each other."""
    steps = sorted(step for begin, end in spans if begin < end for step in ((begin, 1), (end, -1)))
    found: list[Span] = []
    going = 0
    for number, (at, step) in enumerate(steps):
        going += step
        if going >= holds and at < steps[number + 1][0]:
            found.append((at, steps[number + 1][0]))
    return joined(found)


def joined(spans: Iterable[Span]) -> list[Span]:
    """The spans in order, those that touch as one."""
    found: list[Span] = []
    for begin, end in sorted(spans):
        if found and begin <= found[-1][1]:
            found[-1] = (found[-1][0], max(found[-1][1], end))
        else:
            found.append((begin, end))
    return found


def _concerns(event: Event, people: Collection[str]) -> bool:
    if not event.attendees and not event.organizer:
        return True
    answers = {each.address.lower(): each.answer for each in event.attendees}
    answers.setdefault(event.organizer.lower(), "ACCEPTED")
    return any(answers.get(person, "DECLINED") != "DECLINED" for person in people)


def free_spans(span: Span, busy: Iterable[Span]) -> Iterator[Span]:
    """What the busy spans, in order and apart from each other, leave of that one."""
    begin, last = span
    for taken_from, taken_to in busy:
        if taken_from >= last:
            break
        if taken_from > begin:
            yield begin, taken_from
        begin = max(begin, taken_to)
    if begin < last:
        yield begin, last


def free_starts(
    window: Window, low: datetime, high: datetime, zone: ZoneInfo, busy: list[Span], length: timedelta, every: timedelta
) -> Iterator[datetime]:
    """The moments at which something of that length may begin, counted in steps from the beginning of each day's
    window."""
    day_before = low.astimezone(UTC) - timedelta(days=1)
    for whole in spans_of(window, day_before, high, zone):
        for begin, end in free_spans(whole, busy):
            begin = max(begin, low.astimezone(UTC))
            steps = -((whole[0] - begin) // every)  # rounded up
            start = whole[0] + steps * every
            while start + length <= end:
                yield start
                start += every
