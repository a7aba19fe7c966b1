"""What workflows would take up, found on a copy of the ledger in memory: nothing is written."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct, field

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.running.open_program import open_program
from whenvoca.engine.seeing.renamed_workflows import Renamed, find_renamed
from whenvoca.errors import WhenvocaError
from whenvoca.language import tree

_MOST = 100_000


class Preview(Struct):
    """The subjects that each workflow would run for now, by the workflow's file, and what is said of the others."""

    waiting: dict[str, list[str]] = field(default_factory=dict)
    renamed: list[Renamed] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)


def preview(stage: WorkspaceStage, workflows: Sequence[tree.Workflow], standing: Collection[str]) -> Preview:
    """What each workflow would run for, on a stage whose ledger is a copy. ``standing``: see ``find_renamed``."""
    found = Preview(renamed=find_renamed(stage.ledger, workflows, standing))
    for workflow in workflows:
        try:
            program = open_program(workflow, stage)
            for source in program.sources.values():
                noticed = source.observe(stage.clock.now())
                found.left_out += [each for each in (*noticed.faults, *noticed.waits) if each not in found.left_out]
                program.take_up(source)
        except WhenvocaError:
            continue
        waiting = stage.ledger.waiting(workflow.identity, _MOST)
        found.waiting[workflow.file] = [occurrence.label for occurrence in waiting]
    return found
