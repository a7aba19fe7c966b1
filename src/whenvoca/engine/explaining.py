"""Why a run did what it did, and why a row or event made none."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec import Struct, field

from whenvoca.engine.acting.run_context import Recall, RunContext, RunSubject
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, Receipt, show_field
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import JournalEntry, RunRecord
from whenvoca.engine.place_protocols import RowState, Source
from whenvoca.engine.running.open_program import OpenProgram, open_program
from whenvoca.engine.running.run_input import describe_start
from whenvoca.errors import RequestFault, RowFault, WhenvocaError
from whenvoca.language import tree
from whenvoca.language.evaluation import Compiler, Scope
from whenvoca.values.columns import Unread


class StepTrace(Struct, frozen=True):
    """One line of an explanation: a condition, step, field or effect. ``line`` is that of the workflow's file."""

    kind: str
    text: str
    line: int = 0
    values: tuple[tuple[str, str], ...] = ()
    holds: bool | None = None
    effect: Effect | None = None


class Explanation(Struct):
    """What is told of one run, or of one subject for one workflow."""

    workflow: str
    subject: str
    happened: str = ""
    outcome: str = ""
    reason: str = ""
    run: int = 0
    state: dict[str, Any] = field(default_factory=dict)
    told: list[StepTrace] = field(default_factory=list)


class _TraceListener:
    """Hears a run: its conditions with their values, its steps with what their fields came to."""

    def __init__(self, workflow: tree.Workflow, compiler: Compiler, told: list[StepTrace]) -> None:
        self._lines = workflow.text.split("\n")
        self._compiler = compiler
        self._told = told
        self.places: dict[tuple[str, str], int] = {}  # where a step's effects are told, behind the step

    def condition(self, node: tree.Node, scope: Scope, *, holds: bool) -> None:
        """A condition, and how it came out."""
        text = self._lines[node.spot.line - 1].split(" #")[0].strip()
        self._told.append(StepTrace("condition", text, node.spot.line, self._values_in(node, scope), holds))

    def step(self, step: tree.Step, key: str, repetition: str, values: Sequence[tuple[str, Any]]) -> None:
        """A step that begins."""
        self.places[key, repetition] = len(self._told) + 1
        shown = tuple((word, _shown(value, word)) for word, value in values)
        self._told.append(
            StepTrace("step", self._lines[step.spot.line - 1].split(" #")[0].strip(), step.spot.line, shown)
        )

    def _values_in(self, node: tree.Node, scope: Scope) -> tuple[tuple[str, str], ...]:
        found: dict[str, str] = {}
        for leaf in tree.leaves_of(node):
            try:
                found[tree.written(leaf)] = _shown(self._compiler.value(leaf)(scope))
            except RowFault as fault:
                found[tree.written(leaf)] = f"({fault.message})"
        return tuple(found.items())


def _shown(value: Any, name: str = "") -> str:
    if isinstance(value, RowFault):
        return f"({value.message})"
    if isinstance(value, Unread):
        return value.text
    if value is not None and hasattr(value, "value_of"):
        return "a thing"
    if isinstance(value, list) and value and hasattr(value[0], "value_of"):
        return f"{len(value)} things"
    return show_field(name, value) or "empty"


def explain_run(stage: WorkspaceStage, record: RunRecord, workflow: tree.Workflow) -> Explanation:
    """Goes through a run again on what it had: its subject as it was seen, its look-ups and receipts from the journal.

    The stage is a rehearsed one: nothing is written. Raises RequestFault where the run's place is no longer the
    workflow's.
    """
    told = Explanation(record.workflow, record.label, outcome=record.outcome, reason=record.reason, run=record.number)
    ledger = stage.ledger
    occurrence = ledger.occurrence(record.occurrence)
    if record.kind != "run" or occurrence is None:
        told.told = [StepTrace("effect", "", effect=effect) for effect in record.effects]
        return told
    opened = open_program(workflow, stage)
    source = opened.sources.get(occurrence.place)
    if source is None:
        raise RequestFault(f"run {record.number} was about {occurrence.place}, which its workflow no longer speaks of")
    source.prepare()
    seen = ledger.observed([occurrence.sequence]).get(occurrence.sequence)
    told.happened = occurrence.happened
    scope, state = describe_start(opened, occurrence, source, seen, ledger.failed_writes_before(record))
    told.state = _fields_of(source, occurrence.subject, state)
    listening = _TraceListener(workflow, Compiler(opened.program.columns, opened.stage.workspace.days_off), told.told)
    _explain_where(opened, scope, listening)
    subject = RunSubject.of(occurrence, is_set=workflow.trigger.is_set, is_lost=occurrence.happened == "lost")
    recall = Recall(ledger.reads_of(record.number))
    context = RunContext(stage, scope, subject, is_last_try=True, is_too_late=True, recall=recall, trace=listening)
    _go_through(opened, context, ledger.journal_of(record.number), told)
    return told


def explain_request(record: RunRecord) -> Explanation:
    """What a request in words did, with its words; no workflow stands behind it."""
    done = [StepTrace("effect", "", effect=effect) for effect in record.effects]
    said = f'asked: "{record.subject}"'
    reason = f"{said}: {record.reason}" if record.reason else said
    return Explanation(
        record.workflow, record.label, outcome=record.outcome, reason=reason, told=done, run=record.number
    )


def _go_through(program: OpenProgram, context: RunContext, journal: list[JournalEntry], told: Explanation) -> None:
    """Performs the run with the journal's receipts. What is told to have been done comes from the journal alone, for
    today's places may lead elsewhere."""
    left = {entry.key: entry for entry in journal if entry.receipt is not None}
    performing = program.program.perform(context)
    answer: Receipt | None = None
    try:
        while True:
            key, _ = next(performing) if answer is None else performing.send(answer)
            entry = left.get(key)
            answer = entry.receipt if entry is not None and entry.receipt is not None else Receipt()
    except (StopIteration, WhenvocaError):
        pass
    assert isinstance(context.trace, _TraceListener)
    places = context.trace.places
    for entry in sorted(left.values(), key=lambda each: each.number, reverse=True):
        where = places.get((entry.key.step, entry.key.repetition), len(told.told))
        told.told.insert(where, StepTrace("effect", "", effect=entry.effect))
    if told.reason:
        told.told.append(StepTrace("reason", told.reason))


def _explain_where(program: OpenProgram, scope: Scope, listening: _TraceListener) -> bool:
    trigger = program.workflow.trigger
    compiler = Compiler(program.program.columns, program.stage.workspace.days_off)
    every = True
    for node in trigger.conditions:
        try:
            holds = compiler.condition(node)(scope)
        except RowFault:
            holds = False
        every = every and holds
        listening.condition(node, scope, holds=holds)
    return every


def _fields_of(source: Source, key: str, state: RowState) -> dict[str, Any]:
    thing = source.thing(key, state)
    found = {}
    for word in sorted(source.fields):
        try:
            value = thing.value_of(word)
        except (RowFault, KeyError):
            continue
        shown = _shown(value)
        if shown != "empty":
            found[word] = shown
    return found


def explain_subject(program: OpenProgram, source: Source, key: str) -> Explanation:
    """Why a row or event made a run for a workflow, or made none."""
    workflow, ledger = program.workflow, program.stage.ledger
    trigger = workflow.trigger
    state = source.current(key)
    told = Explanation(workflow.name, source.label(key, state))
    if state is None:
        told.reason = source.why_gone(key) or f"it is not in {source.name} now"
        return told
    told.state = _fields_of(source, key, state)
    state = source.unwritten(key, state, ledger.failed_writes(workflow.identity).get(key, []))
    scope = program.scope_of(source, key, state, program.stage.clock.now())
    listening = _TraceListener(workflow, Compiler(program.program.columns, program.stage.workspace.days_off), told.told)
    is_in = _explain_where(program, scope, listening)
    if is_in and not program.program.where(scope):
        said = ", ".join(word for word in trigger.settings if word in ("from", "room")) or "its trigger"
        told.reason = f"the {trigger.definition.subject} is none of those that {said} names"
        return told
    told.reason = _why(program, ledger, source.name, key, is_in=is_in)
    runs = ledger.runs(workflow=workflow.identity, subject=key, limit=1)
    if runs:
        told.run, told.outcome = runs[0].number, runs[0].outcome
    return told


_ONCE = ("message", "email", "invitation", "answer")  # they come once, and never change


def _why(program: OpenProgram, ledger: Ledger, place: str, key: str, *, is_in: bool) -> str:
    """What stands between a subject and a run, in a sentence."""
    workflow = program.workflow
    number = ledger.newest(workflow.identity, place, key)
    occurrence = ledger.occurrence(number) if number else None
    subject = program.trigger.subject
    if occurrence is not None and occurrence.state == "waiting":
        return "it waits, and runs with the next whenvoca run"
    if workflow.settings.paused:
        return "the workflow is paused"
    if not is_in:
        return f"the {subject} is not in the set that where describes: what is marked above does not hold"
    if occurrence is None and subject in _ONCE:
        return "it was there before the workflow looked for the first time; existing yes would have it count"
    if occurrence is None:
        return (
            f"the {subject} is in the set, but was so before the workflow looked for the first time, or when its "
            "where was edited; whenvoca run --row takes it up"
        )
    if occurrence.state == "failed":
        return f"its last run failed; it runs again when somebody changes the {subject}, or by whenvoca retry"
    if occurrence.state == "undone":
        return f"its run was taken back; it is held until somebody changes the {subject}, or by whenvoca retry"
    if occurrence.state == "dropped":
        return f"it was taken up, but the {subject} left the set before it ran"
    if subject in _ONCE:
        return "it ran"
    again = "changes" if "changed" in workflow.trigger.happenings else "leaves the set and comes back"
    return f"it ran; it runs again when the {subject} {again}"
