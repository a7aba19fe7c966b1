"""Free time of 20 calendars with 100,000 events over a quarter, beside a plain loop that makes the same values."""

from __future__ import annotations

import random
import statistics
import time
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.free_time import Window, busy_spans, free_spans, joined, spans_of

CALENDARS, EVENTS, DAYS, ROUNDS = 20, 100_000, 92, 7
ZONE = ZoneInfo("Atlantic/Azores")
LOW = datetime(2027, 1, 1, tzinfo=ZONE)
WINDOW = Window(datetime.min.time().replace(hour=9), datetime.min.time().replace(hour=17), frozenset(range(5)))
Spans = list[tuple[datetime, datetime]]


def make() -> list[list[Event]]:
    """Events of a few minutes, at any time of the quarter."""
    chance = random.Random(4)
    found = []
    for calendar in range(CALENDARS):
        events = []
        for number in range(EVENTS // CALENDARS):
            start = LOW + timedelta(minutes=chance.randrange(DAYS * 1440))
            events.append(Event(uid=f"{calendar}-{number}", start=start, end=start + timedelta(minutes=3)))
        found.append(events)
    return found


def ours(calendars: list[list[Event]], high: datetime) -> Spans:
    """What the step `find free-time in` reckons."""
    busy = joined(span for events in calendars for span in busy_spans(events, ZONE))
    return [
        (begin, end)
        for span in spans_of(WINDOW, LOW, high, ZONE)
        for begin, end in free_spans(span, busy)
        if end - begin >= timedelta(minutes=5)
    ]


def plain(calendars: list[list[Event]], high: datetime) -> Spans:
    """The same in one loop, for events like these alone."""
    times = sorted(
        (event.start.astimezone(UTC), event.end.astimezone(UTC))
        for events in calendars
        for event in events
        if event.busy != "no" and not event.cancelled and isinstance(event.start, datetime)
        if isinstance(event.end, datetime)
    )
    found, position, day = [], 0, LOW
    while day < high:
        if day.weekday() < 5:
            begin = datetime(day.year, day.month, day.day, 9, tzinfo=ZONE).astimezone(UTC)
            last = datetime(day.year, day.month, day.day, 17, tzinfo=ZONE).astimezone(UTC)
            while position < len(times) and times[position][0] < last:
                start, end = times[position]
                if start - begin >= timedelta(minutes=5):
                    found.append((begin, start))
                begin = max(begin, end)
                position += 1
            if last - begin >= timedelta(minutes=5):
                found.append((begin, last))
        else:
            begin = last = day.astimezone(UTC)
        day = (day.replace(tzinfo=None) + timedelta(days=1)).replace(tzinfo=ZONE)
    return found


def main() -> None:
    """Prints the median of several rounds, each after the other."""
    calendars, high = make(), LOW + timedelta(days=DAYS)
    told: dict[str, list[float]] = {"ours": [], "plain": []}
    for _ in range(ROUNDS):
        results = []
        for name, reckon in (("ours", ours), ("plain", plain)):
            begin = time.perf_counter()
            results.append(reckon(calendars, high))
            told[name].append(time.perf_counter() - begin)
        missing = set(results[1]) ^ set(results[0])
        assert not missing, sorted(missing)[:4]
    mine, bare = (statistics.median(told[name]) for name in ("ours", "plain"))
    print(f"{EVENTS:,} events, {len(results[0]):,} free times: {mine * 1000:.0f} ms, plain {bare * 1000:.0f} ms")
    print(f"{mine / bare:.2f} times a plain loop")


if __name__ == "__main__":
    main()
