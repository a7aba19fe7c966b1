"""Occurrences with a VEVENT of their own: many changed in one go, and none that says no more than its series.

What says no more follows its series again without one.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.components import Component, unfolded
from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import (
    book_of,
    carries,
    changed_component,
    events_of,
    find_component,
    given_by,
    original_start,
    own_text,
    refuse_carrier,
    with_zones,
)
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key, split_key

_STAMPS = ("DTSTAMP", "LAST-MODIFIED", "SEQUENCE", "CREATED")
_UTC = ZoneInfo("UTC")


def change_occurrences(
    data: bytes, master: Event, pairs: Sequence[tuple[Event, Event]], stamp: datetime, zone: ZoneInfo
) -> bytes:
    """The text with many occurrences of one series changed, each as ``change_event`` does it, in one go. One that says
    no more than its series then has no VEVENT of its own any more."""
    book = book_of(data, zone)
    own: dict[str, Component] = {}
    for each in sorted(events_of(data, master.uid), key=lambda each: each.sequence):
        own[original_start(each.occurrence, book)] = each
    has_carriers = any(map(carries, own.values()))
    pieces: dict[tuple[int, int], bytes] = {}
    added: list[bytes] = []
    zones: list[Event] = []
    for old, new in pairs:
        place = own.get(split_key(event_key(old.uid, old.occurrence))[1])
        given = given_by(data, old, zone) if has_carriers else own[""]
        series = data[given.begin : given.end]
        if place is not None:
            refuse_carrier(place, old)
        stood = data[place.begin : place.end] if place is not None else own_text(series, old)[0]
        body, names_zone = changed_component(stood, old, new, stamp)
        zones += [new] if names_zone or place is None else []
        may_be_idle = new.title == master.title and not has_carriers
        body = b"" if may_be_idle and _is_idle(body, series, _plain(master, new), new) else body
        if place is not None:
            pieces[place.begin, place.end] = body
        else:
            added.append(body)
    pieces[own[""].end, own[""].end] = b"".join(added)
    changed, position = [], 0
    for begin, end in sorted(pieces):
        changed += [data[position:begin], pieces[begin, end]]
        position = end
    whole = b"".join([*changed, data[position:]])
    return with_zones(whole, zones) if zones else whole


def _plain(master: Event, occurrence: Event) -> Event:
    """The occurrence at the time that the series gives it."""
    at = occurrence.occurrence
    assert at is not None
    if not isinstance(at, datetime):
        return replace(occurrence, start=at, end=at + (master.end - master.start))
    begin, end = (each.astimezone(UTC) for each in master.span(_UTC))
    return replace(occurrence, start=at, end=(at.astimezone(UTC) + (end - begin)).astimezone(at.tzinfo))


def _is_idle(body: bytes, series: bytes, given: Event, occurrence: Event) -> bool:
    """Whether the VEVENT of an occurrence says no more than its series, which gives it so. One that people are invited
    to counts: its SEQUENCE does (RFC 5546 2.1.4)."""
    if occurrence.organizer or (given.start, given.end) != (occurrence.start, occurrence.end):
        return False
    return _said(body) == _said(own_text(series, given)[0])


def _said(component: bytes) -> list[str]:
    return sorted(line for line in unfolded(component) if not line.upper().startswith(_STAMPS))


def without_idle(data: bytes, occurrence: Event, zone: ZoneInfo) -> bytes:
    """The text without the VEVENT of that occurrence, where it says no more than the series does."""
    own = find_component(data, event_key(occurrence.uid, occurrence.occurrence), zone)
    if own is None:
        return data
    rest = data[: own.begin] + data[own.end :]
    events = [event for event in read_events(rest, zone) if event.uid == occurrence.uid and event.occurrence is None]
    derived = occurrence_at(events[0], occurrence.occurrence, zone) if events and occurrence.occurrence else None
    if derived is None:
        return data
    given = given_by(rest, occurrence, zone)
    is_idle = _is_idle(data[own.begin : own.end], rest[given.begin : given.end], derived, occurrence)
    return rest if is_idle else data
