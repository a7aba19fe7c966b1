"""After a crash: which saves of files were done and which were not."""

from __future__ import annotations

from collections.abc import Mapping

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.ledger.records import Journal
from whenvoca.engine.place_protocols import Sheet
from whenvoca.engine.seeing.observing import observe_sheet


def finish_saves(stage: WorkspaceStage) -> None:
    """Which files were replaced before the program ended, and which not. What was not comes again with its run. Raises
    PlaceTrouble where a file cannot be read."""
    ledger, places = stage.ledger, stage.places
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
                sheet = places.sheets.get(place.lower())
                if sheet is not None and ledger.cursor(sheet.name):
                    _observe_after_crash(stage, sheet, found)
            ledger.commit(journal)
            ledger.end_save(number, "done")


def _observe_after_crash(stage: WorkspaceStage, sheet: Sheet, found: Mapping[int, tuple[int, Effect]]) -> None:
    """Enters our own cells, which a crash kept from the observation log, with the run that wrote them."""
    mine = [(run, effect) for run, effect in found.values() if effect.place == sheet.name]
    cause = {effect.target: run for run, effect in mine if effect.action in ("change", "delete")}
    added = [(run, effect.after or {}) for run, effect in mine if effect.action == "add"]
    known = stage.ledger.standing(sheet.name)
    for row in sheet.scan(known) if added else ():
        if row.key not in known:
            for run, cells in added:
                if all(row.state.get(name) == sheet.to_raw(name, value) for name, value in cells.items()):
                    cause[row.key] = run
    observe_sheet(stage.ledger, sheet, stage.clock.now(), cause)
