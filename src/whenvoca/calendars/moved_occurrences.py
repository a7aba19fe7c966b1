"""Occurrences with a VEVENT of their own when their whole series moves: they stay those that they were."""

from __future__ import annotations

from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import find_component, with_times
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import moved_as, occurrence_at
from whenvoca.calendars.state import event_key


def with_moved_occurrences(data: bytes, old: Event, new: Event, zone: ZoneInfo) -> bytes:
    """The text in which the series has moved from ``old`` to ``new``, with its changed occurrences moved along (RFC
    5545 3.8.4.4: RECURRENCE-ID follows DTSTART). One that had been moved by itself stays at its own time."""
    is_timed = isinstance(new.start, datetime)
    if not old.is_series or old.start == new.start or isinstance(old.start, datetime) is not is_timed:
        return data
    events = [each for each in read_events(data, zone) if each.uid == old.uid and each.occurrence is not None]
    later = new.span(zone)[0] > old.span(zone)[0]
    keys = {event_key(each.uid, each.occurrence): each for each in events}
    for key in sorted(keys, reverse=later):  # so that none takes the place of one that has still to move
        each, place = keys[key], find_component(data, key, zone)
        assert each.occurrence is not None
        at = moved_as(each.occurrence, old.start, new.start)
        if place is None or each.and_later or occurrence_at(_without_exceptions(new), at, zone) is None:
            continue
        follows = each.start == each.occurrence and each.end - each.start == old.end - old.start
        times = (at, _end_of(at, new, zone)) if follows else (each.start, each.end)
        own = with_times(data[place.begin : place.end], each, at, *times)
        data = data[: place.begin] + own + data[place.end :]
    return data


def _without_exceptions(series: Event) -> Event:
    return replace(series, excluded=())


def _end_of(start: datetime | date, series: Event, zone: ZoneInfo) -> datetime | date:
    if not isinstance(start, datetime):
        return start + (series.end - series.start)
    begin, end = series.span(zone)
    return (start.astimezone(UTC) + (end.astimezone(UTC) - begin.astimezone(UTC))).astimezone(start.tzinfo)
