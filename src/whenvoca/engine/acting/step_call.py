"""What a step is given when it acts: its fields, its places, the stage, and who it is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from copy import copy
from datetime import date, datetime, time
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.engine.acting.keyed import Performing
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import Found
from whenvoca.errors import RequestFault, RowFault
from whenvoca.language import tree
from whenvoca.language.definitions import EVERY_PLACE
from whenvoca.language.evaluation import Scope, Thing, Value
from whenvoca.language.inference import fold_name
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value
from whenvoca.values.zones import load_zone


class RunContext(Struct):
    """What one run acts with."""

    stage: Stage
    scope: Scope
    workflow: str  # the identity, not the file's name
    subject_key: str
    subject_place: str
    run: int = 0  # its number
    sequence: int = 0  # of the observation that this is about
    is_set: bool = True  # the subject makes identities, else the occurrence
    is_lost: bool = False  # the subject is not in the workflow's set (any more)
    is_last_try: bool = False  # trouble at a place is now a failure
    ordinals: dict[tuple[str, ...], int] = field(default_factory=dict)
    reads: dict[tuple[str, int], list[Found]] = field(default_factory=dict)  # what look-ups found, by step and ordinal
    fresh_reads: list[tuple[str, int, list[Found]]] = field(default_factory=list)  # not journalled yet
    trace: Trace | None = None
    ask: Callable[[Question], Any] | None = (
        None  # answers what the workflow asks; raises RequestFault where nobody does
    )

    def answer(self, asked: Question) -> Any:
        """The answer to a question; after a crash, or in a retry, the one that was given before."""
        step = f"ask {asked.name}"
        if (step, 1) not in self.reads:
            if self.ask is None:
                raise RowFault(f'nobody answers "{asked.name}" here', fix=f"--give {asked.name}=…")
            try:
                found = [Found("", asked.name, {"answer": self.ask(asked)})]
            except RequestFault as fault:
                raise RowFault(fault.message, fix=fault.fix) from fault
            self.reads[step, 1] = found
            self.fresh_reads.append((step, 1, found))
        return self.reads[step, 1][0].state["answer"]


class Trace(Protocol):
    """Hears what a run does, to explain it."""

    def condition(self, node: tree.Node, scope: Scope, *, holds: bool) -> None:
        """A condition of an if, and how it came out."""

    def step(self, step: tree.Step, key: str, repetition: str, values: Sequence[tuple[str, Any]]) -> None:
        """A step that begins, with what its fields came to. ``key`` and ``repetition`` are those of its effects."""


class StepCall:
    """What a step's ``act`` is given: its fields, its place, the stage, and who it is."""

    def __init__(self, step: CompiledStep, context: RunContext, repetition: str) -> None:
        self._step = step
        self._context = context
        self.repetition = repetition
        self.stage = context.stage
        self.people = context.stage.workspace.people
        self.definition = step.tree.definition
        self.scope = context.scope
        if step.rules_zone and not is_empty(zone := self.value("zone")):
            self.scope = context.scope.in_zone(load_zone(str(zone)))
        self._lineage: Lineage | None = None

    @property
    def place(self) -> str:
        """The place that the step names, else that of the subject."""
        return self._step.tree.places[-1] if self._step.tree.places else self._context.subject_place

    @property
    def calendars(self) -> list[str]:
        """The calendars that the step names."""
        places = self._step.tree.places
        return self.stage.calendar_names() if places == (EVERY_PLACE,) else list(places)

    @property
    def is_lost(self) -> bool:
        """Whether the subject is not in the workflow's set any more."""
        return self._context.is_lost

    @property
    def workflow_named(self) -> str:
        """The workflow that the sentence names in quotes."""
        node = self._step.tree.slots["WORKFLOW"]
        return str(node.lines[0][0]) if isinstance(node, tree.Text) else ""

    @property
    def run(self) -> int:
        """The number of the run."""
        return self._context.run

    @property
    def root(self) -> str:
        """The root of identities."""
        return self.stage.workspace.root

    @property
    def named(self) -> Any:
        """What the NAME of the sentence stands for; None where the sentence has none."""
        return self._step.named(self.scope) if self._step.named else None

    @property
    def has_name(self) -> bool:
        """Whether the sentence names what it acts on."""
        return self._step.named is not None

    @property
    def where_said(self) -> str:
        """The look-up's conditions as they are written, for messages."""
        return self._step.where_said

    def fits(self, thing: Thing) -> bool:
        """Whether a candidate fits the step's `where`: bare names are its fields, then given names."""
        if self._step.condition is None:
            return True
        outer = self._context.scope
        names = dict(outer.names)
        if outer.subject_word:
            names[outer.subject_word] = outer.subject
        return self._step.condition(Scope(thing, "", outer.now, self.scope.zone, names, outer.words))

    def wanted(self, word: str) -> Any:
        """The value that a `WORD is VALUE` of the `where` asks for, None if it asks for none."""
        value = self._step.wanted.get(word)
        if value is None:
            return None
        outer = self._context.scope
        names = {**outer.names, outer.subject_word: outer.subject} if outer.subject_word else outer.names
        return value(Scope(None, "", outer.now, self.scope.zone, names, outer.words))

    @property
    def wanted_words(self) -> list[str]:
        """The fields that the `where` compares with a value by `is`."""
        return list(self._step.wanted)

    def recalled(self, search: Callable[[], list[Found]]) -> list[Found]:
        """What a look-up finds; after a crash what it found before, so that the run goes on with the same things."""
        context = self._context
        step = f"{self._step.number} {self._step.tree.path} {self.repetition}"
        context.ordinals["read " + step, ""] = ordinal = context.ordinals.get(("read " + step, ""), 0) + 1
        if (step, ordinal) not in context.reads:
            context.reads[step, ordinal] = found = search()
            context.fresh_reads.append((step, ordinal, found))
        return context.reads[step, ordinal]

    def bound(self, thing: Thing) -> StepCall:
        """The same step for one of the things it acts on: its name stands for the thing as it is before the change."""
        call = copy(self)
        call.scope = copy(self.scope)
        if self._step.name:
            call.scope.names = {**self.scope.names, self._step.name: thing}
        return call

    def gives(self, word: str) -> bool:
        """Whether the field stands there, empty or not."""
        return word in self._step.values

    @property
    def subject(self) -> Thing | None:
        """The run's subject."""
        return self._context.scope.subject

    @property
    def now(self) -> datetime:
        """The moment of the occurrence."""
        return self._context.scope.now.astimezone(self.scope.zone)

    @property
    def sentence_value(self) -> Any:
        """What the VALUE in the step's sentence comes to."""
        return self._step.sentence_value(self.scope) if self._step.sentence_value else None

    @property
    def names_place(self) -> bool:
        """Whether the sentence names a place."""
        return bool(self._step.tree.places)

    @property
    def column_words(self) -> list[str]:
        """The columns that stand below the step, as written."""
        return [written for written, _ in self._step.columns]

    def with_element(self, element: Any) -> StepCall:
        """The same step for one element of the list in its sentence."""
        each = self._step.tree.slots["EACH"]
        call = copy(self)
        call.scope = self.scope.with_names({**self.scope.names, fold_name(getattr(each, "word", "")): element})
        return call

    def told(self, word: str, zone: ZoneInfo | None) -> str:
        """The field's text as somebody reads it: a list one a line, moments in their zone, where they have one."""
        call = self
        if zone is not None:
            call = copy(self)
            call.scope = self.scope.told_in(zone)
        value = call.value(word)
        return "\n".join(show_value(item) for item in value) if isinstance(value, list | tuple) else show_value(value)

    def occasion(self, what: str) -> str:
        """What names a message, letter or call of this very occurrence: the same when it has to be sent again."""
        c = self._context
        step = f"{self._step.number} {self._step.tree.path}"
        context = f"{c.subject_place} {c.subject_key}#{c.sequence}"
        return Lineage(self.root, c.workflow, context, step, f"{self.repetition} {what}").to_uid(1)

    def follows(self, word: str) -> tuple[str, str, str] | None:
        """The event whose start or end the field names, as (calendar, key, field): what is set until then follows
        it."""
        node = next((line.value for line in self._step.tree.fields if line.word == word), None)
        if not isinstance(node, tree.Field) or node.word not in ("start", "end") or not isinstance(node.of, tree.Name):
            return None
        owner = fold_name(node.of.word)
        thing: Any = self.scope.subject if owner == self.scope.subject_word else self.scope.names.get(owner)
        return (thing.place, thing.key, node.word) if hasattr(thing, "event") else None

    def allows_host(self, host: str) -> bool:
        """Whether the workflow itself names the host."""
        return f"//{host}".lower() in self._step.host_said

    @property
    def subject_word(self) -> str:
        """What the run is about: row, event."""
        return self._context.scope.subject_word

    @property
    def subject_place(self) -> str:
        """The place of the run's subject."""
        return self._context.subject_place

    @property
    def subject_key(self) -> str:
        """The key of the run's subject."""
        return self._context.subject_key

    @property
    def lineage(self) -> Lineage:
        """Who the thing is that this step makes."""
        if self._lineage is None:
            c = self._context
            by_subject = c.is_set or self.definition.is_mirror
            subject = c.subject_key if by_subject else f"{c.subject_key}#{c.sequence}"
            self._lineage = Lineage(self.root, c.workflow, subject, self._step.path, self.repetition)
        return self._lineage

    def lineage_of(self, mark: str) -> Lineage | None:
        """The lineage of a mark if this very step made it, for whichever subject."""
        made = Lineage.from_mark(mark)
        mine = self.lineage
        if made is None or (made.root, made.workflow, made.step, made.repetition) != (
            mine.root,
            mine.workflow,
            mine.step,
            mine.repetition,
        ):
            return None
        return made

    def value(self, word: str, default: Any = None) -> Any:
        """The field's value; the default where it is not given or empty."""
        compiled = self._step.values.get(word)
        if compiled is None:
            return default
        value = compiled(self.scope)
        return default if is_empty(value) else value

    def text(self, word: str) -> str:
        """The field's value as a text, empty where it is not given."""
        return show_value(self.value(word))

    def at_parts(self, word: str) -> tuple[date | None, time | None] | None:
        """The date and time of a field written `DATE at TIME`, None if it is written otherwise."""
        parts = self._step.parts.get(word)
        return parts(self.scope) if parts else None

    def shares_day(self, first: str, second: str) -> bool:
        """Whether two fields are written `DATE at TIME` with the very same date."""
        return (first, second) in self._step.same_days

    def resolved(self) -> list[tuple[str, Any]]:
        """Each field and column with what it comes to, or the fault that it is; for `explain`."""
        found: list[tuple[str, Any]] = []
        for word, value in [*self._step.values.items(), *self._step.columns]:
            try:
                found.append((word, value(self.scope)))
            except RowFault as fault:
                found.append((word, fault))
        return found

    def columns(self) -> list[tuple[str, Any]]:
        """The step's columns with their values, by word as written."""
        return [(written, value(self.scope)) for written, value in self._step.columns]


class CompiledStep(Struct):
    """A step of a workflow, its values and conditions compiled once."""

    tree: tree.Step
    number: int  # among the workflow's steps
    name: str
    path: str  # what names it in identities
    key: str  # what names it among the effects of a run
    values: dict[str, Value]
    columns: list[tuple[str, Value]]
    parts: dict[str, Callable[[Scope], tuple[date | None, time | None]]]
    same_days: set[tuple[str, str]]
    rules_zone: bool
    on_failure: list[Action] | None
    named: Value | None
    sentence_value: Value | None
    hides: bool  # what private events are about stays out of it
    host_said: str  # what is written out in the sentence's value, in lower case
    condition: Callable[[Scope], bool] | None
    wanted: dict[str, Value]
    where_said: str


Action = Callable[[RunContext, str], Performing]
