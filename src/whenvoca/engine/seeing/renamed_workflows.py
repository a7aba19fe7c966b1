"""Workflows that look as if their file had got another name: under it they would do everything a second time."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.language import tree


class Renamed(Struct, frozen=True):
    """A workflow that has never looked, and one without a file that looked at the same places."""

    workflow: tree.Workflow
    before: str

    @property
    def said(self) -> str:
        """What is to be feared."""
        return (
            f'{self.workflow.name} has never run, and "{self.before}", which looked at the same place, has no file '
            "any more: "
            "if it is the same workflow, everything would be done a second time"
        )

    @property
    def fix(self) -> str:
        """What says that it is the same."""
        return f'write into {self.workflow.file}: formerly "{self.before}"'


def find_renamed(ledger: Ledger, workflows: Sequence[tree.Workflow], standing: Collection[str]) -> list[Renamed]:
    """Those among the workflows that may be another one's; ``standing`` are the names of all workflow files, and what
    they were called formerly."""
    looked = ledger.readers()
    gone = {name: places for name, places in looked.items() if name not in standing}
    found = []
    for workflow in workflows:
        trigger = workflow.trigger
        if workflow.identity in looked:
            continue
        mine = {place.lower() for place in trigger.places}
        before = next((name for name, places in gone.items() if mine and {each.lower() for each in places} == mine), "")
        if before:
            found.append(Renamed(workflow, before))
    return found
