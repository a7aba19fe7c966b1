"""Events as they were last observed, occurrences of series that nobody has changed among them."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import original_start, split_key, to_state
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import RowState


def event_now(ledger: Ledger, place: str, key: str, zone: ZoneInfo) -> RowState | None:
    """An event as last observed: a whole one, a changed occurrence, or one that its series gives; None if gone."""
    state = ledger.standing(place, [key]).get(key)
    original = original_start(key)
    if state is not None or original is None:
        return state
    master = ledger.master_of(place, split_key(key)[0])
    if master is None:
        return None
    found = occurrence_at(master, original, zone)
    return None if found is None else to_state(found)
