"""Workflows that look as if their file, or the place they look at, had got another name: under it they would do
everything a second time."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.language import tree
from whenvoca.language.definitions import EVERY_PLACE

_NO_PLACES = ("clock", "hand")  # stand for a place where there is none


class Renamed(Struct, frozen=True):
    """A workflow that has never looked, and one without a file that looked at the same places; or a workflow that looks
    at a place which is new, and one that it looked at which is gone (``place`` is the new one)."""

    workflow: tree.Workflow
    before: str
    place: str = ""

    @property
    def said(self) -> str:
        """What is to be feared."""
        if self.place:
            return (
                f'{self.workflow.name} has never looked at {self.place}, and the place "{self.before}", which it '
                "looked "
                "at, is gone: if it is the same place, everything would be done a second time"
            )
        return (
            f'{self.workflow.name} has never run, and "{self.before}", which looked at the same place, has no file '
            "any more: "
            "if it is the same workflow, everything would be done a second time"
        )

    @property
    def fix(self) -> str:
        """What says that it is the same."""
        if self.place:
            return f'write into whenvoca.toml, below [places.{self.place}]: formerly = "{self.before}"'
        return f'write into {self.workflow.file}: formerly "{self.before}"'


def find_renamed_place(ledger: Ledger, named: Collection[str], places: Collection[str]) -> str:
    """A sentence where one place that the ledger knows is gone, and one of those ``named`` in workflows is new."""
    known = {place.lower(): place for place in ledger.places()}
    gone = [place for name, place in known.items() if name not in {each.lower() for each in (*places, *_NO_PLACES)}]
    new = [place for place in places if place.lower() in {each.lower() for each in named} - known.keys()]
    if len(gone) != 1 or len(new) != 1:
        return ""
    return (
        f'the place "{gone[0]}" is gone, and {new[0]} is new: if it is the same one, write into whenvoca.toml, below '
        f'[places.{new[0]}]: formerly = "{gone[0]}"'
    )


def find_renamed(
    ledger: Ledger, workflows: Sequence[tree.Workflow], standing: Collection[str], places: Collection[str]
) -> list[Renamed]:
    """Those among the workflows that may be another one's, or look at a place of another name; ``standing`` are the
    names of all workflow files, and what they were called formerly, ``places`` those of all places."""
    looked = ledger.readers()
    gone = {name: places for name, places in looked.items() if name not in standing}
    found = []
    for workflow in workflows:
        trigger = workflow.trigger
        if workflow.identity in looked:
            known = {place.lower() for place in (*places, *_NO_PLACES)}
            lost = [place for place in looked[workflow.identity] if place.lower() not in known]
            seen = {place.lower() for place in looked[workflow.identity]}
            fresh = [place for place in trigger.places if place.lower() not in seen and place != EVERY_PLACE]
            if lost and fresh:
                found.append(Renamed(workflow, lost[0], fresh[0]))
            continue
        mine = {place.lower() for place in trigger.places}
        before = next((name for name, places in gone.items() if mine and {each.lower() for each in places} == mine), "")
        if before:
            found.append(Renamed(workflow, before))
    return found
