"""What workflows would take up, found on a copy of the ledger in memory: nothing is written."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger_sqlite import SqliteLedger
from whenvoca.engine.open_program import OpenPlaces, observe, open_program
from whenvoca.engine.workspace import Workspace
from whenvoca.errors import WhenvocaError
from whenvoca.language import tree

_MOST = 100_000


def preview(
    workspace: Workspace, workflows: Sequence[tree.Workflow], places: OpenPlaces, clock: Clock
) -> dict[str, list[str]]:
    """The subjects that each workflow would take up now, by the workflow's file."""
    ledger = SqliteLedger.copy_of(workspace.state_folder / "ledger.sqlite")
    found: dict[str, list[str]] = {}
    try:
        for workflow in workflows:
            try:
                program = open_program(workflow, places, ledger, workspace.zone)
                for source in program.sources.values():
                    observe(ledger, source, clock.now())
                    program.take_up(source, ledger, places, clock.now(), workspace.root)
            except WhenvocaError:
                continue
            waiting = ledger.waiting(workflow.identity, _MOST)
            found[workflow.file] = [occurrence.label for occurrence in waiting]
    finally:
        ledger.close()
    return found
