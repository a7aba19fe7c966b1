"""The occurrences of events, on the clock of who asks."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.speech.candidates.target_sets import Occurrence
from whenvoca.speech.request import Target


def to_occurrence(target: Target, zone: ZoneInfo) -> Occurrence:
    """A target with its times as the clocks of a zone show them."""
    start, end = (each.astimezone(zone).replace(tzinfo=None) for each in target.event.span(zone))
    return Occurrence(target, start, end)


def expand(targets: Iterable[Target], low: datetime, high: datetime, zone: ZoneInfo) -> list[Occurrence]:
    """What takes some of the time between two moments, calendar by calendar."""
    by_calendar: dict[str, list[Event]] = {}
    for each in targets:
        by_calendar.setdefault(each.calendar, []).append(each.event)
    found: dict[tuple[str, str, str], Target] = {}  # one that two parts of a series give counts once
    for name, events in by_calendar.items():
        for occurrence in expand_events(events, low, high, zone):
            key = (name, occurrence.uid, str(occurrence.span(zone)[0]))
            found.setdefault(key, Target(name, occurrence))
    return [to_occurrence(each, zone) for each in found.values()]
