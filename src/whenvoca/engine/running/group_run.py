"""One run among those that advance together, and how it ends."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct, field

from whenvoca.engine.acting.keyed import Performing
from whenvoca.engine.acting.program import Refusal, TroubleFault
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.ledger.records import Journal, JournalEntry, Occurrence
from whenvoca.engine.running.outcome import RunResult
from whenvoca.engine.running.patience import Patience
from whenvoca.errors import PlaceTrouble, SourceFault, WhenvocaError


class GroupRun(Struct):
    """A run that is being worked through. ``journal`` is what it did before a crash."""

    occurrence: Occurrence
    context: RunContext
    performing: Performing
    began: float  # on the clock's tick
    journal: dict[EffectKey, JournalEntry] = field(default_factory=dict)
    claimed: set[EffectKey] = field(default_factory=set)  # of the journal: what it asked for again
    effects: list[Effect] = field(default_factory=list)
    refused: list[Effect] = field(default_factory=list)  # among them
    unsaved: int = 0  # effects whose file is not saved yet
    outcome: str = ""
    reason: str = ""
    fix: str = ""
    trouble: WhenvocaError | None = None
    is_refused: bool = False  # the workflow said no, by `fail`
    late: str = ""  # how late it began, where it is a matter of time
    is_abandoned: bool = False  # has intents that may stay without a receipt: of before a crash, or refused
    tries: int = 3  # of the workflow: how often one command tries it
    must_end: bool = False  # no occurrence waits for it to be tried again: trouble at a place is its failure

    @property
    def done(self) -> list[Effect]:
        """The effects that were not refused."""
        return [effect for effect in self.effects if not any(effect is each for each in self.refused)]

    def end(self, error: WhenvocaError | None = None, *, waits: bool = False) -> None:
        """It is done, has failed by the error, or waits for what the error names to pass."""
        self.outcome = "done" if error is None else "waiting" if waits else "failed"
        if error is not None:
            self.reason, self.fix = error.reason, error.fix
            self.is_refused = isinstance(error, Refusal)
            if isinstance(error, TroubleFault):
                self.trouble = error.trouble
            elif isinstance(error, PlaceTrouble | SourceFault):
                self.trouble = error

    def release(self, *, keeps_effects: bool) -> None:
        """Frees what it acted with: it has ended, and waits for its cells to be saved."""
        self.performing, self.journal, self.context = _ENDED, {}, _NO_CONTEXT
        if not keeps_effects:
            self.effects, self.refused = [], []


def _no_more() -> Performing:
    yield from ()


_ENDED = _no_more()
_NO_CONTEXT: Any = None


class RunEnds:
    """Enters the ends of runs into the journal, and tells of them."""

    def __init__(
        self,
        stage: WorkspaceStage,
        tell: Callable[[RunResult], None],
        progress: Callable[[int], None],
        patience: Patience | None,
    ) -> None:
        self._stage, self._tell, self._progress, self._patience = stage, tell, progress, patience
        self.retries_due = 0  # runs that trouble at a place has ended, and that have a try left

    def end(self, run: GroupRun, journal: Journal) -> None:
        """Notes how a run ended; one that waits goes on waiting."""
        occurrence, clock = run.occurrence, self._stage.clock
        if run.outcome == "waiting":
            counts = isinstance(run.trouble, PlaceTrouble) and (run.trouble.is_passing or run.trouble.is_refusal)
            tries = occurrence.tries + counts
            self._stage.ledger.hold(occurrence, run.reason, tries)
            if counts and self._patience is not None:
                self._patience.put_off(occurrence.number, tries)
            elif counts and tries % run.tries:
                self.retries_due += 1
                return
        else:
            spent = round((clock.tick() - run.began) * 1000)
            journal.ended.append((occurrence, run.outcome, run.reason or run.late, spent))
            if run.is_abandoned:
                journal.abandoned.append(occurrence.run)
            if run.is_refused:
                journal.refused.append((occurrence.place, occurrence.subject))
        self._progress(1)
        said = run.reason or run.late
        self._tell(RunResult(occurrence, run.outcome, said, run.fix, tuple(run.effects), run.trouble))
