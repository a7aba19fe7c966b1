"""What triggers by time have in common: how late they may run, and how the ledger keeps moments."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from whenvoca.engine.acting.program import Program
from whenvoca.engine.seeing.clock_moments import to_span

JUST_BEFORE = timedelta(microseconds=1)  # a workflow that looks for the first time begins this long before now
_HOUR = timedelta(hours=1)  # how late a start or a moment of the clock may still run, unless `missed` says otherwise


def missed_after(program: Program) -> timedelta:
    """How late the workflow may still run."""
    node = program.workflow.settings.missed
    return _HOUR if node is None else to_span(node).to_timedelta()


def to_mark(moment: datetime) -> str:
    """A moment as the ledger keeps it: UTC, in an order that texts have too."""
    return moment.astimezone(UTC).isoformat(timespec="microseconds")
