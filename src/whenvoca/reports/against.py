"""A report beside the one of an earlier time."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from dateutil.relativedelta import relativedelta
from msgspec.structs import replace

from whenvoca.reports.hours import HoursRow, HoursTable, Report
from whenvoca.reports.hours_words import is_dated
from whenvoca.values.zones import first_moment

EARLIER = ("before", "year-before")
_NOTHING = HoursRow(())


def earlier_period(begin: datetime, end: datetime, zone: ZoneInfo, which: str) -> tuple[datetime, datetime]:
    """The time of the same length just before, whole months before whole months; or the same days a year earlier."""
    first, last = begin.astimezone(zone), end.astimezone(zone)
    if which == "year-before":
        back = relativedelta(years=1)
        return _moved(first, back, zone), _moved(last, back, zone)
    if first.day == last.day == 1 and first.time() == last.time() == datetime.min.time():
        months = (last.year - first.year) * 12 + last.month - first.month
        return _moved(first, relativedelta(months=months), zone), first
    days = max(1, (last.date() - first.date()).days)
    return _moved(first, relativedelta(days=days), zone), first


def _moved(moment: datetime, back: relativedelta, zone: ZoneInfo) -> datetime:
    """As long before, at the same time of day."""
    day = moment.date() - back
    return first_moment(day, zone) + timedelta(seconds=_seconds_of_day(moment, zone))


def _seconds_of_day(moment: datetime, zone: ZoneInfo) -> float:
    return (moment - first_moment(moment.date(), zone)).total_seconds()


def beside(report: Report, earlier: Report) -> Report:
    """The report with what each of its lines had in an earlier one, where lines have the same name in both: days,
    weeks, months and quarters have not."""
    tables = [_beside(*both) for both in zip(report.tables, earlier.tables, strict=True)]
    return replace(report, tables=tables, before=earlier.seconds)


def _beside(table: HoursTable, earlier: HoursTable) -> HoursTable:
    if is_dated(table):
        return table
    had = {_folded(row): row for row in earlier.rows}
    rows = [replace(row, before=had.pop(_folded(row), _NOTHING).seconds) for row in table.rows]
    rows += [HoursRow(row.labels, before=row.seconds) for row in had.values()]
    return HoursTable(table.by, rows)


def _folded(row: HoursRow) -> tuple[str, ...]:
    return tuple(label.casefold() for label in row.labels)
