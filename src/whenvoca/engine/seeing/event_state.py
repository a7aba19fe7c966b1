"""Events as they were last observed, occurrences of series that nobody has changed among them."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import split_key, to_state
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import RowState


def event_now(ledger: Ledger, place: str, key: str, zone: ZoneInfo) -> RowState | None:
    """An event as it was last observed: a whole one, a changed occurrence, or one that its series gives; None if it is
    gone."""
    state = ledger.standing(place, [key]).get(key)
    uid, occurrence = split_key(key)
    if state is not None or not occurrence:
        return state
    master = ledger.master_of(place, uid)
    if master is None:
        return None
    if "T" in occurrence:
        moment = datetime.strptime(occurrence, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
        found = occurrence_at(master, moment, zone)
    else:
        found = occurrence_at(master, datetime.strptime(occurrence, "%Y%m%d").replace(tzinfo=UTC).date(), zone)
    return None if found is None else to_state(found)
