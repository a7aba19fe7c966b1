"""A workflow opened on its places: what it looks at, and what it takes up there."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.engine.acting.program import Program
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.all_places import Places
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import RowState, Source
from whenvoca.engine.seeing.clock_readings import CLOCK
from whenvoca.engine.seeing.sources import EmptySource
from whenvoca.engine.seeing.strategy import Search, TakenUp, TriggerStrategy
from whenvoca.engine.workspace.checking import written_columns
from whenvoca.language import tree
from whenvoca.language.definitions import EVERY_PLACE, TriggerDefinition
from whenvoca.language.evaluation import Scope
from whenvoca.language.names import fold_name
from whenvoca.values.zones import load_zone


class OpenProgram(Struct):
    """A workflow ready to run on a stage, with the places that its trigger looks at."""

    stage: WorkspaceStage
    program: Program
    sources: dict[str, Source]
    written: dict[str, list[str]]  # columns that it writes, by lower-case place

    @property
    def workflow(self) -> tree.Workflow:
        """The checked workflow."""
        return self.program.workflow

    @property
    def identity(self) -> str:
        """The name that stands in identities."""
        return self.workflow.identity

    @property
    def trigger(self) -> TriggerDefinition:
        """What its trigger is."""
        return self.workflow.trigger.definition

    @property
    def strategy(self) -> TriggerStrategy:
        """How its trigger finds what is new."""
        return self.trigger.strategy  # type: ignore[return-value]  # the language knows a part of it

    @property
    def zone(self) -> ZoneInfo | None:
        """The zone in which the workflow says its times are meant; None: that of the place."""
        name = self.workflow.settings.zone
        return load_zone(name) if name else None

    def scope_of(self, source: Source, key: str, state: RowState, at: datetime) -> Scope:
        """What its values are read among, for a subject at a moment."""
        given = dict(source.given(key, state)) if self.trigger.given else {}
        return Scope(source.thing(key, state), self.trigger.subject, at, self.zone or source.zone, given)

    def take_up(self, source: Source) -> TakenUp:
        """Finds the occurrences among what the workflow has not looked at yet."""
        stage = self.stage
        return self.strategy.take_up(
            Search(
                stage.ledger,
                self.program,
                source,
                stage.clock.now(),
                self.zone or source.zone,
                self.written.get(source.name.lower(), []),
                lambda: _made_by_mirrors(self.program, stage.places, stage.ledger, stage.workspace.root),
            )
        )

    def count_kept(self) -> int:
        """How many things its mirrors keep, as far as we know."""
        stage = self.stage
        prefix = Lineage.prefix(stage.workspace.root, self.identity)
        count = 0
        for name, thing in {(step.places[-1].lower(), step.definition.thing) for step in self.program.mirrors}:
            if thing == "row":
                sheet = stage.places.sheets[name]
                count += len(set(stage.ledger.marks_made(sheet.name, prefix).values()) & set(sheet.keys()))
            else:
                calendar = (stage.places.tasks if thing == "task" else stage.places.calendars)[name]
                count += stage.ledger.count_made(calendar.name, prefix)
        return count

    def next_due(self) -> datetime | None:
        """When it has to look again by itself, None if nothing is known to come."""
        stage = self.stage
        zone = self.zone or stage.workspace.zone
        return self.strategy.next_due(stage.ledger, self.program, stage.clock.now(), zone)


def _made_by_mirrors(program: Program, places: Places, ledger: Ledger, root: str) -> Mapping[str, str]:
    """What stands of a workflow's mirrors, by subject: the events' and tasks' UIDs, the rows' keys."""
    found: dict[str, str] = {}
    prefix = Lineage.prefix(root, program.workflow.identity)
    for step in program.mirrors:
        name = step.places[-1].lower()
        if step.definition.thing == "row":
            sheet = places.sheets[name]
            known_keys = set(sheet.keys())
            marks = {mark: key for mark, key in ledger.marks_made(sheet.name, prefix).items() if key in known_keys}
        else:
            calendar = places.tasks[name] if step.definition.thing == "task" else places.calendars[name]
            made = ledger.marks_made(calendar.name, prefix).items()
            known = {uid: mark for mark, uid in made if (own := Lineage.from_mark(mark)) and own.step == step.path}
            # subjects may have been renamed since the mark was written
            marks = {known.get(uid, mark): uid for mark, uid in calendar.find_marks(prefix).items()}
            if adopted := {mark: uid for uid, mark in known.items() if mark not in marks}:
                standing = {event.uid for event in calendar.all_events()}  # they carry no mark of ours
                marks |= {mark: uid for mark, uid in adopted.items() if uid in standing}
        for mark, uid in marks.items():
            lineage = Lineage.from_mark(mark)
            if lineage is not None and lineage.step == step.path:
                found[lineage.subject] = uid
    return found


def open_program(workflow: tree.Workflow, stage: WorkspaceStage) -> OpenProgram:
    """The workflow ready to run on a stage, its names bound to the columns of the real sheets."""
    places, trigger = stage.places, workflow.trigger
    sources: dict[str, Source] = {}
    for name in trigger.places:
        for each in places.calendars if name == EVERY_PLACE else [name.lower()]:
            source = places.source(each, stage.ledger, trigger.definition.subject)
            sources[source.name] = source
    if not trigger.places:
        none = EmptySource(
            "hand" if trigger.definition.strategy.is_by_hand else CLOCK, stage.workspace.zone, stage.ledger
        )
        sources = {none.name: none}

    def columns_of(place: str) -> frozenset[str]:
        return frozenset(fold_name(word) for word in places.sheets[place].info().by_word)

    fields = next(iter(sources.values())).fields if sources else frozenset()
    program = Program(workflow, fields, columns_of, stage.workspace.days_off)
    return OpenProgram(stage, program, sources, written_columns([workflow]))
