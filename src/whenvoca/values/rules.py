"""The wall times that a rule of repetition gives (RFC 5545 3.3.10): by arithmetic for the common rules, by dateutil for
the rest.

dateutil is the oracle: property tests hold the arithmetic against it. A thousand weekly series over a year take the
arithmetic a tenth of dateutil's time and less.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from itertools import accumulate, repeat
from typing import Any

from whenvoca.errors import RowFault
from whenvoca.values.subdaily import STEPS, subdaily
from whenvoca.values.weekdays import CODES

_PLAIN_PARTS = {"FREQ", "INTERVAL", "COUNT", "UNTIL", "WKST", "BYDAY", "BYMONTHDAY"}
_NEVER_EMPTY = {"FREQ", "INTERVAL", "COUNT", "UNTIL", "WKST", "BYDAY"}
_LONGEST_RULE = 10_000  # signs
_LONGEST = 400 * 12  # months that a monthly rule is followed


def walls_between(rule: str, wall: datetime, low: datetime, high: datetime, zone: Any) -> Iterator[datetime]:
    """The wall times of a rule that begins at ``wall``, from ``low`` to ``high``, both included, in order.

    All are naive, or all carry ``zone``: Python reckons and compares times of one zone by the wall clock. An UNTIL in
    UTC is read in ``zone``. Raises RowFault if the text is no rule.
    """
    parts = _parts_of(rule)
    make = _PLAIN.get(parts.get("FREQ", ""))
    try:
        until = _until_wall(parts["UNTIL"], zone).replace(tzinfo=wall.tzinfo) if "UNTIL" in parts else None
        last = min(high, until) if until else high
        if parts.get("FREQ") in STEPS:
            return subdaily(parts, wall, low, last)
        if make is not None and parts.keys() <= _PLAIN_PARTS:
            found = make(parts, wall, low, last)
            if found is not None:
                return iter(found)
    except (ValueError, OverflowError) as error:
        raise RowFault(f'"{rule}" is no rule of repetition (RRULE)') from error
    return _by_dateutil(rule, wall, low, high, zone)


@lru_cache(maxsize=4096)
def _parts_of(rule: str) -> dict[str, str]:
    pairs = (part.partition("=") for part in rule.upper().split(";") if part)
    return {name: value for name, _, value in pairs}


def _by_dateutil(rule: str, wall: datetime, low: datetime, high: datetime, zone: Any) -> Iterator[datetime]:
    carried = wall.tzinfo
    low, high = low.replace(tzinfo=None), high.replace(tzinfo=None)
    begin = _nearer(_parts_of(rule), wall.replace(tzinfo=None), low)
    for each in parse_rule(rule, begin, zone).xafter(low, inc=True):
        if each > high:
            return
        yield each.replace(tzinfo=carried)


def _nearer(parts: dict[str, str], wall: datetime, low: datetime) -> datetime:
    """A start of the same rule nearer to ``low``, so that dateutil does not go through centuries; the same one where it
    counts from its start, or its other parts hang on it."""
    if "COUNT" in parts or low.year - wall.year < 2:
        return wall
    interval = _interval(parts)
    match parts.get("FREQ"):
        case "DAILY":
            return wall + timedelta(days=interval) * ((low - wall) // timedelta(days=interval) - 1)
        case "WEEKLY":
            return wall + timedelta(weeks=interval) * ((low - wall) // timedelta(weeks=interval) - 1)
        case "MONTHLY" if "BYDAY" in parts or "BYMONTHDAY" in parts:
            months = ((low.year - wall.year) * 12 + low.month - wall.month) // interval * interval - interval
            year, month = divmod(wall.year * 12 + wall.month - 1 + months, 12)
            return wall.replace(year=year, month=month + 1, day=1)
        case "YEARLY" if "BYWEEKNO" not in parts and (wall.month, wall.day) != (2, 29):
            return wall.replace(year=wall.year + (low.year - wall.year) // interval * interval - interval)
    return wall


def _daily(parts: dict[str, str], wall: datetime, low: datetime, high: datetime) -> list[datetime] | None:
    if "BYDAY" in parts or "BYMONTHDAY" in parts:
        return None
    return _stepped(wall, timedelta(days=_interval(parts)), low, high, _count(parts))


def _weekly(parts: dict[str, str], wall: datetime, low: datetime, high: datetime) -> list[datetime] | None:
    if "BYMONTHDAY" in parts:
        return None
    step, count = timedelta(weeks=_interval(parts)), _count(parts)
    first = CODES.index(parts.get("WKST", "MO"))
    names = parts.get("BYDAY", CODES[wall.weekday()]).split(",")
    days = sorted({(CODES.index(name) - first) % 7 for name in names})
    own = (wall.weekday() - first) % 7
    if len(days) == 1:
        offset = (days[0] - own) % 7 if days[0] >= own else None
        begin = wall + timedelta(days=offset) if offset is not None else wall + step + timedelta(days=days[0] - own)
        return _stepped(begin, step, low, high, count)
    week = wall - timedelta(days=own)
    skipped = sum(1 for day in days if day < own)  # days of the first week that lie before the start
    skip = max(0, (low - week) // step) if low > week else 0
    found: list[datetime] = []
    number = skip * len(days) - skipped  # how many came before this week
    week += skip * step
    while week <= high:
        for day in days:
            moment = week + timedelta(days=day)
            if moment < wall:
                continue
            index = number + days.index(day)
            if (count is not None and index >= count) or moment > high:
                return found
            if moment >= low:
                found.append(moment)
        number += len(days)
        week += step
    return found


def _monthly(parts: dict[str, str], wall: datetime, low: datetime, high: datetime) -> list[datetime] | None:
    if "BYDAY" in parts and "BYMONTHDAY" in parts:
        return None
    by_day, by_date = parts.get("BYDAY", ""), parts.get("BYMONTHDAY", str(wall.day))
    if "," in by_day or "," in by_date or (by_day and by_day[:-2] in ("", "0")):
        return None
    found, made, count = [], 0, _count(parts)
    for index in range(_LONGEST):
        year, month = divmod(wall.year * 12 + wall.month - 1 + index * _interval(parts), 12)
        if year > 9998 or (year, month + 1) > (high.year, high.month):
            break
        day = _nth_weekday(year, month + 1, by_day) if by_day else _day_of_month(year, month + 1, int(by_date))
        if day is None:
            continue
        moment = wall.replace(year=year, month=month + 1, day=day)
        if moment < wall:
            continue
        if moment > high or (count is not None and made >= count):
            break
        made += 1
        if moment >= low:
            found.append(moment)
    return found


def _yearly(parts: dict[str, str], wall: datetime, low: datetime, high: datetime) -> list[datetime] | None:
    if "BYDAY" in parts or "BYMONTHDAY" in parts or (wall.month, wall.day) == (2, 29):
        return None
    found, count = [], _count(parts)
    for made, year in enumerate(range(wall.year, high.year + 1, _interval(parts))):
        moment = wall.replace(year=year)
        if moment > high or (count is not None and made >= count):
            break
        if moment >= low:
            found.append(moment)
    return found


_PLAIN = {"DAILY": _daily, "WEEKLY": _weekly, "MONTHLY": _monthly, "YEARLY": _yearly}


def _stepped(wall: datetime, step: timedelta, low: datetime, high: datetime, count: int | None) -> list[datetime]:
    if high < wall:
        return []
    first = max(0, -((wall - low) // step)) if low > wall else 0
    last = (high - wall) // step
    if count is not None:
        last = min(last, count - 1)
    if last < first:
        return []
    steps: Any = repeat(step, last - first)
    return list(accumulate(steps, initial=wall + first * step))


def _interval(parts: dict[str, str]) -> int:
    interval = int(parts.get("INTERVAL", "1"))
    if interval < 1:
        raise ValueError(interval)
    return interval


def _count(parts: dict[str, str]) -> int | None:
    return int(parts["COUNT"]) if "COUNT" in parts else None


@lru_cache(maxsize=4096)
def _length_of_month(year: int, month: int) -> int:
    following = date(year + month // 12, month % 12 + 1, 1)
    return (following - timedelta(days=1)).day


def _day_of_month(year: int, month: int, number: int) -> int | None:
    length = _length_of_month(year, month)
    day = number if number > 0 else length + 1 + number
    return day if 1 <= day <= length else None


def _nth_weekday(year: int, month: int, text: str) -> int | None:
    number, weekday = int(text[:-2]), CODES.index(text[-2:])
    first = 1 + (weekday - date(year, month, 1).weekday()) % 7
    days = list(range(first, _length_of_month(year, month) + 1, 7))
    index = number - 1 if number > 0 else len(days) + number
    return days[index] if 0 <= index < len(days) else None


@lru_cache(maxsize=4096)
def _until_wall(value: str, zone: Any) -> datetime:
    text = _local_until(value, zone)
    return datetime(int(text[:4]), int(text[4:6]), int(text[6:8]), int(text[9:11]), int(text[11:13]), int(text[13:15]))


def first_wall(rule: str, wall: datetime, zone: Any) -> datetime | None:
    """The first wall time of a rule that begins at ``wall``; None if there is none.

    Raises RowFault if the text is no rule, or one that repeats more often than each hour.
    """
    parts = _parts_of(rule)
    often = parts.get("FREQ") in ("SECONDLY", "MINUTELY") or "BYSECOND" in parts or "," in parts.get("BYMINUTE", "")
    if often:
        raise RowFault(f'"{rule}" repeats more often than each hour', fix="calendars are not made for that")
    try:
        _interval(parts)
    except ValueError as error:
        raise RowFault(f'"{rule}" is no rule of repetition (RRULE): its INTERVAL is none') from error
    later = _years_to_the_last(wall.year)
    endless = ";".join(f"{name}={value}" for name, value in parts.items() if name not in ("COUNT", "UNTIL"))
    found = next(iter(parse_rule(endless, wall.replace(year=wall.year + later), zone)), None)
    if found is None:
        return None
    first: datetime = found.replace(year=found.year - later)
    return None if "UNTIL" in parts and first > _until_wall(parts["UNTIL"], zone) else first


@lru_cache(maxsize=4096)
def refuse_unusable_rule(rule: str, wall: datetime, zone: Any) -> None:
    """Raises RowFault for a rule that is none, that gives nothing from ``wall`` on, or that nobody can follow."""
    if len(rule) > _LONGEST_RULE:
        raise RowFault(
            f"its rule of repetition (RRULE) has {len(rule):,} signs, and {_LONGEST_RULE:,} are read at most"
        )
    parts = _parts_of(rule)
    try:
        if _interval(parts) < 1 or (_count(parts) or 1) < 1:
            raise ValueError
    except ValueError as error:
        raise RowFault(
            f'"{rule}" is no rule of repetition (RRULE): COUNT and INTERVAL are numbers from 1 on'
        ) from error
    try:
        if parts.get("FREQ") in STEPS:
            next(walls_between(rule, wall, wall, wall + timedelta(days=1), zone), None)
            return
        if parts.keys() <= _NEVER_EMPTY:
            next(walls_between(rule, wall, wall, wall, zone), None)
            return
        if (
            first_wall(";".join(f"{name}={value}" for name, value in parts.items() if name != "UNTIL"), wall, zone)
            is None
        ):
            raise RowFault(f'"{rule}" gives no day at all')
    except (ValueError, OverflowError) as error:
        raise RowFault(f'"{rule}" is no rule of repetition (RRULE)') from error


def _years_to_the_last(year: int) -> int:
    """How much later the same calendar comes again at the end of time: there dateutil, which looks for a rule that
    gives nothing up to the year 9999, is soon through. From 1901 to 2099 years are alike after 28, and 1901 to 1999 are
    like 9901 to 9999."""
    return 8000 - 28 * max(0, -(-(year - 1989) // 28)) if 1901 <= year <= 2099 else 0


def parse_rule(text: str, wall: datetime, zone: Any) -> Any:
    """dateutil's rule of an RRULE value on naive wall times. Raises RowFault if it is none."""
    from dateutil.rrule import rrulestr

    parts = [part for part in text.split(";") if part]
    plain = []
    for part in parts:
        name, _, value = part.partition("=")
        if name.upper() == "UNTIL":
            value = _local_until(value, zone)
        plain.append(f"{name}={value}")
    try:
        return rrulestr(";".join(plain), dtstart=wall, ignoretz=True)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise RowFault(f'"{text}" is no rule of repetition (RRULE)') from error


def _local_until(value: str, zone: Any) -> str:
    """UNTIL as a wall time of the event's zone; a date takes its whole day."""
    if len(value) == 8:
        return value + "T235959"
    if value.endswith("Z"):
        moment = datetime.strptime(value, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
        return moment.astimezone(zone).strftime("%Y%m%dT%H%M%S")
    return value
