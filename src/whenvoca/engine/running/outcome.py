"""What a run came to, and what one `run` of all that waits did."""

from __future__ import annotations

from msgspec import Struct, field

from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.running.brake import Held, Losses
from whenvoca.errors import ExitCode, WhenvocaError


class RunResult(Struct, frozen=True):
    """How a run ended, for people: done, failed, missed, not taken up, or waiting for a setting or a place."""

    occurrence: Occurrence
    outcome: str
    reason: str = ""
    fix: str = ""
    effects: tuple[Effect, ...] = ()
    trouble: WhenvocaError | None = None

    @property
    def workflow(self) -> str:
        """The workflow's identity."""
        return self.occurrence.workflow

    @property
    def label(self) -> str:
        """How messages call what it was about."""
        return self.occurrence.label


class HeldBack(Struct, frozen=True):
    """A subject that does not run until a person changes it, since its run was taken back."""

    workflow: str  # its name
    noun: str
    key: str
    label: str


class Outcome(Struct):
    """What one `run` did."""

    results: list[RunResult] = field(default_factory=list)  # all that did not go well, and as many others as are told
    counts: dict[str, int] = field(default_factory=dict)  # of all, by outcome
    faults: list[str] = field(default_factory=list)  # rows that cannot be taken up
    waits: list[str] = field(default_factory=list)  # rows without their key
    unanswered: int = 0  # rows whose last run failed and that nobody has changed since
    held_back: list[HeldBack] = field(default_factory=list)
    troubles: list[str] = field(default_factory=list)  # places that could not be looked at
    held: list[Held] = field(default_factory=list)  # batches that the brake holds
    losses: dict[str, Losses] = field(default_factory=dict)  # of a rehearsal, by workflow
    # what is wrong with the data of each place that was looked at
    told: dict[str, list[str]] = field(default_factory=dict)
    seen: int = 0  # whether anything had changed at the places

    def hear(self, result: RunResult, most: int) -> None:
        """Counts a run that ended, and keeps it to be told."""
        self.counts[result.outcome] = self.counts.get(result.outcome, 0) + 1
        if result.outcome != "done" or len(self.results) < most:
            self.results.append(result)

    @property
    def is_unreachable(self) -> bool:
        """Whether a place could not be reached or written."""
        return bool(self.troubles) or any(result.trouble is not None for result in self.results)

    @property
    def exit_code(self) -> ExitCode:
        """0, 1 if a run failed or waits for a setting, 3 if a place could not be reached, 4 if the brake holds runs."""
        if self.is_unreachable:
            return ExitCode.UNREACHABLE
        if self.held:
            return ExitCode.NEEDS_YES
        failed = self.faults or self.counts.get("failed") or self.counts.get("waiting")
        return ExitCode.FAILED if failed else ExitCode.DONE
