"""A workflow opened on its places: what it looks at, and what it takes up there."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.engine.acting.program import Program
from whenvoca.engine.acting.stage import StagePlaces
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.running.batch import SavingFile
from whenvoca.engine.seeing.observing import Noticed, observe_calendar, observe_chat, observe_sheet, take_up
from whenvoca.engine.seeing.sources import CalendarSource, EmptySource, MessageSource, SheetSource, Source, to_sources
from whenvoca.engine.seeing.starts import CLOCK, TakenUp, take_up_clock, take_up_starts
from whenvoca.engine.workspace.checking import written_columns
from whenvoca.language import tree
from whenvoca.language.definitions import EVERY_PLACE
from whenvoca.language.inference import fold_name
from whenvoca.values.zones import load_zone


class OpenPlaces(StagePlaces, Protocol):
    """The places of a workspace, opened."""

    @property
    def files(self) -> Sequence[SavingFile]:
        """The files behind the sheets."""

    def hash_of(self, file: str) -> str:
        """The hash of a file as it stands, empty if there is none."""

    def sweep(self) -> None:
        """Takes away temporaries that a crash left."""

    def rehearsed(self, instead: Mapping[str, Path] | None = None) -> OpenPlaces:
        """The same places, read for real, where a write is only remembered; ``instead`` names other files for
        sheets."""


class OpenProgram(Struct):
    """A workflow ready to run, with the places that its trigger looks at."""

    program: Program
    sources: dict[str, Source]
    written: dict[str, list[str]]  # columns that it writes, by lower-case place

    @property
    def identity(self) -> str:
        """The name that stands in identities."""
        return self.program.workflow.identity

    @property
    def zone(self) -> ZoneInfo | None:
        """The zone in which the workflow says its times are meant; None: that of the place."""
        name = self.program.workflow.settings.zone
        return load_zone(name) if name else None

    @property
    def subject_word(self) -> str:
        """What it is about: row, event."""
        trigger = self.program.workflow.trigger
        return trigger.definition.subject if trigger else ""

    @property
    def watches(self) -> str:
        """What its trigger looks at."""
        trigger = self.program.workflow.trigger
        return trigger.definition.watches if trigger else ""

    @property
    def first_happening(self) -> str:
        """What a subject that is chosen by hand counts as."""
        trigger = self.program.workflow.trigger
        return trigger.happenings[0] if trigger else "gained"

    def take_up(self, source: Source, ledger: Ledger, places: OpenPlaces, now: datetime, root: str) -> TakenUp:
        """Finds the occurrences among what the workflow has not looked at yet."""

        def made() -> dict[str, str]:
            return _made_by_mirrors(self.program, places, ledger, root)

        zone = self.zone or source.zone
        if self.watches == "hand":
            return TakenUp()
        if self.watches == "clock":
            return take_up_clock(ledger, self.program, now, zone)
        if self.watches in ("starts", "ends"):
            assert isinstance(source, CalendarSource)
            return take_up_starts(ledger, self.program, source, now, zone)
        written = self.written.get(source.name.lower(), [])
        return take_up(ledger, self.program, source, now, self.zone or source.zone, written, made)


def _made_by_mirrors(program: Program, places: OpenPlaces, ledger: Ledger, root: str) -> dict[str, str]:
    """What stands of a workflow's mirrors, by subject: the events' and tasks' UIDs, the rows' keys."""
    found: dict[str, str] = {}
    prefix = Lineage.prefix(root, program.workflow.identity)
    for step in program.mirrors:
        name = step.places[-1].lower()
        if step.definition.thing == "row":
            sheet = places.sheets[name]
            standing = set(sheet.keys())
            marks = {mark: key for mark, key in ledger.marks_made(sheet.name, prefix).items() if key in standing}
        else:
            face = places.tasks[name] if step.definition.thing == "task" else places.calendars[name]
            known = {uid: mark for mark, uid in ledger.marks_made(face.name, prefix).items()}
            # subjects may have been renamed
            marks = {known.get(uid, mark): uid for mark, uid in face.find_marks(prefix).items()}
        for mark, uid in marks.items():
            lineage = Lineage.from_mark(mark)
            if lineage is not None and lineage.step == step.path:
                found[lineage.subject] = uid
    return found


def open_program(workflow: tree.Workflow, places: OpenPlaces, ledger: Ledger, zone: ZoneInfo) -> OpenProgram:
    """The workflow ready to run, its names bound to the columns of the real sheets; ``zone`` is the workspace's."""
    assert workflow.trigger is not None
    every = [name.lower() for name in places.calendars]
    names = [each.lower() for name in workflow.trigger.places for each in (every if name == EVERY_PLACE else [name])]
    dated: Any = ChainMap(places.calendars, places.tasks)  # type: ignore[arg-type]  # read only
    sources = to_sources(names, places.sheets, dated, places.chats, ledger)
    if not workflow.trigger.places:
        none = EmptySource(CLOCK if workflow.trigger.definition.watches == "clock" else "hand", zone)
        sources = {none.name: none}

    def columns_of(place: str) -> frozenset[str]:
        return frozenset(fold_name(word) for word in places.sheets[place].info().by_word)

    fields = next(iter(sources.values())).fields if sources else frozenset()
    return OpenProgram(Program(workflow, fields, columns_of), sources, written_columns([workflow]))


def observe(ledger: Ledger, source: Source, now: datetime) -> Noticed:
    """Looks at a place and enters what changed into the log."""
    if isinstance(source, EmptySource):
        return Noticed()
    if isinstance(source, SheetSource):
        return observe_sheet(ledger, source.sheet, now)
    if isinstance(source, MessageSource):
        return observe_chat(ledger, source.chat, now)
    assert isinstance(source, CalendarSource)
    return observe_calendar(ledger, source.calendar, now)
