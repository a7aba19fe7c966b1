"""VTIMEZONE components (RFC 5545 3.6.5) from the system's zone data, as short as the zone allows."""

from __future__ import annotations

import calendar
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple
from zoneinfo import ZoneInfo

from whenvoca.values.file_zones import FileZone
from whenvoca.values.weekdays import CODES
from whenvoca.values.zones import load_zone

_YEARS_LOOKED_AT = 12


class _Change(NamedTuple):
    wall: datetime  # in the offset that ends, naive: what DTSTART of the new observance holds
    before: timedelta
    after: timedelta
    name: str
    is_summer: bool


def vtimezone_lines(zone: ZoneInfo | FileZone, year: int) -> tuple[str, ...]:
    """The component's lines for events of ``year`` and after; of a zone that a file defines as it stood there."""
    return tuple(zone.text.split("\n")) if isinstance(zone, FileZone) else _system_lines(zone.key, year)


@lru_cache(maxsize=256)
def _system_lines(zone_name: str, year: int) -> tuple[str, ...]:
    changes = _changes(zone_name, year)
    lines = ["BEGIN:VTIMEZONE", f"TZID:{zone_name}"]
    if not changes:
        zone = load_zone(zone_name)
        there = datetime(year, 1, 1, tzinfo=zone)
        offset = there.utcoffset() or timedelta()
        lines += _observance("STANDARD", datetime(1970, 1, 1), offset, offset, there.tzname() or zone_name, "")
    elif rules := _yearly_rules(changes):
        for change, rule in rules:
            kind = "DAYLIGHT" if change.is_summer else "STANDARD"
            lines += _observance(kind, change.wall, change.before, change.after, change.name, rule)
    else:
        first = changes[0]
        lines += _observance("STANDARD", datetime(1970, 1, 1), first.before, first.before, "LMT", "")
        for change in changes:
            kind = "DAYLIGHT" if change.is_summer else "STANDARD"
            lines += _observance(kind, change.wall, change.before, change.after, change.name, "")
    return (*lines, "END:VTIMEZONE")


def _observance(kind: str, wall: datetime, before: timedelta, after: timedelta, name: str, rule: str) -> list[str]:
    lines = [
        f"BEGIN:{kind}",
        f"DTSTART:{wall:%Y%m%dT%H%M%S}",
        f"TZOFFSETFROM:{_offset(before)}",
        f"TZOFFSETTO:{_offset(after)}",
        f"TZNAME:{name}",
    ]
    return [*lines, *([f"RRULE:{rule}"] if rule else []), f"END:{kind}"]


def _offset(offset: timedelta) -> str:
    total = int(offset.total_seconds())
    sign = "-" if total < 0 else "+"
    hours, rest = divmod(abs(total), 3600)
    seconds = f"{rest % 60:02d}" if rest % 60 else ""
    return f"{sign}{hours:02d}{rest // 60:02d}{seconds}"


def _changes(zone_name: str, year: int) -> list[_Change]:
    """Every change of the clocks from the year before on, for as many years as tell the rule."""
    zone = load_zone(zone_name)
    begin = datetime(year - 1, 1, 1, tzinfo=UTC)
    days = [begin + timedelta(days=n) for n in range(366 * _YEARS_LOOKED_AT)]
    found = []
    for low, high in pairwise(days):
        if low.astimezone(zone).utcoffset() == high.astimezone(zone).utcoffset():
            continue
        before = low.astimezone(zone).utcoffset() or timedelta()
        while high - low > timedelta(minutes=1):
            middle = low + (high - low) / 2
            middle = middle.replace(second=0, microsecond=0)
            if middle in (low, high):
                break
            if middle.astimezone(zone).utcoffset() == before:
                low = middle
            else:
                high = middle
        there = high.astimezone(zone)
        after = there.utcoffset() or timedelta()
        wall = (high + before).replace(tzinfo=None)
        found.append(_Change(wall, before, after, there.tzname() or zone_name, bool(there.dst())))
    return found


def _yearly_rules(changes: list[_Change]) -> list[tuple[_Change, str]]:
    """The first change of each kind with its yearly rule, or nothing if the zone keeps no rule."""
    by_kind: dict[tuple[timedelta, timedelta], list[_Change]] = {}
    for change in changes:
        by_kind.setdefault((change.before, change.after), []).append(change)
    if len(by_kind) != 2:
        return []
    found = []
    for same in by_kind.values():
        years = [change.wall.year for change in same]
        if len(same) < _YEARS_LOOKED_AT - 2 or years != list(range(years[0], years[0] + len(years))):
            return []
        rule = _rule_of(same)
        if not rule:
            return []
        found.append((same[0], rule))
    return found


def _rule_of(same: list[_Change]) -> str:
    months = {change.wall.month for change in same}
    weekdays = {change.wall.weekday() for change in same}
    clocks = {change.wall.time() for change in same}
    if len(months) != 1 or len(weekdays) != 1 or len(clocks) != 1:
        return ""
    day = CODES[weekdays.pop()]
    month = months.pop()
    if all(change.wall.day + 7 > calendar.monthrange(change.wall.year, month)[1] for change in same):
        return f"FREQ=YEARLY;BYMONTH={month};BYDAY=-1{day}"
    ordinals = {(change.wall.day - 1) // 7 + 1 for change in same}
    return f"FREQ=YEARLY;BYMONTH={month};BYDAY={ordinals.pop()}{day}" if len(ordinals) == 1 else ""
