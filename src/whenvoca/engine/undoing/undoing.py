"""Taking runs back: what they did, backwards, as far as nobody has changed it since."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from functools import partial
from itertools import count

from msgspec import Struct, field

from whenvoca.engine.acting.inverse_effects import invert_run
from whenvoca.engine.acting.keyed import with_keys
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Occurrence, RunRecord
from whenvoca.engine.running.outcome import RunResult
from whenvoca.engine.running.run_group import RunGroup
from whenvoca.errors import ExitCode, WhenvocaError


class Undone(Struct):
    """What became of the undo of one run."""

    record: RunRecord
    number: int = 0
    effects: list[Effect] = field(default_factory=list)
    left: list[str] = field(default_factory=list)  # what another hand changed since, and why it is left
    outcome: str = ""
    trouble: WhenvocaError | None = None  # of a place, which kept it from going on

    def hear(self, result: RunResult) -> None:
        """How it ended."""
        self.outcome, self.trouble = result.outcome, result.trouble
        if result.outcome != "done" and result.reason and result.trouble is None:
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
    def troubles(self) -> list[WhenvocaError]:
        """What kept runs from being taken back for now: they can be asked for again."""
        return [run.trouble for run in self.runs if run.trouble is not None]

    @property
    def exit_code(self) -> ExitCode:
        """3 where a place could not be reached, 1 where something had to be left."""
        if self.troubles:
            return ExitCode.UNREACHABLE
        return ExitCode.FAILED if self.left or any(run.outcome != "done" for run in self.runs) else ExitCode.DONE


def runs_in_range(ledger: Ledger, workflow: str, low: datetime | None, high: datetime | None) -> list[int]:
    """The runs of a workflow that are not undone and began from ``low`` on and before ``high``; None: no end there."""
    return [
        record.number
        for record in ledger.runs(workflow=workflow, limit=1_000_000)
        if record.kind in ("run", "request")
        and record.undone is None
        and (low is None or datetime.fromisoformat(record.started) >= low)
        and (high is None or datetime.fromisoformat(record.started) < high)
    ]


def undo_runs(stage: WorkspaceStage, records: Sequence[RunRecord]) -> UndoOutcome:
    """Takes these runs back, in this order; what that writes sets nothing off.

    Raises PlaceTrouble where the ledger cannot be written.
    """
    ledger, at = stage.ledger, stage.clock.now().isoformat()
    outcome = UndoOutcome()
    for record in records:
        undone = Undone(record)
        outcome.runs.append(undone)
        for place in {entry.effect.place for entry in ledger.effects_done(record.number)}:
            sheet = stage.places.sheets.get(place.lower())
            if sheet is not None and sheet.digest():
                sheet.scan(ledger.standing(sheet.name))
        undone.number = ledger.begin_undo(record, at)
        occurrence = Occurrence(
            record.workflow, record.place, record.subject, 0, at, number=-1, run=undone.number, label=record.label
        )
        group = RunGroup(stage, undone.hear)
        numbers = count(1)
        inverting = invert_run(stage, record, undone.left, names_told=True)
        step = f"undo {record.number}"
        run = group.perform(occurrence, with_keys(inverting, partial(_next_key, step, numbers)))
        undone.effects = run.done
        group.save_files()
        ledger.end_undo(undone.number, record, undone.outcome, "; ".join(undone.left))
    return outcome


def _next_key(step: str, numbers: Iterator[int], effect: Effect) -> EffectKey:
    return EffectKey(step, "", next(numbers))
