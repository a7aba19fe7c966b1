"""Our own writes to calendars that are observed enter their log, with the run that made them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

from whenvoca.calendars.state import split_key
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import Calendar
from whenvoca.engine.seeing.observing import state_changes


def note_own_events(
    ledger: Ledger, calendar_of: Callable[[str], Calendar], written: Sequence[tuple[Effect, Receipt, int]], at: datetime
) -> None:
    """Enters our own writes to calendars that are observed into their log, with the run that made them."""
    by_calendar: dict[str, dict[str, tuple[Effect, Receipt, int]]] = {}
    for effect, receipt, run in written:
        if effect.action != "take" and effect.noun in ("event", "task", "occurrences"):
            by_calendar.setdefault(effect.place, {})[split_key(effect.target)[0]] = (effect, receipt, run)
    for place, by_uid in by_calendar.items():
        cursor = ledger.cursor(place)
        if not cursor:
            continue
        calendar, fresh, gone = calendar_of(place), {}, []
        names = {each.uid: name for name, each in ledger.resources(place).items()}
        for uid, (effect, receipt, run) in by_uid.items():
            found = calendar.resource_of(uid, receipt.version)
            if found is not None:
                fresh[found[0]] = found[1]
            elif uid in names:
                gone.append(names[uid])
            if effect.action == "create" and effect.event is not None:
                events = [effect.event]
            else:
                stored = calendar.find_event(uid) if found is not None else None
                events = [stored.event, *stored.others] if stored is not None else []
            ledger.observe(place, state_changes(ledger, calendar, uid, events), cursor, at.isoformat(), run)
        ledger.keep_resources(place, fresh, gone)
