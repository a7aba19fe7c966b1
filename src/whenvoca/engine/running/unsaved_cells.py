"""Cells that wait for the save of their file, and the runs that wrote them.

A file's new hash is committed before the file is replaced, so that the next run knows after a kill what was done.
"""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.ledger.records import Journal, StateChange
from whenvoca.engine.place_protocols import RowState, SavedRows, SaveIntent, SavingFile, Sheet
from whenvoca.engine.running.group_run import GroupRun, RunEnds
from whenvoca.engine.seeing.observing import moved_cursor
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError


class UnsavedCells:
    """The pending cells of a stage's sheets. ``kept``: of how many runs the effects are kept to be told."""

    def __init__(self, stage: WorkspaceStage, ends: RunEnds, kept: int) -> None:
        self._stage, self._ends, self._kept = stage, ends, kept
        self._runs: list[GroupRun] = []  # that have ended but for their cells
        self._by_effect: dict[int, tuple[GroupRun, Effect]] = {}

    @property
    def are_pending(self) -> bool:
        """Whether any cell waits."""
        return bool(self._by_effect)

    @property
    def runs_waiting(self) -> int:
        """How many runs wait for their cells to end."""
        return len(self._runs)

    def pend(self, number: int, run: GroupRun, effect: Effect) -> None:
        """An effect of a run whose file is to be saved."""
        run.unsaved += 1
        self._by_effect[number] = (run, effect)

    def wait(self, run: GroupRun) -> None:
        """The run has ended but for its cells."""
        run.release(keeps_effects=len(self._runs) < self._kept)
        self._runs.append(run)

    def save(self, active: Sequence[GroupRun] = ()) -> bool:
        """Saves every file with pending cells; then the runs that wrote them have ended, but for those that are still
        at work. Answers whether all were saved."""
        trouble: WhenvocaError | None = None
        for file in self._stage.places.files:
            if file.pending:
                trouble = self._save_file(file) or trouble
        journal = Journal()
        for run in active:
            if run.unsaved and trouble is not None:
                run.trouble = trouble
        for run in self._runs:
            if run.unsaved:
                assert trouble is not None
                run.end(trouble, waits=True)
                run.trouble = trouble
            self._ends.end(run, journal)
        self._stage.ledger.commit(journal)
        self._runs = []
        left = {id(run) for run in active if run.unsaved}
        self._by_effect = {number: each for number, each in self._by_effect.items() if id(each[0]) in left}
        return trouble is None

    def _save_file(self, file: SavingFile) -> WhenvocaError | None:
        """Saves one file; answers what kept it from being saved."""
        ledger = self._stage.ledger
        begun: list[int] = []

        def begin(intent: SaveIntent, effects: list[int]) -> None:
            if begun:
                ledger.end_save(begun.pop(), "undone")
            begun.append(ledger.begin_save(intent, effects))

        try:
            saved = file.save(begin)
        except (PlaceTrouble, RowFault, SourceFault) as error:
            for number in begun:
                ledger.end_save(number, "undone")
            return error
        journal = Journal()
        with ledger.transaction():  # receipts, own observations and the end of the save
            for place, rows in saved.items():
                self._note_saved(place, rows, journal)
            ledger.commit(journal)
            for number in begun:
                ledger.end_save(number, "done")
        return None

    def _note_saved(self, place: str, rows: SavedRows, journal: Journal) -> None:
        cause: dict[str, int] = {}
        added: dict[int, int] = {}  # row number: run
        for number, (run, effect) in self._by_effect.items():
            if effect.place != place:
                continue
            run.unsaved -= 1
            if (error := rows.errors.get(number)) is not None:
                if run.outcome:
                    run.end(error)
                else:
                    run.trouble = error  # still at work: it hears of it as the failure of its next step
                journal.failures.append((number, error.reason))
            else:
                journal.receipts.append((number, effect, Receipt(rows.digest)))
                cause[effect.target] = run.occurrence.run
                if number in rows.added:
                    added[rows.added[number]] = run.occurrence.run
        self._observe_own(self._stage.sheet(place), rows, cause, added)

    def _observe_own(self, sheet: Sheet, rows: SavedRows, cause: dict[str, int], added: dict[int, int]) -> None:
        """Our own receipts enter the observation log with their cause, where the sheet is observed at all."""
        ledger = self._stage.ledger
        cursor = ledger.cursor(sheet.name)
        if not cursor:
            return
        changes: dict[str, RowState | None] = {key: state for key, state in rows.states.items() if key in cause}
        changes |= dict.fromkeys(rows.gone)
        if added:
            for row in sheet.scan(ledger.standing(sheet.name)):
                if row.number in added and not row.fault and not row.waits:
                    changes[row.key] = row.state
                    cause[row.key] = added[row.number]
        ledger.observe(
            sheet.name,
            [StateChange(key, state) for key, state in changes.items()],
            moved_cursor(cursor, rows.digest),
            self._stage.clock.now().isoformat(),
            cause,
        )
