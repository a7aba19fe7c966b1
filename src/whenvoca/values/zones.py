"""Zones, and the hours that a change of the clocks skips or gives twice.

Every moment outside this folder is aware; here naive wall times are joined with a zone, once and visibly.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from typing import TypeVar
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from whenvoca.errors import RowFault, SettingsFault


@lru_cache(maxsize=64)
def load_zone(name: str) -> ZoneInfo:
    """The zone of that IANA name. Raises SettingsFault with the nearest names if there is none."""
    try:
        if not name or name.startswith("/") or ".." in name:
            raise ZoneInfoNotFoundError(name)
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        from difflib import get_close_matches
        from zoneinfo import available_timezones

        near = get_close_matches(name, sorted(available_timezones()), n=2, cutoff=0.6)
        fix = f"did you mean {' or '.join(near)}?" if near else 'write an IANA name such as "Europe/Lisbon"'
        raise SettingsFault(f'there is no zone "{name}"', fix=fix) from error


@lru_cache(maxsize=4096)  # many rows begin and end at the same times
def to_moment(wall: datetime, zone: ZoneInfo) -> datetime:
    """The moment that this wall time is in this zone.

    Raises RowFault if the clocks skip that wall time or show it twice: neither is ever moved silently.
    """
    first = wall.replace(tzinfo=zone, fold=0)
    before, after = first.utcoffset(), first.replace(fold=1).utcoffset()
    if before == after:
        return first
    assert before is not None
    assert after is not None
    shown = f"{wall:%Y-%m-%d %H:%M}"
    if before < after:
        gap_end = (first.astimezone(UTC).astimezone(zone)).replace(tzinfo=None)
        jump = after - before
        raise RowFault(
            f"{shown} does not exist in {zone.key}: the clocks go forward by {_minutes(jump)} that day, "
            f"so {shown[11:]} would be {gap_end:%H:%M}",
            fix="give a time that exists",
        )
    raise RowFault(
        f"{shown} comes twice in {zone.key}: the clocks go back that day, from {_offset(before)} to {_offset(after)}",
        fix=f'give the offset too: "{shown}{_offset(before)}" or "{shown}{_offset(after)}"',
    )


Day = TypeVar("Day", bound=date)  # a date or a datetime


def told_apart(value: Day) -> Day | datetime:
    """The moment in its zone; the second of two equal wall times in UTC, the only form that tells it apart from the
    first (RFC 5545 3.3.5). Days are as they are."""
    if isinstance(value, datetime) and value.fold and value.utcoffset() != value.replace(fold=0).utcoffset():
        return value.astimezone(UTC)
    return value


def first_moment(day: date, zone: ZoneInfo) -> datetime:
    """The first moment of that day in that zone: 00:00, or where the clocks skip it, what comes right after."""
    midnight = datetime.combine(day, time(), tzinfo=zone)
    there = midnight.astimezone(UTC).astimezone(zone)
    if there.date() == day and there.time() == time():
        return midnight
    if there.date() < day:  # skipped the other way round: cannot be with fold=0, kept for odd zones
        return there + timedelta(hours=1)
    return there


def _minutes(span: timedelta) -> str:
    minutes = int(span.total_seconds() // 60)
    return f"{minutes // 60} hour{'s' * (minutes >= 120)}" if minutes % 60 == 0 else f"{minutes} minutes"


def _offset(offset: timedelta) -> str:
    total = int(offset.total_seconds() // 60)
    sign = "-" if total < 0 else "+"
    return f"{sign}{abs(total) // 60:02d}:{abs(total) % 60:02d}"
