"""What workflows would take up, found on a copy of the ledger in memory: nothing is written."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct, field

from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.running.open_program import OpenPlaces, observe, open_program
from whenvoca.engine.seeing.renamed_workflows import Renamed, find_renamed
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import WhenvocaError
from whenvoca.language import tree

_MOST = 100_000


class Preview(Struct):
    """The subjects that each workflow would take up now, by the workflow's file; and what is said of those that it
    could not."""

    waiting: dict[str, list[str]] = field(default_factory=dict)
    renamed: list[Renamed] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)


def preview(
    workspace: Workspace,
    workflows: Sequence[tree.Workflow],
    places: OpenPlaces,
    clock: Clock,
    standing: Collection[str],
) -> Preview:
    """Looks at the places, and lets each workflow take up what is for it. ``standing``: see ``find_renamed``."""
    ledger = SqliteLedger.copy_of(workspace.state_folder / "ledger.sqlite")
    found = Preview(renamed=find_renamed(ledger, workflows, standing))
    try:
        for workflow in workflows:
            try:
                program = open_program(workflow, places, ledger, workspace.zone)
                for source in program.sources.values():
                    sight = observe(ledger, source, clock.now())
                    found.left_out += [each for each in (*sight.faults, *sight.waits) if each not in found.left_out]
                    program.take_up(source, ledger, places, clock.now(), workspace.root)
            except WhenvocaError:
                continue
            waiting = ledger.waiting(workflow.identity, _MOST)
            found.waiting[workflow.file] = [occurrence.label for occurrence in waiting]
    finally:
        ledger.close()
    return found
