"""Rules that repeat each hour, minute or second (RFC 5545 3.3.10), worked out day by day: a rule of any density, from
whichever year on, costs no more than the days that are asked about."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, datetime, time, timedelta

from whenvoca.errors import RowFault
from whenvoca.values.weekdays import CODES

STEPS = {"HOURLY": 3600, "MINUTELY": 60, "SECONDLY": 1}  # seconds
_KNOWN = {
    "FREQ",
    "INTERVAL",
    "COUNT",
    "UNTIL",
    "WKST",
    "BYDAY",
    "BYMONTHDAY",
    "BYMONTH",
    "BYHOUR",
    "BYMINUTE",
    "BYSECOND",
}
_FILTERS = {"BYDAY", "BYMONTHDAY", "BYMONTH", "BYHOUR", "BYMINUTE", "BYSECOND"}
_MOST_STEPS = 500_000  # that are counted from the start where a COUNT goes with filters


def subdaily(parts: Mapping[str, str], wall: datetime, low: datetime, high: datetime) -> Iterator[datetime]:
    """The wall times from ``low`` to ``high``, both included, of a rule that begins at ``wall``; its UNTIL is heeded by
    whoever asks. Raises RowFault where it would take too long to reckon, ValueError where it is no rule."""
    if odd := parts.keys() - _KNOWN:
        raise RowFault(f"a rule by {sorted(odd)[0]} of each hour or less is not followed")
    rule = _Rule(parts, wall)
    if "COUNT" not in parts:
        return rule.between(max(low, wall), high)
    count = int(parts["COUNT"])
    if not parts.keys() & _FILTERS:
        last = wall + timedelta(seconds=rule.step) * min(count - 1, rule.steps_to(high))
        return rule.between(max(low, wall), min(high, last))
    if rule.steps_to(high) > _MOST_STEPS:
        raise RowFault(f"a COUNT with filters over more than {_MOST_STEPS:,} steps is not followed")
    return _counted(rule.between(wall, high), count, low)


def _counted(found: Iterator[datetime], count: int, low: datetime) -> Iterator[datetime]:
    for _, each in zip(range(count), found, strict=False):
        if each >= low:
            yield each


class _Rule:
    """A rule taken apart: its step in seconds, which days and clocks it takes, and what it makes of each step."""

    def __init__(self, parts: Mapping[str, str], wall: datetime) -> None:
        frequency = parts["FREQ"]
        self.step = STEPS[frequency] * int(parts.get("INTERVAL", "1"))
        if self.step < 1:
            raise ValueError(parts["INTERVAL"])
        self._wall = wall
        weekdays = {CODES.index(each) for each in parts["BYDAY"].split(",")} if "BYDAY" in parts else set()
        self._fits_day = _DayFilter(_numbers(parts, "BYMONTH"), _numbers(parts, "BYMONTHDAY"), weekdays)
        self._hours, minutes, seconds = (_numbers(parts, name) for name in ("BYHOUR", "BYMINUTE", "BYSECOND"))
        # an hour is expanded into minutes and seconds, a minute into seconds (the table of RFC 5545 3.3.10)
        self._minutes = set() if frequency == "HOURLY" else minutes
        self._seconds = seconds if frequency == "SECONDLY" else set()
        self._base = wall if frequency == "SECONDLY" else wall.replace(second=0)
        self._expanded = [(0, 0)]
        if frequency == "MINUTELY":
            self._expanded = [(0, second) for second in sorted(seconds or {wall.second})]
        elif frequency == "HOURLY":
            self._base = self._base.replace(minute=0)
            self._expanded = [
                (minute, second)
                for minute in sorted(minutes or {wall.minute})
                for second in sorted(seconds or {wall.second})
            ]

    def steps_to(self, high: datetime) -> int:
        """How many steps lie before that wall time."""
        return max(0, int((high - self._base).total_seconds()) // self.step)

    def between(self, low: datetime, high: datetime) -> Iterator[datetime]:
        """The wall times between two, both included, in order."""
        day = low.date()
        while day <= high.date():
            if self._fits_day(day):
                yield from self._on(day, low, high)
            day += timedelta(days=1)

    def _on(self, day: date, low: datetime, high: datetime) -> Iterator[datetime]:
        begin = datetime.combine(day, time(), tzinfo=self._wall.tzinfo)
        since = int((begin - self._base).total_seconds())
        moment = self._base + timedelta(seconds=max(0, -(-since // self.step)) * self.step)
        while moment.date() == day and moment <= high:
            if (not self._hours or moment.hour in self._hours) and (
                not self._minutes or moment.minute in self._minutes
            ):
                for minute, second in self._expanded:
                    found = moment + timedelta(minutes=minute, seconds=second)
                    if low <= found <= high and (not self._seconds or found.second in self._seconds):
                        yield found
            moment += timedelta(seconds=self.step)


class _DayFilter:
    """Which days a rule takes by BYMONTH, BYMONTHDAY and BYDAY."""

    def __init__(self, months: set[int], dates: set[int], weekdays: set[int]) -> None:
        self._months, self._dates, self._weekdays = months, dates, weekdays

    def __call__(self, day: date) -> bool:
        if self._months and day.month not in self._months:
            return False
        if self._weekdays and day.weekday() not in self._weekdays:
            return False
        if not self._dates:
            return True
        length = ((day.replace(day=28) + timedelta(days=4)).replace(day=1) - timedelta(days=1)).day
        return day.day in self._dates or day.day - length - 1 in self._dates


def _numbers(parts: Mapping[str, str], name: str) -> set[int]:
    return {int(each) for each in parts[name].split(",")} if name in parts else set()
