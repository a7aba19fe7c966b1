"""A week laid out: which piece of which event stands on which day, side by side where they overlap."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.calendars.event import Event
from whenvoca.values.weekdays import NAMES
from whenvoca.values.zones import first_moment


class ShownEvent(Struct, frozen=True):
    """An occurrence with the calendar that it stands in."""

    event: Event
    calendar: str


class DayPart(Struct, frozen=True):
    """The part of an occurrence that lies on one day: hours from 0 to 24, and its lane among those that overlap."""

    shown: ShownEvent
    day: int
    begin: float
    end: float
    lane: int
    lanes: int
    is_first: bool


class Week(Struct, frozen=True):
    """Seven days from ``first``: timed pieces, and whole-day events as (shown, first day, last day) within the week."""

    first: date
    pieces: tuple[DayPart, ...]
    whole: tuple[tuple[ShownEvent, int, int], ...]


def lay_out_week(shown: Sequence[ShownEvent], first: date, zone: ZoneInfo) -> Week:
    """The week that begins on ``first``, in ``zone``."""
    whole, raw = [], []
    for each in shown:
        if each.event.is_whole_day:
            start = each.event.start if not isinstance(each.event.start, datetime) else each.event.start.date()
            low, high = (start - first).days, (each.event.last_day - first).days
            if high >= 0 and low < 7:
                whole.append((each, max(0, low), min(6, high)))
        else:
            raw += [(each, *part) for part in _parts(each, first, zone)]
    pieces: list[DayPart] = []
    for day in range(7):
        pieces += _in_lanes([part for part in raw if part[1] == day])
    return Week(first, tuple(pieces), tuple(sorted(whole, key=lambda item: (item[1], -item[2]))))


def _parts(shown: ShownEvent, first: date, zone: ZoneInfo) -> list[tuple[int, float, float, bool]]:
    start, end = (moment.astimezone(zone) for moment in shown.event.span(zone))
    found = []
    for day in range(7):
        low = first_moment(first + timedelta(days=day), zone)
        high = first_moment(first + timedelta(days=day + 1), zone)
        if start < high and (end > low or start == end >= low):
            begin = _hours(start) if start >= low else 0.0
            until = _hours(end) if end < high else 24.0
            found.append((day, begin, max(until, begin + 0.25), start >= low))
    return found


def _hours(moment: datetime) -> float:
    return moment.hour + moment.minute / 60


def _in_lanes(parts: list[tuple[ShownEvent, int, float, float, bool]]) -> list[DayPart]:
    """Pieces of one day, those that overlap side by side."""
    parts = sorted(parts, key=lambda part: (part[2], -part[3]))
    clusters: list[list[tuple[tuple[ShownEvent, int, float, float, bool], int]]] = []
    ends: list[float] = []
    for part in parts:
        if not clusters or part[2] >= max(ends):
            clusters.append([])
            ends = []
        lane = next((index for index, end in enumerate(ends) if part[2] >= end), len(ends))
        ends[lane : lane + 1] = [part[3]]
        clusters[-1].append((part, lane))
    found = []
    for cluster in clusters:
        lanes = max(lane for _, lane in cluster) + 1
        found += [
            DayPart(shown, day, begin, end, lane, lanes, is_first)
            for (shown, day, begin, end, is_first), lane in cluster
        ]
    return found


def monday_of(day: date, starts: str = "monday") -> date:
    """The first day of the week that holds ``day``."""
    begin = NAMES.index(starts) if starts in NAMES else 0
    return day - timedelta(days=(day.weekday() - begin) % 7)


def shown_hours(week: Week) -> tuple[int, int]:
    """The hours worth showing: those that something takes, at least from 8 to 18."""
    if not week.pieces:
        return 8, 18
    low = min(8, *(int(piece.begin) for piece in week.pieces), 24)
    high = max(18, *(int(piece.end + 0.999) for piece in week.pieces), 0)
    return low, min(24, high)


def bar_rows(week: Week) -> list[int]:
    """The row of each whole-day event, so that none covers another."""
    taken: list[list[bool]] = []
    found = []
    for _, low, high in week.whole:
        row = next((number for number, days in enumerate(taken) if not any(days[low : high + 1])), len(taken))
        if row == len(taken):
            taken.append([False] * 7)
        taken[row][low : high + 1] = [True] * (high - low + 1)
        found.append(row)
    return found


PALETTE = ("steelblue", "seagreen", "darkorange", "mediumpurple", "crimson", "teal", "goldenrod", "slategray")


def colour_of(shown: ShownEvent, calendars: Sequence[str]) -> str:
    """The event's own colour, else its calendar's."""
    return shown.event.colour or PALETTE[list(calendars).index(shown.calendar) % len(PALETTE)]


def time_label(event: Event, zone: ZoneInfo) -> str:
    """ "21:30–02:00", in that zone."""
    start, end = (moment.astimezone(zone) for moment in event.span(zone))
    return f"{start:%H:%M}–{end:%H:%M}"
