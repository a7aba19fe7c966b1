"""A checked workflow made ready to run: values compiled once, statements worked through as a generator of effects.

A run asks for a write by yielding it and gets the receipt back; so a group of runs can advance in lockstep, and a run
that a crash cut short is worked through again with the receipts it has.
"""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Callable, Container, Iterator
from datetime import date
from typing import Any

from msgspec.structs import replace

from whenvoca.engine.acting.compiled_step import Action, CompiledFields, CompiledLookUp, CompiledSentence, CompiledStep
from whenvoca.engine.acting.keyed import Performing, with_keys
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.things.event import EVENT_FIELDS
from whenvoca.engine.things.task import TASK_FIELDS
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.language import tree
from whenvoca.language.blocks import iter_asks, iter_steps
from whenvoca.language.definitions import FieldDefinition, PlaceInfo, StepDefinition
from whenvoca.language.evaluation import Compiler, Scope, Value, WaitingFault
from whenvoca.language.names import fold_name
from whenvoca.language.written_fields import ends_of, weekdays_of, words_of
from whenvoca.values.addresses import split_addresses
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value
from whenvoca.values.working_days import WEEKENDS


class _Stopped(Exception):
    """`stop` was reached."""


class Program:
    """A workflow ready to run. ``columns`` are the folded names of the subject's fields, ``columns_of`` a sheet's."""

    def __init__(
        self,
        workflow: tree.Workflow,
        columns: frozenset[str],
        columns_of: Callable[[str], frozenset[str]] = lambda place: frozenset(),
        days_off: Container[date] = WEEKENDS,
    ) -> None:
        self.workflow = workflow
        self.columns = columns
        self.mirrors = [step for step in iter_steps(workflow) if step.definition.is_mirror]
        self.is_mirror = bool(self.mirrors)
        self.is_collective = any(step.definition.is_collective for step in iter_steps(workflow))
        self._paths = frozenset(step.path for step in iter_steps(workflow))
        self.asks = any(True for _ in iter_asks(workflow))
        self._compiled_mirrors: list[CompiledStep] = []
        self._columns_of = columns_of
        self._compiler, self._days_off = Compiler(columns, days_off), days_off
        self._steps = 0
        self._hides = workflow.settings.private != "shown"
        self.where = _admitting(self._compiler.conditions(workflow.trigger.conditions), workflow.trigger)
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
                context.scope.words["reason"] = fault.reason
                try:
                    yield from _run_all(self._on_failure, context, "")
                except _Stopped:
                    pass
                except WaitingFault:
                    raise
                except RowFault as second:
                    message = f"{fault.reason}; and then in “if anything fails”: {second.reason}"
                    raise RowFault(message, fix=second.fix) from second
            raise

    def first_questions(self, scope: Scope) -> Iterator[tuple[Question, str]]:
        """What is asked before the first step, each with the name that its answer gets in ``scope``."""
        for statement in self.workflow.body.statements:
            if isinstance(statement, tree.Let):
                with contextlib.suppress(RowFault):
                    scope.names[fold_name(statement.name)] = self._compiler.value(statement.value)(scope)
            elif isinstance(statement, tree.Ask):
                yield self._to_question(statement)(scope), fold_name(statement.name)
            else:
                return

    def _next_number(self) -> int:
        self._steps += 1
        return self._steps

    # --- statements

    def _compile(self, block: tree.Block | None) -> list[Action]:
        return [self._compile_statement(each) for each in block.statements] if block else []

    def _compile_statement(self, statement: tree.Statement) -> Action:
        match statement:
            case tree.Step():
                return self._compile_step(statement)
            case tree.Let():
                return self._compile_let(statement)
            case tree.If():
                return self._compile_if(statement)
            case tree.ForEach():
                return self._compile_for_each(statement)
            case tree.Ask():
                return self._compile_ask(statement)
            case tree.Stop():
                return _stop
            case tree.Fail():
                return self._compile_fail(statement)
        raise TypeError(statement)

    def _compile_let(self, statement: tree.Let) -> Action:
        value, name = self._compiler.value(statement.value), fold_name(statement.name)

        hides = self._hides

        def act(context: RunContext, repetition: str) -> Performing:
            context.scope.hides = hides
            context.scope.names[name] = value(context.scope)
            context.scope.hides = False
            yield from ()

        return act

    def _compile_ask(self, statement: tree.Ask) -> Action:
        question, name = self._to_question(statement), fold_name(statement.name)

        def act(context: RunContext, repetition: str) -> Performing:
            context.scope.names[name] = context.answer(question(context.scope))
            yield from ()

        return act

    def _to_question(self, statement: tree.Ask) -> Callable[[Scope], Question]:
        text = self._compiler.value(statement.question)
        default = self._compiler.value(statement.default) if statement.default is not None else None
        choices = [self._compiler.value(each) for each in statement.choices]

        def question(scope: Scope) -> Question:
            return Question(
                name=statement.name,
                text=show_value(text(scope)),
                kind=statement.kind,
                default=None if default is None else default(scope),
                choices=tuple(show_value(each(scope)) for each in choices),
            )

        return question

    def _compile_if(self, statement: tree.If) -> Action:
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

    def _compile_for_each(self, statement: tree.ForEach) -> Action:
        source, name = self._compiler.value(statement.source), fold_name(statement.name)
        before = len(self._compiled_mirrors)
        actions = self._compile(statement.body)
        mirrors = self._compiled_mirrors[before:]

        def act(context: RunContext, repetition: str) -> Performing:
            elements = source(context.scope)
            if is_empty(elements):
                elements = []
            ordinals: Counter[str] = Counter()
            faults: list[RowFault] = []
            present: list[str] = []
            for element in elements if isinstance(elements, list | tuple) else [elements]:
                key = _element_key(element)
                ordinals[key] += 1
                inner = "/".join(part for part in (repetition, f"{key}.{ordinals[key]}") if part)
                present.append(inner)
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
            for step in mirrors:
                for gone in _gone(step, context, repetition, present):
                    try:
                        yield from _keyed(
                            step, replace(context, subject=replace(context.subject, is_lost=True), trace=None), gone
                        )
                    except WaitingFault:
                        raise
                    except RowFault as fault:
                        faults.append(fault)
            if faults:
                first = faults[0]
                count = f"{len(faults)} of {len(present)} repetitions failed: " if len(present) > 1 else ""
                raise RowFault(count + first.message, where=first.where, fix=first.fix)

        return act

    def _compile_fail(self, statement: tree.Fail) -> Action:
        message = self._compiler.value(statement.message)

        def act(context: RunContext, repetition: str) -> Performing:
            yield from ()
            raise Refusal(show_value(message(context.scope)) or "failed")

        return act

    def _compile_step(self, step: tree.Step) -> Action:
        definition = step.definition
        number, path = self._next_number(), step.path
        value = step.slots.get("VALUE")
        compiled = CompiledStep(
            tree=step,
            number=number,
            name=fold_name(step.name),
            path=path,
            paths=self._paths,
            key=f"{number} {path}",
            fields=self._compile_fields(step),
            look_up=self._look_up(step),
            sentence=CompiledSentence(
                _to_named(step.slots["NAME"]) if "NAME" in step.slots else None,
                None if value is None else self._compiler.value(value),
                _written_out(value),
            ),
            on_failure=self._compile(step.on_failure) if step.on_failure else None,
            hides=definition.is_told and self._hides,
        )
        if definition.is_mirror:
            self._compiled_mirrors.append(compiled)

        def act(context: RunContext, repetition: str) -> Performing:
            try:
                made = yield from _keyed(compiled, context, repetition)
            except WaitingFault:
                raise
            except (RowFault, PlaceTrouble, SourceFault) as error:
                if not isinstance(error, RowFault) and not context.gives_up(error):
                    raise
                fault = error if isinstance(error, RowFault) else TroubleFault(error)
                if compiled.on_failure is None:
                    raise
                context.scope.words["reason"] = fault.reason
                yield from _run_all(compiled.on_failure, context, repetition)
                context.scope.words.pop("reason", None)
            else:
                if compiled.name:
                    context.scope.names[compiled.name] = made

        return act

    def _compile_fields(self, step: tree.Step) -> CompiledFields:
        definition, value = step.definition, self._compiler.value
        own = [line for line in step.fields if definition.field(line.word) is not None]
        columns = [line for line in step.fields if definition.field(line.word) is None]
        firsts = {line.word: _first_choice(line.value) for line in own}
        ats = {word: node for word, node in firsts.items() if isinstance(node, tree.At)}
        return CompiledFields(
            values={line.word: self._field_value(definition.field(line.word), line.value) for line in own},
            columns=[] if definition.kinds_as_fields else [(line.as_written, value(line.value)) for line in columns],
            parts={word: self._compiler.at_parts(node) for word, node in ats.items()},
            same_days={(a, b) for a, x in ats.items() for b, y in ats.items() if a != b and x.day == y.day},
            rules_zone=definition.field("zone") is not None,
        )

    def _field_value(self, known: FieldDefinition | None, node: tree.Node) -> Value:
        """A field's value; one that is written in a form of its own as what that form says."""
        compiler = self._compiler
        if known is not None and known.given:
            compiler = Compiler(self.columns - known.given.keys(), self._days_off)
        match known.type if known is not None else "":
            case "between" if (ends := ends_of(node)) is not None:
                first, last = (self._compiler.value(each) for each in ends)
                return lambda scope: (first(scope), last(scope))
            case "weekdays":
                days = weekdays_of(node)
                return lambda scope: days
            case "calendars" | "choices":
                names = tuple(word for word, _ in words_of(node) or ())
                return lambda scope: names
        return compiler.value(node)

    def _look_up(self, step: tree.Step) -> CompiledLookUp:
        """The `where` of a look-up, and what it asks for by `FIELD is VALUE`: a place may find that faster."""
        if not step.conditions:
            return CompiledLookUp()
        fields = _fields_of(step.definition)
        is_row = step.definition.thing == "row"
        compiler = Compiler(self._columns_of(step.places[-1].lower()) if is_row else fields, self._days_off)
        parts = [each for node in step.conditions for each in _joined_by_and(node)]
        asked = {
            fold_name(each.left.word): compiler.value(each.right)
            for each in parts
            if isinstance(each, tree.Compare)
            and each.relation == "is"
            and isinstance(each.left, tree.Name)
            and not {fold_name(word) for word in tree.words_in(each.right)} & compiler.columns
        }
        lines = self.workflow.text.split("\n")
        said = " and ".join(dict.fromkeys(lines[n.spot.line - 1].split("#")[0].strip() for n in step.conditions))
        return CompiledLookUp(compiler.conditions(step.conditions), asked, said)


class Refusal(RowFault):
    """The sentence of a `fail`: the workflow says no, in words that are meant for whoever asked."""


class TroubleFault(RowFault):
    """Trouble at a place that lasted through every try: the run fails by it. ``trouble`` is what it was."""

    def __init__(self, trouble: WhenvocaError) -> None:
        super().__init__(trouble.message, where=trouble.where, fix=trouble.fix)
        self.trouble = trouble


def _admitting(where: Callable[[Scope], bool], trigger: tree.Trigger) -> Callable[[Scope], bool]:
    """The trigger's `where`, for the subjects that it is about at all."""
    admits = trigger.definition.admits
    if admits is None:
        return where
    said = {
        word: [piece.lower() for text in tree.plain_texts(node) for piece in split_addresses(text)]
        for word, node in trigger.settings.items()
    }
    return lambda scope: admits(scope.subject, said) and where(scope)


def _written_out(node: tree.Node | None) -> str:
    """What stands in a text before its first value in braces."""
    if not isinstance(node, tree.Text) or not node.lines:
        return ""
    plain: list[str] = []
    for part in node.lines[0]:
        if not isinstance(part, str):
            break
        plain.append(part)
    text = "".join(plain).lower()
    return text if len(plain) == len(node.lines[0]) or "/" in text.partition("//")[2] else ""


def _fields_of(definition: StepDefinition) -> frozenset[str]:
    """The fields of what a step looks up: those of an event or a task, else of what it gives."""
    if definition.thing in ("event", "task") or definition.makes is None:
        return TASK_FIELDS if definition.thing == "task" else EVENT_FIELDS
    made = definition.makes(PlaceInfo(name="", kind=""))
    return frozenset((made.item or made).fields) or EVENT_FIELDS


def _to_named(node: tree.Node) -> Value:
    """What a step's NAME stands for: a given name, or the subject by its word."""
    assert isinstance(node, tree.Name)
    word = fold_name(node.word)
    return lambda scope: scope.subject if word == scope.subject_word else scope.names.get(word)


def _joined_by_and(node: tree.Node) -> list[tree.Node]:
    if isinstance(node, tree.Several) and node.joined_by == "and":
        return [each for condition in node.conditions for each in _joined_by_and(condition)]
    return [node]


def _keyed(step: CompiledStep, context: RunContext, repetition: str) -> Performing:
    """The step's effects, each with its key; answers what the step made."""
    context.scope.hides = step.hides
    call = StepCall(step, context, repetition)
    if context.trace is not None:
        context.trace.step(step.tree, step.key, repetition, call.resolved())

    def to_key(effect: Effect) -> EffectKey:
        target = f"{effect.place} {effect.target}"
        return EffectKey(step.key, repetition, context.count(step.key, repetition, target), target)

    made = None
    try:
        made = yield from with_keys(step.tree.definition.act(call), to_key)
    finally:
        context.scope.hides = False
    return made


def _gone(step: CompiledStep, context: RunContext, repetition: str, present: list[str]) -> list[str]:
    """The repetitions in which a mirror made something of this subject, and whose element has left the list."""
    call = StepCall(step, context, repetition)
    made = [Lineage.from_mark(mark) for mark in context.stage.marks_made(call.place, call.lineage.siblings)]
    inside = f"{repetition}/" if repetition else ""
    return [
        each.repetition
        for each in made
        if each is not None
        and each.repetition.startswith(inside)
        and not any(f"{each.repetition}/".startswith(f"{one}/") for one in present)
    ]


def _run_all(actions: list[Action], context: RunContext, repetition: str) -> Performing:
    for action in actions:
        yield from action(context, repetition)


def _stop(context: RunContext, repetition: str) -> Performing:
    yield from ()
    raise _Stopped


def _element_key(element: Any) -> str:
    """What makes an element of a list the same element: its own key, UID, or text."""
    for name in ("key", "uid"):
        if isinstance(key := getattr(element, name, None), str):
            return key
    return show_value(element)


def _first_choice(node: tree.Node) -> tree.Node:
    """What a value is unless that is empty: `Day at To` of `Day at To or 1 hour`."""
    return node.conditions[0] if isinstance(node, tree.Several) and node.joined_by == "or" else node
