"""How runs went: how many, how many failed or were taken back, and how long they took, by workflow and by day."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from zoneinfo import ZoneInfo

from msgspec import Struct


class RunEnd(Struct, frozen=True):
    """How one run ended. ``started`` is RFC 3339."""

    workflow: str
    started: str
    outcome: str
    milliseconds: int
    is_undone: bool


class RunFigures(Struct):
    """The figures of several runs; ``milliseconds`` in all, ``longest`` of one."""

    label: str = ""
    runs: int = 0
    failed: int = 0
    undone: int = 0
    milliseconds: int = 0
    longest: int = 0

    def note(self, run: RunEnd) -> None:
        """Counts a run."""
        self.runs += 1
        self.failed += run.outcome == "failed"
        self.undone += run.is_undone
        self.milliseconds += run.milliseconds
        self.longest = max(self.longest, run.milliseconds)

    @property
    def mean(self) -> int:
        """How long a run took, in milliseconds."""
        return round(self.milliseconds / self.runs) if self.runs else 0


class RunsReport(Struct, frozen=True):
    """The figures of all runs of a time, of each workflow (the one with the most runs first), and of each day."""

    total: RunFigures
    workflows: list[RunFigures]
    days: list[RunFigures]


def add_up_runs(ends: Iterable[RunEnd], zone: ZoneInfo) -> RunsReport:
    """The report of these runs, by the days of a zone."""
    total = RunFigures()
    workflows: dict[str, RunFigures] = {}
    days: dict[str, RunFigures] = {}
    for each in ends:
        day = datetime.fromisoformat(each.started).astimezone(zone).date().isoformat()
        total.note(each)
        workflows.setdefault(each.workflow, RunFigures(each.workflow)).note(each)
        days.setdefault(day, RunFigures(day)).note(each)
    most = sorted(workflows.values(), key=lambda figures: (-figures.runs, figures.label))
    return RunsReport(total, most, [days[day] for day in sorted(days)])
