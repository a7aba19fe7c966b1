"""Rows that wait for a run and take the same time, where their step heeds clashes: found before one is refused."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime, timedelta
from typing import Any

from whenvoca.calendars.clashing import Clash, TakenTime, find_clashes
from whenvoca.calendars.event import Event
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.rehearsing.row_values import RowValues, Unknown
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.values.durations import Duration, add_to_moment
from whenvoca.values.texts import show_value

_MOST_NAMED = 5
_HOUR = Duration(seconds=3600)


def find_row_clashes(program: OpenProgram, waiting: Sequence[Occurrence]) -> Iterator[str]:
    """For each step that every run reaches: which rows would take each other's time."""
    values = RowValues(program)
    for step in program.workflow.body.statements:
        if not isinstance(step, tree.Step) or not step.definition.is_making or step.definition.thing != "event":
            continue
        lines = {each.word: each.value for each in step.fields}
        calendar = program.stage.calendar(step.places[-1])
        clash = tree.plain_text(lines["clash"]) if "clash" in lines else calendar.clash
        if clash not in ("refuse", "tentative", "ask"):
            continue
        events = [each for row in waiting if (each := _event(values, row, lines)) is not None]
        taken = [TakenTime(calendar.name, each) for each in events]
        rules = {calendar.name: calendar.clash_rule}
        found = find_clashes(taken, {calendar.name: calendar.zone}, ("calendar",), rules)
        if found:
            named = "; ".join(_said(each, program) for each in found[:_MOST_NAMED])
            named += f"; and {len(found) - _MOST_NAMED} more" if len(found) > _MOST_NAMED else ""
            yield f"{program.workflow.name}: rows take each other's time in {calendar.name}: {named}"


def _said(clash: Clash, program: OpenProgram) -> str:
    zone = program.stage.calendar(clash.first.calendar).zone
    begin = show_value(clash.start.astimezone(zone))
    return f"{clash.first.event.title} and {clash.second.event.title} on {begin}"


def _event(values: RowValues, row: Occurrence, lines: Mapping[str, tree.Node]) -> Event | None:
    """What a row would make, as far as it counts here; None where that is not known before its run."""

    def value(word: str) -> Any:
        return values.of(row, lines[word]) if word in lines else None

    try:
        start, end = _times(value("start"), value("end"), value("length"), value("first-day"), value("last-day"))
        busy, location = value("busy"), value("location")
    except (Unknown, RowFault, OverflowError):
        return None
    if start is None or end is None or busy is False or busy == "no":
        return None
    return Event(uid=row.subject, title=row.label, start=start, end=end, location=show_value(location))


def _times(start: Any, end: Any, length: Any, first_day: Any, last_day: Any) -> tuple[Any, Any]:
    if isinstance(first_day, date):
        last = last_day if isinstance(last_day, date) else first_day
        return first_day, last + timedelta(days=1)
    if not isinstance(start, datetime):
        return None, None
    if isinstance(end, datetime):
        return start, end
    span = end if isinstance(end, Duration) else length if isinstance(length, Duration) else _HOUR
    return start, add_to_moment(start, span)
