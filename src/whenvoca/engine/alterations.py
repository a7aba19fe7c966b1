"""What was moved and called off at a calendar, as the ledger saw it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import date, datetime
from functools import lru_cache, partial
from typing import Literal
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import from_state, original_start
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Observation
from whenvoca.reports.hours import Alteration, Booking

_Became = Literal["moved", "called-off"]


def find_alterations(
    ledger: Ledger, zones: Mapping[str, ZoneInfo], low: datetime, high: datetime, fits: Callable[[str, Event], bool]
) -> list[Alteration] | None:
    """What was seen to be moved away from a stretch of time, or called off in it, and does not stand there again; None
    where one of the calendars was never looked at.

    ``zones`` are those of the calendars, by name, for whole days; ``fits`` tells which of their events count.
    """
    found: list[Alteration] = []
    for place, zone in zones.items():
        if not ledger.cursor(place):
            return None
        standing = lru_cache(maxsize=None)(partial(_standing, ledger, place, low, high, zone))
        for each in ledger.observations(place, 0):
            for became, event in _altered(each, low, high, zone):
                if event.span(zone)[0] not in standing(event.uid) and fits(place, event):
                    found.append(Alteration(became, Booking.of(event, place, zone)))
    return found


def _standing(ledger: Ledger, place: str, low: datetime, high: datetime, zone: ZoneInfo, uid: str) -> set[datetime]:
    """When the event of that UID begins now, in a stretch of time: it came back, or its run was undone."""
    events = [from_state(state) for state in ledger.standing_of_uid(place, uid).values()]
    current = expand_events([each for each in events if not each.cancelled], low, high, zone, {})
    return {each.span(zone)[0] for each in current}


def _altered(seen: Observation, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[tuple[_Became, Event]]:
    old = from_state(seen.old) if seen.old is not None else None
    new = from_state(seen.new) if seen.new is not None else None
    original = original_start(seen.subject)
    if original is not None and new is None:
        return  # it is as its series says again, or has gone with it: the series tells
    if original is not None and old is None and new is not None:
        old = _as_its_series_had_it(new, original)
    if old is None or old.cancelled:
        return
    stays = new is not None and not new.cancelled
    before = _by_start(old, low, high, zone)
    after = _by_start(new, low, high, zone) if new is not None and stays else {}
    gone = [event for start, event in before.items() if start not in after]
    is_elsewhere = new is not None and stays and new.start != old.start
    moved = len(gone) if is_elsewhere else len(after.keys() - before.keys())
    for number, event in enumerate(gone):
        yield ("moved" if number < moved else "called-off"), event


def _by_start(event: Event, low: datetime, high: datetime, zone: ZoneInfo) -> dict[datetime, Event]:
    """Its occurrences that begin in a stretch of time."""
    single = replace(event, occurrence=None, and_later=False)
    found = ((each.span(zone)[0], each) for each in expand_events([single], low, high, zone, {}))
    return {start: each for start, each in found if low <= start < high}


def _as_its_series_had_it(changed: Event, original: datetime | date) -> Event:
    length = changed.end - changed.start
    return replace(changed, start=original, end=original + length, cancelled=False)
