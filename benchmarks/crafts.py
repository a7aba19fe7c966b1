"""The crafts in memory, each beside a plain loop that makes the same values, in the same run; and whole commands.

Free time of 20 calendars with 100,000 events over a quarter; 5,000 occurrences numbered; 500 tasks spread over a year
around 5,000 events. Then the commands, beside our own reader and writer on the same files.
"""

from __future__ import annotations

import random
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.free_time import Window, busy_spans, free_spans, joined, spans_of
from whenvoca.calendars.numbering import closed_numbers
from whenvoca.calendars.patch import add_events
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.spreading import FreeLine, lay_by_weights
from whenvoca.calendars.writer import empty_calendar, write_calendar
from whenvoca.language import tree
from whenvoca.language.evaluation import Compiler, Scope
from whenvoca.language.faults import Spot

CALENDARS, EVENTS, DAYS, ROUNDS = 20, 100_000, 92, 7
ZONE = ZoneInfo("Atlantic/Azores")
LOW = datetime(2027, 1, 1, tzinfo=ZONE)
WINDOW = Window(datetime.min.time().replace(hour=9), datetime.min.time().replace(hour=17), frozenset(range(5)))
OCCURRENCES, TASKS = 5000, 500
WEIGHTS = [Fraction(1 + number % 4) for number in range(TASKS)]
WHENVOCA = str(Path(sys.executable).parent / "whenvoca")
SETTINGS = """
[workspace]
root = "00000000-0000-4000-8000-000000000001"
zone = "Atlantic/Azores"
[places.domes]
kind = "calendar"
folder = "domes"
"""
_SPOT = Spot(1, 1, 1)
_PARTS = ("Mirror ", tree.Name(_SPOT, "number", "number"), " of ", tree.Name(_SPOT, "total", "total"))
TITLE = tree.Text(_SPOT, (_PARTS,))
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


def free_times(calendars: list[list[Event]], high: datetime) -> Spans:
    """What the step `find free-time in` reckons."""
    busy = joined(span for events in calendars for span in busy_spans(events, ZONE))
    return [
        (begin, end)
        for span in spans_of(WINDOW, LOW, high, ZONE)
        for begin, end in free_spans(span, busy)
        if end - begin >= timedelta(minutes=5)
    ]


def free_times_plainly(calendars: list[list[Event]], high: datetime) -> Spans:
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


# --- numbering


def numbered(series: Event, high: datetime) -> list[Event]:
    """The occurrences with their titles, as the step `number events in` reckons them."""
    scope = Scope(None, "", LOW, ZONE)
    title = Compiler(frozenset()).value(TITLE)
    events = expand_events([series], LOW, high, ZONE)
    found = []
    for event, number in zip(events, closed_numbers(len(events), 1, 1), strict=True):
        scope.names = {"number": number, "total": len(events)}
        found.append(replace(event, title=title(scope)))
    return found


def numbered_plainly(series: Event, high: datetime) -> list[Event]:
    """The same in one loop, for a daily series alone."""
    assert isinstance(series.start, datetime)
    found, wall = [], series.start.replace(tzinfo=None)
    for number in range(1, OCCURRENCES + 1):
        start = wall.replace(tzinfo=ZONE)
        end = (start.astimezone(UTC) + timedelta(hours=1)).astimezone(ZONE)
        title = f"Mirror {number} of {OCCURRENCES}"
        found.append(replace(series, title=title, start=start, end=end, rule="", occurrence=start))
        wall += timedelta(days=1)
    return found


# --- spreading


def spread(events: list[Event], high: datetime) -> list[Spans]:
    """The pieces of each task, as the step `spread tasks in` lays them."""
    line = FreeLine([(LOW.astimezone(UTC), high.astimezone(UTC))], busy_spans(events, ZONE))
    return lay_by_weights(line, WEIGHTS, 600, 0)


def spread_plainly(events: list[Event], high: datetime) -> list[Spans]:
    """The same in one loop."""
    busy: Spans = []
    spans = (event.span(ZONE) for event in events)
    for start, end in sorted((begin.astimezone(UTC), end.astimezone(UTC)) for begin, end in spans):
        if busy and start <= busy[-1][1]:
            busy[-1] = (busy[-1][0], max(busy[-1][1], end))
        else:
            busy.append((start, end))
    free, at = [], LOW.astimezone(UTC)
    for start, end in busy:
        if start > at:
            free.append((at, start))
        at = max(at, end)
    if at < high.astimezone(UTC):
        free.append((at, high.astimezone(UTC)))
    length = sum(int((end - start).total_seconds()) for start, end in free)
    shared, total, done, begin = length - 600 * (TASKS - 1), sum(WEIGHTS), Fraction(0), 0
    found: list[Spans] = []
    stretch, offset = 0, 0
    for index, weight in enumerate(WEIGHTS):
        done += weight
        stop = length if index == TASKS - 1 else round(shared * done / total / 60) * 60 + 600 * index
        pieces, point = [], begin
        while point < stop:
            low, top = free[stretch]
            size = int((top - low).total_seconds())
            if point >= offset + size:
                stretch, offset = stretch + 1, offset + size
                continue
            upto = min(stop, offset + size)
            pieces.append((low + timedelta(seconds=point - offset), low + timedelta(seconds=upto - offset)))
            point = upto
        found.append(pieces)
        begin = stop + 600
    return found


# --- whole commands


def run_numbering(folder: Path) -> tuple[float, float]:
    """Seconds of the whole command over a series of 5,000, and of reading and writing the same events."""
    (folder / "workflows").mkdir(parents=True)
    (folder / "domes").mkdir()
    (folder / "whenvoca.toml").write_text(SETTINGS, encoding="utf-8")
    workflow = 'when asked\n\nnumber events in domes\n  title  "Mirror {number} of {total}"\n'
    (folder / "workflows/go.voca").write_text(workflow, encoding="utf-8")
    data = write_calendar(make_series(), LOW)
    (folder / "domes/s.ics").write_bytes(data)
    begin = time.perf_counter()
    subprocess.run([WHENVOCA, "run", "go"], cwd=folder, check=True, capture_output=True)
    command = time.perf_counter() - begin
    begin = time.perf_counter()
    events = read_events((folder / "domes/s.ics").read_bytes(), ZONE)
    (folder / "copy.ics").write_bytes(add_events(empty_calendar(), events, LOW))
    return command, time.perf_counter() - begin


def make_series() -> Event:
    """A daily series."""
    start = LOW.replace(hour=10)
    return Event(
        uid="s", title="Mirror", start=start, end=start.replace(hour=11), rule=f"FREQ=DAILY;COUNT={OCCURRENCES}"
    )


Reckon = Callable[[Any, datetime], Any]


def compare(what: str, given: Any, high: datetime, ours: Reckon, plain: Reckon) -> None:
    """Prints the medians of several rounds, one after the other; both must give the same."""
    told: dict[str, list[float]] = {"ours": [], "plain": []}
    for _ in range(ROUNDS):
        results = []
        for name, reckon in (("ours", ours), ("plain", plain)):
            begin = time.perf_counter()
            results.append(reckon(given, high))
            told[name].append(time.perf_counter() - begin)
        assert results[0] == results[1]
    mine, bare = (statistics.median(told[name]) for name in ("ours", "plain"))
    print(f"{what}: {mine * 1000:.0f} ms, a plain loop {bare * 1000:.0f} ms, {mine / bare:.2f} times")


def main() -> None:
    """Prints all of it."""
    compare(f"free time of {EVENTS:,} events", make(), LOW + timedelta(days=DAYS), free_times, free_times_plainly)
    years = LOW + timedelta(days=OCCURRENCES + 1)
    compare(f"{OCCURRENCES:,} occurrences numbered", make_series(), years, numbered, numbered_plainly)
    chance = random.Random(5)
    busy = []
    for number in range(5000):
        start = LOW + timedelta(minutes=chance.randrange(365 * 1440))
        busy.append(Event(uid=str(number), start=start, end=start + timedelta(minutes=30)))
    compare(f"{TASKS} tasks around {len(busy):,} events", busy, LOW + timedelta(days=365), spread, spread_plainly)
    with tempfile.TemporaryDirectory() as folder:
        command, bare = run_numbering(Path(folder) / "w")
    print(f"the command over {OCCURRENCES:,} occurrences: {command:.1f} s, reading and writing them {bare:.1f} s")


if __name__ == "__main__":
    main()
