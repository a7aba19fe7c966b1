"""`days-off` in [workspace]: which days are no working days, besides weekends."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any, Never
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import expand_events
from whenvoca.errors import RowFault, SourceFault
from whenvoca.values.working_days import WEEKENDS
from whenvoca.values.zones import first_moment

_SUCH_AS = 'such as days-off = ["2027-04-02"], or the name of a calendar file: days-off = "days-off.ics"'


class DaysOff:
    """Weekends, single days, and the whole days of the events of a calendar file, which is read again when it has
    changed."""

    def __init__(self, days: frozenset[date] = frozenset(), file: Path | None = None, zone: ZoneInfo | None = None):
        self._days, self._file, self._zone = days, file, zone or ZoneInfo("UTC")
        self._stamp: tuple[int, int] | None = None
        self._events: list[Event] = []
        self._years: dict[int, frozenset[date]] = {}

    def __contains__(self, day: object) -> bool:
        if not isinstance(day, date):
            return False
        return day in WEEKENDS or day in self._days or (self._file is not None and day in self._of_year(day.year))

    def read(self) -> None:
        """Reads the file, if there is one and it has changed. Raises RowFault where it cannot be read."""
        if self._file is None:
            return
        try:
            found = self._file.stat()
            stamp = (found.st_mtime_ns, found.st_size)
            if stamp != self._stamp:
                self._events = read_events(self._file.read_bytes(), self._zone, file=self._file.name)
                self._stamp, self._years = stamp, {}
        except OSError as error:
            raise RowFault(f"the days off cannot be read: {self._file.name}: {error.strerror}") from error
        except SourceFault as fault:
            raise RowFault(f"the days off cannot be read: {fault}") from fault

    def _of_year(self, year: int) -> frozenset[date]:
        self.read()
        if year not in self._years:
            low, high = (first_moment(date(each, 1, 1), self._zone) for each in (year, year + 1))
            found = expand_events([each for each in self._events if each.is_whole_day], low, high, self._zone)
            self._years[year] = frozenset(day for each in found if not each.cancelled for day in _days_of(each))
        return self._years[year]


def _days_of(event: Event) -> list[date]:
    first = event.start
    return [first + timedelta(days=number) for number in range((event.last_day - first).days + 1)]


def read_days_off(folder: Path, given: Any, zone: ZoneInfo, refuse: Callable[[str, str], Never]) -> DaysOff:
    """The days off as the setting says them: a list of dates, or a calendar file. ``refuse`` raises SettingsFault."""
    if isinstance(given, str):
        found = DaysOff(file=folder / given, zone=zone)
        try:
            found.read()
        except RowFault as fault:
            refuse(fault.message, fault.fix or _SUCH_AS)
        return found
    if not isinstance(given, list):
        refuse(f"days-off = {given!r} is neither a list of dates nor a file", _SUCH_AS)
    days = set()
    for each in given:
        day = each.date() if isinstance(each, datetime) else each
        try:
            days.add(day if isinstance(day, date) else date.fromisoformat(str(day)))
        except ValueError:
            refuse(f'days-off: "{each}" is no date', "such as 2027-04-02")
    return DaysOff(frozenset(days))
