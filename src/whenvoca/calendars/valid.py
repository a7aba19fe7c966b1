"""The one check of everything that is written into a calendar: what other programs, and we, can read again."""

from __future__ import annotations

from datetime import UTC, datetime

from whenvoca.calendars.event import Event
from whenvoca.calendars.task import Task
from whenvoca.errors import RowFault
from whenvoca.values.rules import first_wall, refuse_unusable_rule
from whenvoca.values.texts import show_value
from whenvoca.values.usable import LAST_YEAR, refuse_unusable

_FIRST_YEAR = 2  # before it zones leave the calendar


def refuse_invalid(event: Event) -> None:
    """Raises RowFault for an event or task whose times or rule no calendar can hold (RFC 5545 3.6.1, 3.8.2, 3.8.5)."""
    start, end = event.start, event.end
    ends = "due" if isinstance(event, Task) else "end"
    if start is None or end is None:  # only a task may be without them
        for value, what in ((start, "start"), (end, ends)):
            if value is not None:
                refuse_unusable(value, what)
        return
    refuse_unusable(start, "start")
    refuse_unusable(end, ends)
    if isinstance(start, datetime) != isinstance(end, datetime):
        raise RowFault(
            f"start and {ends} are of two kinds, a whole day and a moment", fix="give both with a time, or both without"
        )
    first, last = (value.astimezone(UTC) if isinstance(value, datetime) else value for value in (start, end))
    if last < first or (last == first and not isinstance(event, Task) and not isinstance(start, datetime)):
        raise RowFault(f"the {ends} {show_value(end)} does not come after the start {show_value(start)}")
    if event.rule:
        wall = (
            start.replace(tzinfo=None) if isinstance(start, datetime) else datetime(start.year, start.month, start.day)
        )
        first_wall(event.rule, wall, start.tzinfo if isinstance(start, datetime) else UTC)


def refuse_unusable_event(event: Event) -> None:
    """Raises RowFault for an event or task of another program that nobody can reckon with. More passes than is written:
    other years, and rules as dense as one likes."""
    start, end = event.start, event.end
    for value in (start, end, event.occurrence):
        if value is not None and not _FIRST_YEAR <= value.year <= LAST_YEAR:
            raise RowFault(f"{value.isoformat()[:10]} lies outside the years {_FIRST_YEAR} to {LAST_YEAR}")
    if start is None or end is None:
        return
    if isinstance(start, datetime) != isinstance(end, datetime):
        raise RowFault("one of start and end is a day, and the other a time")
    for rule in (event.rule, *event.exception_rules):
        if rule:
            begin = start if isinstance(start, datetime) else datetime(start.year, start.month, start.day)
            refuse_unusable_rule(rule, begin.replace(tzinfo=None), begin.tzinfo or UTC)
