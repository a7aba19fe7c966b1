"""Where the time went: bookings divided exactly, and added up by what one chooses.

All is reckoned in seconds that passed, so that a night over a change of the clocks has the hours that it had.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, date, datetime, timedelta
from typing import Literal
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.calendars.event import Event
from whenvoca.values.weekdays import NAMES
from whenvoca.values.zones import first_moment

TIMES = ("hour", "day", "weekday", "week", "month", "quarter")
BY = (*TIMES, "calendar", "location", "category", "title", "person", "organizer")
DATED = ("day", "week", "month", "quarter")  # times that come once
SHARED = ("person", "category")  # one booking may belong to several: each gets its whole hours
MEASURES = ("hours", "count", "share", "moved", "called-off")
COMPARED = ("before", "change")  # measures beside an earlier time
ALTERED = ("moved", "called-off")  # measures that only a ledger knows
Counting = Literal["divided", "start"]

_NUMBERS = re.compile(
    r"\(?#?\b\d+(?:st|nd|rd|th)?(?:\s*(?:of|/|-|–|\.|:)\s*\d+)*\b\)?%?"
    r"|\b(?:january|february|march|april|may|june|july|august|september|october|november|december"
    r"|jan|feb|mar|apr|jun|jul|aug|sep|oct|nov|dec)\b(?=\s*\d|$)",
    re.IGNORECASE,
)
_HOUR, _DAY = timedelta(hours=1), timedelta(days=1)


class Booking(Struct, frozen=True):
    """An occurrence in a calendar, with the time that it takes in UTC."""

    event: Event
    calendar: str
    start: datetime
    end: datetime

    @classmethod
    def of(cls, event: Event, calendar: str, zone: ZoneInfo) -> Booking:
        """That of an event; ``zone`` is the calendar's, for whole days."""
        start, end = (moment.astimezone(UTC) for moment in event.span(zone))
        return cls(event, calendar, start, end)


class Alteration(Struct, frozen=True):
    """What became of a booking: it was moved to another time, or called off. It belongs to the time that it had."""

    kind: Literal["moved", "called-off"]
    booking: Booking


class HoursRow(Struct):
    """One line of a table: its labels, the seconds that it has, how many bookings, what became of others, and the
    seconds that it had ``before``, in an earlier time; None where there is nothing to compare."""

    labels: tuple[str, ...]
    seconds: int = 0
    count: int = 0
    moved: int = 0
    called_off: int = 0
    before: int | None = None

    def note(self, alteration: Alteration) -> None:
        """Counts an alteration."""
        self.moved += alteration.kind == "moved"
        self.called_off += alteration.kind == "called-off"


class HoursTable(Struct, frozen=True):
    """Hours by one thing, or by two crossed."""

    by: tuple[str, ...]
    rows: list[HoursRow]

    @property
    def is_shared(self) -> bool:
        """Whether a booking may stand in several of its lines, so that they add up to more than the total."""
        return any(each in SHARED for each in self.by)


class Report(Struct, frozen=True):
    """The figures of a period: the total, tables, and how many bookings were left out, by why: free, whole_day,
    tentative. ``altered`` is None where nobody knows what was moved and called off."""

    begin: datetime
    end: datetime
    seconds: int
    count: int
    tables: list[HoursTable]
    left_out: Mapping[str, int] = field(default_factory=dict)
    altered: HoursRow | None = None
    before: int | None = None

    @property
    def whole(self) -> HoursRow:
        """The totals as a line."""
        altered = self.altered or HoursRow(())
        return HoursRow((), self.seconds, self.count, altered.moved, altered.called_off, self.before)


class Reckoning(Struct, frozen=True):
    """How a report reckons. ``names`` gives people's names by their addresses in lower case; ``counting`` start takes a
    booking whole where it begins; whole days and what takes no time count only where they are asked for."""

    zone: ZoneInfo
    begin: datetime
    end: datetime
    counting: Counting = "divided"
    whole_days: bool = False
    free: bool = False
    tentative: bool = True
    names: Mapping[str, str] = field(default_factory=dict)
    first_weekday: int = 0  # 0 is Monday


def add_up(
    bookings: Sequence[Booking],
    tables: Sequence[Sequence[str]],
    how: Reckoning,
    alterations: Sequence[Alteration] | None = None,
) -> Report:
    """The report of these bookings, with a table for each list of one or two of ``BY``, and of what became of others;
    ``alterations`` is None where that is not known or not asked."""
    kept, left_out = counted(bookings, how)
    parts = [(booking, *_clipped(booking, how)) for booking in kept]
    total = sum(_seconds(begin, end) for _, begin, end in parts)
    low, high = how.begin.astimezone(UTC), how.end.astimezone(UTC)
    within = [each for each in alterations or () if low <= each.booking.start < high]
    within = [each for each in within if not _why_not(each.booking.event, how)]
    made = [HoursTable(tuple(by), _rows(parts, within, by, how)) for by in tables]
    altered = HoursRow(())
    for each in within:
        altered.note(each)
    return Report(how.begin, how.end, total, len(parts), made, left_out, None if alterations is None else altered)


def counted(bookings: Sequence[Booking], how: Reckoning) -> tuple[list[Booking], dict[str, int]]:
    """The bookings that count, in order, and how many do not, by why."""
    found: list[Booking] = []
    left_out: dict[str, int] = {}
    low, high = how.begin.astimezone(UTC), how.end.astimezone(UTC)
    for each in bookings:
        if each.end <= low or each.start >= high or (how.counting == "start" and each.start < low):
            continue
        why = _why_not(each.event, how)
        if why:
            left_out[why] = left_out.get(why, 0) + 1
        else:
            found.append(each)
    return sorted(found, key=lambda each: (each.start, each.calendar, each.event.uid)), left_out


def _why_not(event: Event, how: Reckoning) -> str:
    if event.busy == "no" and not how.free:
        return "free"
    if event.is_whole_day and not how.whole_days:
        return "whole_day"
    return "tentative" if event.busy == "tentative" and not how.tentative else ""


def _clipped(booking: Booking, how: Reckoning) -> tuple[datetime, datetime]:
    if how.counting == "start":
        return booking.start, booking.end
    return max(booking.start, how.begin.astimezone(UTC)), min(booking.end, how.end.astimezone(UTC))


def _rows(
    parts: Sequence[tuple[Booking, datetime, datetime]],
    alterations: Sequence[Alteration],
    by: Sequence[str],
    how: Reckoning,
) -> list[HoursRow]:
    cut = _cut_by(by) if how.counting == "divided" else None
    of = Labels([booking for booking, *_ in parts] + [each.booking for each in alterations], by, how)
    found: dict[tuple[str, ...], HoursRow] = {}
    for booking, begin, end in parts:
        seen: set[tuple[str, ...]] = set()
        for low, high in cut(begin, end, how.zone) if cut else ((begin, end),):
            for labels in of(booking, low):
                row = found.setdefault(labels, HoursRow(labels))
                row.seconds += _seconds(low, high)
                row.count += labels not in seen
                seen.add(labels)
    for each in alterations:
        for labels in of(each.booking, each.booking.start):
            found.setdefault(labels, HoursRow(labels)).note(each)
    return sorted(found.values(), key=lambda row: _place(row, by, how))


def _place(row: HoursRow, by: Sequence[str], how: Reckoning) -> tuple[object, ...]:
    """Times in their order; of all else the most hours first."""
    parts: list[object] = []
    for name, label in zip(by, row.labels, strict=True):
        if name == "weekday":
            parts.append((NAMES.index(label.lower()) - how.first_weekday) % 7)
        elif name in TIMES:
            parts.append(label)
    return (*parts, *(() if parts else (-row.seconds,)), row.labels)


def _crossed(labels: Sequence[Sequence[str]]) -> Iterator[tuple[str, ...]]:
    if len(labels) == 1:
        yield from ((each,) for each in labels[0])
        return
    for first in labels[0]:
        yield from ((first, *rest) for rest in _crossed(labels[1:]))


# --- dividing


Cut = Callable[[datetime, datetime, ZoneInfo], Iterator[tuple[datetime, datetime]]]


def _cut_by(by: Sequence[str]) -> Cut | None:
    if "hour" in by:
        return _by_hours
    return _by_days if any(each in TIMES for each in by) else None


def _by_days(begin: datetime, end: datetime, zone: ZoneInfo) -> Iterator[tuple[datetime, datetime]]:
    """The parts of a stretch on each day of a zone."""
    while begin < end:
        following = first_moment(begin.astimezone(zone).date() + _DAY, zone).astimezone(UTC)
        stop = min(end, max(following, begin + timedelta(seconds=1)))
        yield begin, stop
        begin = stop


def _by_hours(begin: datetime, end: datetime, zone: ZoneInfo) -> Iterator[tuple[datetime, datetime]]:
    """The parts of a stretch in each hour of a zone's clock."""
    while begin < end:
        local = begin.astimezone(zone)
        left = _HOUR - timedelta(minutes=local.minute, seconds=local.second, microseconds=local.microsecond)
        stop = min(end, begin + left)
        yield begin, stop
        begin = stop


def _seconds(begin: datetime, end: datetime) -> int:
    return round((end - begin).total_seconds())


# --- labels


class Labels:
    """Where parts of bookings belong. Labels that differ in capitals only are one, spelled as most bookings do."""

    def __init__(self, bookings: Sequence[Booking], by: Sequence[str], how: Reckoning) -> None:
        self._by, self._how = by, how
        self._spelling: dict[str, dict[str, str]] = {}
        for name in by:
            if name not in TIMES:
                counts = Counter(label for each in bookings for label in _labels(name, each, each.start, how))
                best = sorted(counts, key=lambda label: (counts[label], label))
                self._spelling[name] = {label.casefold(): label for label in best}

    def __call__(self, booking: Booking, at: datetime) -> Iterator[tuple[str, ...]]:
        """The labels of the part that begins then, one of each thing that the table goes by."""
        local = at.astimezone(self._how.zone)
        return _crossed([self._spelled(name, _labels(name, booking, local, self._how)) for name in self._by])

    def _spelled(self, name: str, labels: Sequence[str]) -> Sequence[str]:
        spelling = self._spelling.get(name)
        return labels if spelling is None else tuple(dict.fromkeys(spelling[each.casefold()] for each in labels))


def _labels(name: str, booking: Booking, local: datetime, how: Reckoning) -> Sequence[str]:
    """Where a part of a booking belongs; an empty text where it says nothing of that."""
    event = booking.event
    match name:
        case "hour":
            return (f"{local:%H}:00",)
        case "day":
            return (f"{local:%Y-%m-%d}",)
        case "weekday":
            return (f"{local:%A}",)
        case "week":
            return (_week(local.date(), how.first_weekday),)
        case "month":
            return (f"{local:%Y-%m}",)
        case "quarter":
            return (f"{local:%Y}-Q{(local.month + 2) // 3}",)
        case "calendar":
            return (booking.calendar,)
        case "location":
            return (" ".join(event.location.split()),)
        case "category":
            return tuple(dict.fromkeys(event.categories)) or ("",)
        case "title":
            return ("private" if event.private else fold_title(event.title),)
        case "organizer":
            return (how.names.get(event.organizer.lower(), event.organizer.lower()),)
    people = [each.address.lower() for each in event.attendees if each.answer.upper() != "DECLINED"]
    return tuple(dict.fromkeys(how.names.get(each, each) for each in people)) or ("",)


def _week(day: date, starts: int) -> str:
    """The ISO week; of weeks that begin on another day the one of their first Monday or later."""
    year, week, _ = (
        day - timedelta(days=(day.weekday() - starts) % 7) + timedelta(days=(7 - starts) % 7)
    ).isocalendar()
    return f"{year}-W{week:02}"


def fold_title(title: str) -> str:
    """What a title is without its numbers and dates, so that "Mirror cleaning 3 of 9" is one kind."""
    plain = " ".join(_NUMBERS.sub(" ", title).split())
    return plain.strip(" -–:,·/()#") or title.strip()
