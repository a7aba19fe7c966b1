"""A series in parts: ended before an occurrence, its rest as a series of its own, moved as one of them was."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import iter_occurrences
from whenvoca.errors import RowFault
from whenvoca.values.weekdays import CODES


def ended_before(master: Event, occurrence: Event, others: tuple[Event, ...]) -> Event:
    """The series without that occurrence and those after it. Raises RowFault where changed ones would be lost."""
    at = occurrence.occurrence
    assert at is not None
    later = [each for each in others if each.occurrence is not None and _is_after(each.occurrence, at)]
    if later:
        raise RowFault(
            f'of "{master.title}" {len(later)} occurrences after {at:%Y-%m-%d} were changed one by one and would be '
            "lost",
            fix="change or delete those first",
        )
    parts = [part for part in master.rule.split(";") if part.split("=")[0].upper() not in ("UNTIL", "COUNT")]
    last = at - (timedelta(seconds=1) if isinstance(at, datetime) else timedelta(days=1))
    until = f"{last.astimezone(UTC):%Y%m%dT%H%M%SZ}" if isinstance(last, datetime) else f"{last:%Y%m%d}"
    return replace(master, rule=";".join([*parts, f"UNTIL={until}"]), sequence=master.sequence + 1)


def _is_after(moment: datetime | date, other: datetime | date) -> bool:
    if isinstance(moment, datetime) and isinstance(other, datetime):
        return moment > other
    return f"{moment:%Y%m%d}" > f"{other:%Y%m%d}"


def rest_of(master: Event, occurrence: Event, zone: ZoneInfo) -> Event:
    """The series from that occurrence on, to be changed and made as one of its own.

    Raises RowFault where the rule cannot be read.
    """
    at = occurrence.occurrence
    assert at is not None
    rule = master.rule
    parts = dict(part.split("=", 1) for part in rule.split(";") if "=" in part)
    if "COUNT" in parts:
        begin, end = master.span(zone)[0], occurrence.span(zone)[0]
        before = sum(
            1 for each in iter_occurrences(replace(master, excluded=()), begin, end, zone) if each.span(zone)[0] < end
        )
        parts["COUNT"] = str(max(1, int(parts["COUNT"]) - before))
        rule = ";".join(f"{name}={value}" for name, value in parts.items())
    excluded = tuple(each for each in master.excluded if _is_after(each, at))
    return replace(
        master, start=occurrence.start, end=occurrence.end, rule=rule, excluded=excluded, occurrence=None, sequence=0
    )


def moved_series(master: Event, occurrence: Event, changed: Event, others: Sequence[Event] = ()) -> Event:
    """The whole series with what was changed in one of its occurrences; times move by as much, and what was taken out
    with them.

    ``others`` are the occurrences that were changed one by one: they would be lost, so RowFault is raised where times
    move.
    """
    new = replace(
        changed,
        start=master.start,
        end=master.end,
        rule=master.rule,
        excluded=master.excluded,
        added=master.added,
        occurrence=None,
        sequence=master.sequence + 1,
    )
    if (changed.start, changed.end) == (occurrence.start, occurrence.end):
        return new
    if others and changed.start != occurrence.start:
        raise RowFault(
            f'of "{master.title}" {len(others)} occurrences were changed one by one and would be lost',
            fix="change or delete those first",
        )
    rule = shifted_rule(occurrence, changed, master.rule)
    if {isinstance(each.start, datetime) for each in (master, occurrence, changed)} not in ({True}, {False}):
        raise RowFault("a series cannot go from whole days to times, or back, by one of its occurrences")
    shift = _local(changed.start) - _local(occurrence.start)
    start: Any = _moved(master.start, shift)
    length = changed.end - changed.start
    is_day = not isinstance(start, datetime)
    return replace(
        new,
        start=start,
        end=start + length if is_day else (start.astimezone(UTC) + length).astimezone(start.tzinfo),
        rule=rule,
        excluded=tuple(_moved(each, shift) for each in master.excluded),
        added=tuple(_moved(each, shift) for each in master.added),
    )


def _local(moment: datetime | date) -> Any:
    """A moment as its own clock shows it; a day as it is."""
    return moment.replace(tzinfo=None) if isinstance(moment, datetime) else moment


def _moved(moment: datetime | date, shift: timedelta) -> datetime | date:
    moved: datetime | date = _local(moment) + shift
    return (
        moved.replace(tzinfo=moment.tzinfo) if isinstance(moment, datetime) and isinstance(moved, datetime) else moved
    )


def shifted_rule(before: Event, after: Event, rule: str) -> str:
    """The rule of a series whose event moved so: where it goes to another day, its weekdays turn with it."""
    days = (_day_of(after.start) - _day_of(before.start)).days
    return moved_rule(rule, days) if days else rule


def _day_of(moment: datetime | date) -> date:
    return moment.date() if isinstance(moment, datetime) else moment


def moved_rule(rule: str, days: int) -> str:
    """The rule of a series that is moved by so many days: its weekdays turn with it. Raises RowFault where it hangs on
    days that cannot be turned, such as the first monday or the 15th."""
    found = []
    for part in rule.split(";"):
        name, _, value = part.partition("=")
        if name.upper() == "BYDAY":
            codes = value.upper().split(",")
            if any(code not in CODES for code in codes):
                raise RowFault(
                    f"a series on {value} cannot be moved to another day by one of its occurrences", fix="make it anew"
                )
            value = ",".join(CODES[(CODES.index(code) + days) % 7] for code in codes)
        elif name.upper() in ("BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYSETPOS", "BYMONTH"):
            raise RowFault(
                "a series on certain days of the month or year cannot be moved to another day by one of its "
                "occurrences",
                fix="make it anew",
            )
        found.append(f"{name}={value}")
    return ";".join(found)
