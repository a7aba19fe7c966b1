"""A checked workflow made ready to run: values compiled once, statements worked through as a generator of effects.

A run asks for a write by yielding it and gets the receipt back; so a group of runs can advance in lockstep, and a run
that a crash cut short is worked through again with the receipts it has.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Generator, Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field
from datetime import date, time
from functools import cached_property
from typing import Any, Protocol

from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.event_thing import EVENT_FIELDS
from whenvoca.engine.faces import Found
from whenvoca.engine.identity import Lineage
from whenvoca.engine.stage import Stage
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.language import tree
from whenvoca.language.checker import iter_steps
from whenvoca.language.definitions import EVERY_PLACE
from whenvoca.language.evaluation import Compiler, Scope, Thing, Value, WaitingFault
from whenvoca.language.inference import fold_name
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value
from whenvoca.values.zones import load_zone

Acting = Generator[Effect, Receipt, Any]
Performing = Generator[tuple[EffectKey, Effect], Receipt, None]


class _Stopped(Exception):
    """`stop` was reached."""


@dataclass(frozen=True, slots=True)
class People:
    """Names that stand for addresses, by lower-case name."""

    addresses: Mapping[str, str] = field(default_factory=dict)
    organizer: str = ""  # who invites

    def to_address(self, name: str) -> str:
        """The address of a person's name; what is no name is given back."""
        return self.addresses.get(name.lower(), name)


@dataclass(slots=True)
class RunContext:
    """What one run acts with."""

    stage: Stage
    scope: Scope
    root: str
    workflow: str  # the identity, not the file's name
    subject_key: str
    subject_place: str
    people: People
    sequence: int = 0  # of the observation that this is about
    is_set: bool = True  # the subject makes identities, else the occurrence
    is_lost: bool = False  # the subject is not in the workflow's set (any more)
    is_last_try: bool = False  # trouble at a place is now a failure
    ordinals: dict[tuple[str, str], int] = field(default_factory=dict)
    reads: dict[tuple[str, int], list[Found]] = field(default_factory=dict)  # what look-ups found, by step and ordinal
    fresh_reads: list[tuple[str, int, list[Found]]] = field(default_factory=list)  # not journalled yet
    trace: Trace | None = None


class Trace(Protocol):
    """Hears what a run does, to explain it."""

    def condition(self, node: tree.Node, scope: Scope, *, holds: bool) -> None:
        """A condition of an if, and how it came out."""

    def step(self, step: tree.Step, key: str, repetition: str, values: Sequence[tuple[str, Any]]) -> None:
        """A step that begins, with what its fields came to. ``key`` and ``repetition`` are those of its effects."""


class StepCall:
    """What a step's ``act`` is given: its fields, its place, the stage, and who it is."""

    def __init__(self, step: _CompiledStep, context: RunContext, repetition: str) -> None:
        self._step = step
        self._context = context
        self.repetition = repetition
        self.stage = context.stage
        self.people = context.people
        self.definition = step.tree.definition
        zone = self.value("zone") if "zone" in step.values and step.rules_zone else None
        self.scope = context.scope if is_empty(zone) else context.scope.in_zone(load_zone(str(zone)))

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
    def root(self) -> str:
        """The root of identities."""
        return self._context.root

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
    def subject_place(self) -> str:
        """The place of the run's subject."""
        return self._context.subject_place

    @property
    def subject_key(self) -> str:
        """The key of the run's subject."""
        return self._context.subject_key

    @cached_property
    def lineage(self) -> Lineage:
        """Who the thing is that this step makes."""
        c = self._context
        by_subject = c.is_set or self.definition.is_mirror
        subject = c.subject_key if by_subject else f"{c.subject_key}#{c.sequence}"
        return Lineage(c.root, c.workflow, subject, self._step.tree.path, self.repetition)

    def lineage_of(self, mark: str) -> Lineage | None:
        """The lineage of a mark if this very step made it, for whichever subject."""
        made = Lineage.from_mark(mark)
        mine = self.lineage
        if made is None or (made.root, made.workflow, made.step, made.repetition) != (
            mine.root, mine.workflow, mine.step, mine.repetition,
        ):  # fmt: skip
            return None
        return made

    def value(self, word: str, default: Any = None) -> Any:
        """The field's value; the default where it is not given or empty."""
        compiled = self._step.values.get(word)
        if compiled is None:
            return default
        value = compiled(getattr(self, "scope", self._context.scope))
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


@dataclass(slots=True)
class _CompiledStep:
    tree: tree.Step
    number: int  # among the workflow's steps
    name: str
    values: dict[str, Value]
    columns: list[tuple[str, Value]]
    parts: dict[str, Callable[[Scope], tuple[date | None, time | None]]]
    same_days: set[tuple[str, str]]
    rules_zone: bool
    on_failure: list[_Action] | None
    named: Value | None
    condition: Callable[[Scope], bool] | None
    wanted: dict[str, Value]
    where_said: str


_Action = Callable[[RunContext, str], Performing]


class Program:
    """A workflow ready to run. ``columns`` are the folded names of the subject's fields, ``columns_of`` those of a sheet."""

    def __init__(
        self, workflow: tree.Workflow, columns: frozenset[str],
        columns_of: Callable[[str], frozenset[str]] = lambda place: frozenset(),
    ) -> None:  # fmt: skip
        self.workflow = workflow
        self.columns = columns
        self.mirrors = [step for step in iter_steps(workflow) if step.definition.is_mirror]
        self.is_mirror = bool(self.mirrors)
        self._columns_of = columns_of
        self._compiler = Compiler(columns)
        self._steps = 0
        assert workflow.trigger is not None
        self.where = self._compiler.conditions(workflow.trigger.conditions)
        self._body = self._compile(workflow.body)
        self._on_failure = self._compile(workflow.on_failure) if workflow.on_failure else None

    def perform(self, context: RunContext) -> Performing:
        """Works the workflow through. Raises RowFault at its end if the run has failed."""
        try:
            yield from _run_all(self._body, context, "")
        except _Stopped:
            return
        except WaitingFault:
            raise
        except RowFault as fault:
            if self._on_failure is not None:
                context.scope.words["reason"] = reason_of(fault)
                try:
                    yield from _run_all(self._on_failure, context, "")
                except _Stopped:
                    pass
                except WaitingFault:
                    raise
                except RowFault as second:
                    message = f"{reason_of(fault)}; and then in “if anything fails”: {reason_of(second)}"
                    raise RowFault(message, mend=second.mend) from second
            raise

    def _next_number(self) -> int:
        self._steps += 1
        return self._steps

    # --- statements

    def _compile(self, block: tree.Block | None) -> list[_Action]:
        return [self._compile_statement(each) for each in block.statements] if block else []

    def _compile_statement(self, statement: tree.Statement) -> _Action:
        match statement:
            case tree.Step():
                return self._compile_step(statement)
            case tree.Let():
                return self._compile_let(statement)
            case tree.If():
                return self._compile_if(statement)
            case tree.ForEach():
                return self._compile_for_each(statement)
            case tree.Stop():
                return _stop
            case tree.Fail():
                return self._compile_fail(statement)
        raise TypeError(statement)

    def _compile_let(self, statement: tree.Let) -> _Action:
        value, name = self._compiler.value(statement.value), fold_name(statement.name)

        def act(context: RunContext, repetition: str) -> Performing:
            context.scope.names[name] = value(context.scope)
            yield from ()

        return act

    def _compile_if(self, statement: tree.If) -> _Action:
        branches = [
            (condition, self._compiler.condition(condition) if condition else None, self._compile(block))
            for condition, block in statement.branches
        ]

        def act(context: RunContext, repetition: str) -> Performing:
            for node, condition, actions in branches:
                holds = condition is None or condition(context.scope)
                if context.trace is not None and node is not None:
                    context.trace.condition(node, context.scope, holds=holds)
                if holds:
                    yield from _run_all(actions, context, repetition)
                    return

        return act

    def _compile_for_each(self, statement: tree.ForEach) -> _Action:
        source, name = self._compiler.value(statement.source), fold_name(statement.name)
        actions = self._compile(statement.body)

        def act(context: RunContext, repetition: str) -> Performing:
            elements = source(context.scope)
            if is_empty(elements):
                return
            ordinals: Counter[str] = Counter()
            faults: list[RowFault] = []
            for element in elements if isinstance(elements, list | tuple) else [elements]:
                key = _element_key(element)
                ordinals[key] += 1
                inner = "/".join(part for part in (repetition, f"{key}.{ordinals[key]}") if part)
                outer = dict(context.scope.names)
                context.scope.names[name] = element
                try:
                    yield from _run_all(actions, context, inner)
                except WaitingFault:
                    raise
                except RowFault as fault:
                    faults.append(fault)
                finally:
                    context.scope.names.clear()
                    context.scope.names.update(outer)
            if faults:
                first = faults[0]
                count = (
                    f"{len(faults)} of {sum(ordinals.values())} repetitions failed: "
                    if sum(ordinals.values()) > 1
                    else ""
                )
                raise RowFault(count + first.message, where=first.where, mend=first.mend)

        return act

    def _compile_fail(self, statement: tree.Fail) -> _Action:
        message = self._compiler.value(statement.message)

        def act(context: RunContext, repetition: str) -> Performing:
            yield from ()
            raise RowFault(show_value(message(context.scope)) or "failed")

        return act

    def _compile_step(self, step: tree.Step) -> _Action:
        definition = step.definition
        own = [line for line in step.fields if definition.field(line.word) is not None]
        columns = [line for line in step.fields if definition.field(line.word) is None]
        ats = {line.word: line.value for line in own if isinstance(line.value, tree.At)}
        compiled = _CompiledStep(
            tree=step,
            number=self._next_number(),
            name=fold_name(step.name),
            values={line.word: self._compiler.value(line.value) for line in own},
            columns=[(line.as_written, self._compiler.value(line.value)) for line in columns],
            parts={word: self._compiler.at_parts(node) for word, node in ats.items()},
            same_days={(a, b) for a, x in ats.items() for b, y in ats.items() if a != b and x.day == y.day},
            rules_zone=definition.field("zone") is not None,
            on_failure=self._compile(step.on_failure) if step.on_failure else None,
            named=_to_named(step.slots["NAME"]) if "NAME" in step.slots else None,
            **self._look_up(step),
        )

        def act(context: RunContext, repetition: str) -> Performing:
            try:
                made = yield from _keyed(compiled, context, repetition)
            except WaitingFault:
                raise
            except (RowFault, PlaceTrouble, SourceFault) as error:
                is_passing = isinstance(error, PlaceTrouble) and error.is_passing
                if not isinstance(error, RowFault) and not (is_passing and context.is_last_try):
                    raise
                fault = error if isinstance(error, RowFault) else TroubleFault(error)
                if compiled.on_failure is None:
                    raise
                context.scope.words["reason"] = reason_of(fault)
                yield from _run_all(compiled.on_failure, context, repetition)
                context.scope.words.pop("reason", None)
            else:
                if compiled.name:
                    context.scope.names[compiled.name] = made

        return act

    def _look_up(self, step: tree.Step) -> dict[str, Any]:
        """The `where` of a look-up, and what it asks for by `FIELD is VALUE`, so that not everything need be gone through."""
        if not step.conditions:
            return {"condition": None, "wanted": {}, "where_said": ""}
        is_row = step.definition.thing == "row"
        compiler = Compiler(self._columns_of(step.places[-1].lower()) if is_row else EVENT_FIELDS)
        parts = [each for node in step.conditions for each in _joined_by_and(node)]
        asked = {
            fold_name(each.left.word): compiler.value(each.right)
            for each in parts
            if isinstance(each, tree.Compare) and each.relation == "is" and isinstance(each.left, tree.Name)
            and not {fold_name(word) for word in tree.words_in(each.right)} & compiler.columns
        }  # fmt: skip
        lines = self.workflow.text.split("\n")
        said = " and ".join(dict.fromkeys(lines[n.spot.line - 1].split("#")[0].strip() for n in step.conditions))
        return {"condition": compiler.conditions(step.conditions), "wanted": asked, "where_said": said}


class TroubleFault(RowFault):
    """Trouble at a place that lasted through every try: the run fails by it. ``trouble`` is what it was."""

    def __init__(self, trouble: WhenvocaError) -> None:
        super().__init__(trouble.message, where=trouble.where, mend=trouble.mend)
        self.trouble = trouble


def _to_named(node: tree.Node) -> Value:
    """What a step's NAME stands for: a given name, or the subject by its word."""
    assert isinstance(node, tree.Name)
    word = fold_name(node.word)
    return lambda scope: scope.subject if word == scope.subject_word else scope.names.get(word)


def _joined_by_and(node: tree.Node) -> list[tree.Node]:
    if isinstance(node, tree.Several) and node.joined_by == "and":
        return [each for condition in node.conditions for each in _joined_by_and(condition)]
    return [node]


def _keyed(
    step: _CompiledStep, context: RunContext, repetition: str
) -> Generator[tuple[EffectKey, Effect], Receipt, Any]:
    """The step's effects, each with its key; answers what the step made."""
    call = StepCall(step, context, repetition)
    if context.trace is not None:
        context.trace.step(step.tree, f"{step.number} {step.tree.path}", repetition, call.resolved())
    acting: Acting = step.tree.definition.act(call)
    answer: Receipt | None = None
    fault: RowFault | None = None
    step_key = f"{step.number} {step.tree.path}"
    while True:
        try:
            effect = acting.throw(fault) if fault else acting.send(answer) if answer else next(acting)
        except StopIteration as end:
            return end.value
        ordinal = context.ordinals.get((step_key, repetition), 0) + 1
        context.ordinals[step_key, repetition] = ordinal
        key = EffectKey(step_key, repetition, ordinal)
        fault = None
        try:
            answer = yield key, effect
        except WaitingFault:
            raise
        except RowFault as refused:
            fault = refused


def _run_all(actions: list[_Action], context: RunContext, repetition: str) -> Performing:
    for action in actions:
        yield from action(context, repetition)


def _stop(context: RunContext, repetition: str) -> Performing:
    yield from ()
    raise _Stopped


def reason_of(fault: RowFault) -> str:
    """What `reason` says: the place and what is wrong, without the mend."""
    return f"{fault.where}: {fault.message}" if fault.where else fault.message


def _element_key(element: Any) -> str:
    """What makes an element of a list the same element: its own key, UID, or text."""
    for name in ("key", "uid"):
        if isinstance(key := getattr(element, name, None), str):
            return key
    return show_value(element)
