"""Working days: spans that leave out weekends and days off."""

from __future__ import annotations

from collections.abc import Container
from datetime import date, datetime, timedelta

from msgspec import Struct

from whenvoca.errors import RowFault
from whenvoca.values.durations import Duration, add_to_moment

_SATURDAY = 5
_MOST = 5000  # about twenty years
_LONGEST_BREAK = 366  # days off in a row


class Weekends:
    """Saturdays and Sundays."""

    def __contains__(self, day: object) -> bool:
        return isinstance(day, date) and day.weekday() >= _SATURDAY


WEEKENDS = Weekends()


class WorkingDays(Struct, frozen=True):
    """So many working days, negative for backwards; ``off`` are the days that are none."""

    count: int
    off: Container[date]

    def __neg__(self) -> WorkingDays:
        return WorkingDays(-self.count, self.off)

    def __str__(self) -> str:
        return f"{self.count} working day{'s' * (abs(self.count) != 1)}"

    def after(self, start: date) -> date:
        """The working day so many after the date, or the moment at the same time of that day.

        Raises RowFault if there are too many, no day is a working day, or the clocks leave that time out.
        """
        if abs(self.count) > _MOST:
            raise RowFault(f"{self} are too many", fix=f"{_MOST:,} at most")
        first = start.date() if isinstance(start, datetime) else start
        step = timedelta(days=1 if self.count > 0 else -1)
        day = first
        for _ in range(abs(self.count)):
            day = self._next(day, step)
        return add_to_moment(start, Duration(days=(day - first).days)) if isinstance(start, datetime) else day

    def _next(self, day: date, step: timedelta) -> date:
        for _ in range(_LONGEST_BREAK):
            day += step
            if day not in self.off:
                return day
        raise RowFault(
            f"there is no working day within a year of {day:%Y-%m-%d}", fix="look at days-off in [workspace]"
        )
