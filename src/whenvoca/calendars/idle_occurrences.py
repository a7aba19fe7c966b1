"""Occurrences with a VEVENT of their own that says no more than their series: they follow it again without one."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from whenvoca.calendars.components import Component, unfolded
from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import find_component, with_own_occurrence
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key

_STAMPS = ("DTSTAMP", "LAST-MODIFIED", "SEQUENCE", "CREATED")


def without_idle(data: bytes, occurrence: Event, zone: ZoneInfo) -> bytes:
    """The text without the VEVENT of that occurrence, where it says no more than the series does. One that people are
    invited to stays: its SEQUENCE counts (RFC 5546 2.1.4)."""
    key = event_key(occurrence.uid, occurrence.occurrence)
    own = find_component(data, key, zone)
    if own is None or occurrence.occurrence is None or occurrence.organizer:
        return data
    rest = data[: own.begin] + data[own.end :]
    events = [event for event in read_events(rest, zone) if event.uid == occurrence.uid and event.occurrence is None]
    derived = occurrence_at(events[0], occurrence.occurrence, zone) if events else None
    if derived is None or (derived.start, derived.end) != (occurrence.start, occurrence.end):
        return data
    whole = with_own_occurrence(rest, derived, zone)
    fresh = find_component(whole, key, zone)
    assert fresh is not None
    return rest if _said(data, own) == _said(whole, fresh) else data


def _said(data: bytes, place: Component) -> list[str]:
    lines = unfolded(data[place.begin : place.end])
    return sorted(line for line in lines if not line.upper().startswith(_STAMPS))
