"""What happened while a workflow was paused: told, and skipped where that is asked for."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.running.open_program import open_program
from whenvoca.language import tree

_MOST = 100_000


def look_since(stage: WorkspaceStage, workflow: tree.Workflow) -> list[Occurrence]:
    """Looks at the workflow's places, and answers what it would take up now. Raises PlaceTrouble."""
    program = open_program(workflow, stage)
    for source in program.sources.values():
        source.observe(stage.clock.now())
        program.take_up(source)
    return stage.ledger.waiting(workflow.identity, _MOST)


def skip(ledger: Ledger, occurrences: Sequence[Occurrence]) -> None:
    """These are not taken up any more."""
    with ledger.transaction():
        for each in occurrences:
            ledger.drop(each, "skipped: the workflow was paused")
