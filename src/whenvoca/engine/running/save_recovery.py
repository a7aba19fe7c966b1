"""After a crash: which saves of files were done and which were not."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from whenvoca.engine.effects import Receipt
from whenvoca.engine.ledger.protocol import Journal, Ledger
from whenvoca.engine.place_protocols import SheetFace
from whenvoca.engine.running.open_program import OpenPlaces
from whenvoca.engine.seeing.observing import observe_sheet


def finish_saves(ledger: Ledger, places: OpenPlaces, now: datetime) -> None:
    """After a crash: which files were replaced and which not. What was not comes again with its run."""
    unfinished = ledger.open_saves()
    if unfinished or ledger.has_unfinished():
        places.sweep()
    for number, intent, effects in unfinished:
        standing = places.hash_of(intent.file)
        if standing != intent.after:
            ledger.end_save(number, "undone")
            continue
        found = ledger.effects(effects)
        journal = Journal(receipts=[(each, effect, Receipt(standing)) for each, (_, effect) in found.items()])
        with ledger.transaction():
            for place in {effect.place for _, effect in found.values()}:
                sheet: Any = places.sheets.get(place.lower())
                if sheet is not None and ledger.cursor(sheet.name):
                    _observe_after_crash(ledger, sheet, found, now)
            ledger.commit(journal)
            ledger.end_save(number, "done")


def _observe_after_crash(ledger: Ledger, sheet: SheetFace, found: Mapping[int, tuple[int, Any]], now: datetime) -> None:
    """Enters our own cells, which a crash kept from the observation log, with the run that wrote them."""
    cause = {
        effect.target: run
        for run, effect in found.values()
        if effect.place == sheet.name and effect.verb in ("change row", "delete row")
    }
    added = [
        (run, effect.after or {})
        for run, effect in found.values()
        if effect.place == sheet.name and effect.verb == "add row"
    ]
    known = ledger.standing(sheet.name)
    for row in sheet.scan(known) if added else ():
        if row.key not in known:
            for run, cells in added:
                if all(row.state.get(name) == sheet.to_raw(name, value) for name, value in cells.items()):
                    cause[row.key] = run
    observe_sheet(ledger, sheet, now, cause)
