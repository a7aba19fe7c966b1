"""What happened while a workflow was paused: told, and skipped where that is asked for."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger, Occurrence
from whenvoca.engine.running.open_program import OpenPlaces, observe, open_program
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.language import tree

_MOST = 100_000


def look_since(
    workspace: Workspace, workflow: tree.Workflow, places: OpenPlaces, ledger: Ledger, clock: Clock
) -> list[Occurrence]:
    """Looks at the workflow's places, and answers what it would take up now."""
    program = open_program(workflow, places, ledger, workspace.zone)
    for source in program.sources.values():
        observe(ledger, source, clock.now())
        program.take_up(source, ledger, places, clock.now(), workspace.root)
    return ledger.waiting(workflow.identity, _MOST)


def skip(ledger: Ledger, occurrences: Sequence[Occurrence]) -> None:
    """These are not taken up any more."""
    with ledger.transaction():
        for each in occurrences:
            ledger.drop(each, "skipped: the workflow was paused")
