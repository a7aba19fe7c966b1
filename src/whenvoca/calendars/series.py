"""A series in parts: ended before an occurrence, its rest as a series of its own, moved as one of them was."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta
from functools import partial
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import day_of, iter_occurrences, moved_as
from whenvoca.errors import RowFault
from whenvoca.values.weekdays import CODES


def changed_from(occurrence: Event, others: Sequence[Event]) -> list[Event]:
    """Those of the occurrences changed one by one that are this one or lie after it."""
    at = occurrence.occurrence
    assert at is not None
    return [each for each in others if each.occurrence is not None and not _is_before(each.occurrence, at)]


def refuse_lost(master: Event, occurrence: Event, others: Sequence[Event]) -> None:
    """Raises RowFault where this occurrence, or one after it, was changed by itself: a series of its own has it not."""
    _refuse_layered(master)
    if later := changed_from(occurrence, others):
        first = min(f"{each.occurrence:%Y-%m-%d}" for each in later)
        count = "one occurrence" if len(later) == 1 else f"{len(later)} occurrences"
        raise RowFault(
            f'of "{master.title}" {count} from {first} on would be lost: changed one by one',
            fix="change them back or delete them first",
        )


def ended_before(master: Event, occurrence: Event) -> Event:
    """The series without that occurrence and those after it. Raises RowFault where no rule says how it goes on."""
    at = occurrence.occurrence
    assert at is not None
    if not master.rule:
        raise RowFault(
            f'"{master.title}" stands on single dates (RDATE), so it has no later part',
            fix="change or delete its occurrences one by one",
        )
    parts = [part for part in master.rule.split(";") if part.split("=")[0].upper() not in ("UNTIL", "COUNT")]
    last = at - (timedelta(seconds=1) if isinstance(at, datetime) else timedelta(days=1))
    until = f"{last.astimezone(UTC):%Y%m%dT%H%M%SZ}" if isinstance(last, datetime) else f"{last:%Y%m%d}"
    return replace(
        master,
        rule=";".join([*parts, f"UNTIL={until}"]),
        added=tuple(each for each in master.added if _is_before(each, at)),
        periods=tuple(each for each in master.periods if _is_before(each[0], at)),
        sequence=master.sequence + 1,
    )


def _is_before(moment: datetime | date, other: datetime | date) -> bool:
    if isinstance(moment, datetime) and isinstance(other, datetime):
        return moment < other
    return f"{moment:%Y%m%d}" < f"{other:%Y%m%d}"


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
            1
            for each in iter_occurrences(replace(master, excluded=(), added=(), periods=()), begin, end, zone)
            if each.span(zone)[0] < end
        )
        parts["COUNT"] = str(max(1, int(parts["COUNT"]) - before))
        rule = ";".join(f"{name}={value}" for name, value in parts.items())
    return replace(
        master,
        start=occurrence.start,
        end=occurrence.end,
        rule=rule,
        excluded=tuple(each for each in master.excluded if not _is_before(each, at)),
        added=tuple(each for each in master.added if not _is_before(each, at) and each != at),
        periods=tuple(each for each in master.periods if not _is_before(each[0], at) and each[0] != at),
        occurrence=None,
        sequence=0,
    )


def moved_rest(rest: Event, changed: Event) -> Event:
    """The rest of a series with what was changed in it; its exceptions and added dates move with it.

    Raises RowFault where its rule hangs on days that cannot be turned.
    """
    rule = shifted_rule(rest, changed, rest.rule) if changed.rule == rest.rule else changed.rule
    return replace(changed, rule=rule, **_moved_dates(rest, rest, changed))


def moved_whole(master: Event, changed: Event) -> Event:
    """The series as it was changed as a whole: what was taken out of it and put into it moves with its start, and its
    weekdays turn, where they are not said anew. Raises RowFault where they cannot."""
    if not master.is_series or changed.start == master.start or changed.excluded != master.excluded:
        return changed
    if isinstance(changed.start, datetime) is not isinstance(master.start, datetime):
        return changed
    rule = shifted_rule(master, changed, master.rule) if changed.rule == master.rule else changed.rule
    return replace(changed, rule=rule, **_moved_dates(master, master, changed))


def _moved_dates(series: Event, before: Event, after: Event) -> dict[str, Any]:
    """The single dates of a series, left out and added, where its event went from one to the other."""
    shift = partial(moved_as, before=before.start, after=after.start)
    return {
        "excluded": tuple(map(shift, series.excluded)),
        "added": tuple(map(shift, series.added)),
        "periods": tuple((shift(start), shift(end)) for start, end in series.periods),
    }


def _refuse_layered(master: Event) -> None:
    """Raises RowFault for a series that other programs wrote in ways that we read, and do not move or divide."""
    if master.later:
        raise RowFault(
            f'"{master.title}" was changed from an occurrence on (RANGE=THISANDFUTURE)',
            fix="change its occurrences one by one, or the series in the program that made that",
        )
    if master.exception_rules:
        raise RowFault(
            f'"{master.title}" has a rule of exceptions (EXRULE), which would no longer fit',
            fix="change its occurrences one by one, or the series in the program that made it",
        )


def moved_series(master: Event, occurrence: Event, changed: Event) -> Event:
    """The whole series with what was changed in one of its occurrences; times move by as much, and what was taken out
    with them. Raises RowFault where it cannot be moved."""
    if changed.start != occurrence.start or master.later:
        _refuse_layered(master)
    new = replace(
        changed,
        start=master.start,
        end=master.end,
        rule=master.rule,
        excluded=master.excluded,
        exception_rules=master.exception_rules,
        added=master.added,
        periods=master.periods,
        occurrence=None,
        sequence=master.sequence + 1,
    )
    if (changed.start, changed.end) == (occurrence.start, occurrence.end):
        return new
    rule = shifted_rule(occurrence, changed, master.rule)
    if {isinstance(each.start, datetime) for each in (master, occurrence, changed)} not in ({True}, {False}):
        raise RowFault("a series cannot go from whole days to times, or back, by one of its occurrences")
    start: Any = moved_as(master.start, occurrence.start, changed.start)
    length = changed.end - changed.start
    is_day = not isinstance(start, datetime)
    return replace(
        new,
        start=start,
        end=start + length if is_day else (start.astimezone(UTC) + length).astimezone(start.tzinfo),
        rule=rule,
        **_moved_dates(master, occurrence, changed),
    )


def shifted_rule(before: Event, after: Event, rule: str) -> str:
    """The rule of a series whose event moved so: where it goes to another day, its weekdays turn with it."""
    days = (day_of(after.start) - day_of(before.start)).days
    return moved_rule(rule, days) if days and rule else rule


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
