"""Taking runs back: what they did, backwards, as far as nobody has changed it since."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from typing import Any

from msgspec import Struct, field

from whenvoca.engine.acting.stage import LiveStage
from whenvoca.engine.acting.step_call import Performing
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.protocol import Ledger, Occurrence, RunRecord
from whenvoca.engine.running.batch import RunGroup
from whenvoca.engine.running.open_program import OpenPlaces
from whenvoca.engine.running.outcome import RunResult
from whenvoca.engine.undoing.inverse_effects import invert
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import ExitCode, RowFault


class Undone(Struct):
    """What became of the undo of one run."""

    record: RunRecord
    number: int = 0
    effects: list[Effect] = field(default_factory=list)
    left: list[str] = field(default_factory=list)  # what another hand changed since, and why it is left
    outcome: str = ""

    def hear(self, result: RunResult) -> None:
        """How it ended."""
        self.outcome = result.outcome
        if result.outcome != "done" and result.reason:
            self.left.append(result.reason)


class UndoOutcome(Struct):
    """What one `undo` did, or would do."""

    runs: list[Undone] = field(default_factory=list)

    @property
    def effects(self) -> list[Effect]:
        """All that came back."""
        return [effect for run in self.runs for effect in run.effects]

    @property
    def left(self) -> list[str]:
        """All that was left alone."""
        return [said for run in self.runs for said in run.left]

    @property
    def exit_code(self) -> ExitCode:
        """1 where something had to be left."""
        return ExitCode.FAILED if self.left or any(run.outcome != "done" for run in self.runs) else ExitCode.DONE


def runs_in_range(ledger: Ledger, workflow: str, low: datetime | None, high: datetime | None) -> list[int]:
    """The runs of a workflow that are not taken back, with an effect on an event that begins in that time; all without
    one."""
    numbers = []
    for record in ledger.runs(workflow=workflow, limit=1_000_000):
        if record.kind not in ("run", "request") or record.undone is not None:
            continue
        if low is None or high is None or any(_begins_within(effect, low, high) for effect in record.effects):
            numbers.append(record.number)
    return numbers


def _begins_within(effect: Effect, low: datetime, high: datetime) -> bool:
    for fields in (effect.after or {}, effect.before or {}):
        start = fields.get("start")
        if isinstance(start, datetime):
            return low <= start < high
        if isinstance(start, date):
            return low.date() <= start < high.date()
    return False


def undo_runs(
    workspace: Workspace, records: Sequence[RunRecord], places: OpenPlaces, ledger: Ledger, clock: Clock
) -> UndoOutcome:
    """Takes these runs back, in this order, through the live stage; what it writes sets nothing off."""
    stage = LiveStage(places, ledger, clock, workspace)
    outcome = UndoOutcome()
    for record in records:
        undone = Undone(record)
        outcome.runs.append(undone)
        batch = RunGroup(
            ledger=ledger,
            stage=stage,
            clock=clock,
            files=lambda: places.files,
            root=workspace.root,
            people=workspace.people,
            tell=undone.hear,
            progress=lambda done: None,
        )
        for place in {entry.effect.place for entry in ledger.effects_done(record.number)}:
            sheet: Any = places.sheets.get(place.lower())
            if sheet is not None and sheet.digest():
                sheet.scan(ledger.standing(sheet.name))
        undone.number = ledger.begin_undo(record, clock.now().isoformat())
        occurrence = Occurrence(
            record.workflow,
            record.place,
            record.subject,
            0,
            clock.now().isoformat(),
            number=-1,
            run=undone.number,
            label=record.label,
        )
        batch.perform(occurrence, _backwards(stage, undone))
        batch.save_files(places.sheets)
        ledger.end_undo(undone.number, record, undone.outcome, "; ".join(undone.left))
    return outcome


def _backwards(stage: LiveStage, undone: Undone) -> Performing:
    """The run's effects from the last to the first, each turned round on what stands now."""
    number = 0
    for entry in reversed(stage.ledger.effects_done(undone.record.number)):
        inverting = invert(stage, entry, undone.left)
        answer: Receipt | None = None
        while True:
            try:
                effect = next(inverting) if answer is None else inverting.send(answer)
            except StopIteration:
                break
            number += 1
            try:
                answer = yield EffectKey(f"undo {undone.record.number}", "", number), effect
            except RowFault as fault:
                undone.left.append(f"{effect.place}: {fault.message}")
                break
            undone.effects.append(effect)
