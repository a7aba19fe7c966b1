"""What a run begins with: its subject as it is or was, what happened to it, and whether it still needs to run."""

from __future__ import annotations

from datetime import datetime

from whenvoca.engine.acting.program import Program
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.records import Observation, Occurrence
from whenvoca.engine.place_protocols import RowState, Source
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Scope


def why_dropped(program: Program, occurrence: Occurrence, now: RowState | None, *, is_in: bool) -> str:
    """Why an occurrence needs no run any more, empty if it does."""
    trigger = program.workflow.trigger
    if program.is_mirror:
        return ""
    if trigger.is_set or trigger.definition.strategy.is_timed:
        word = trigger.definition.subject
        return f"its {word} is gone" if now is None else "" if is_in else f"its {word} left the set"
    return "it came back" if occurrence.happened == "lost" and is_in else ""


def subject_state(
    program: Program, occurrence: Occurrence, source: Source, now: RowState | None, seen: Observation | None
) -> RowState:
    """What the run is about: a set's or mirror's subject as it is now, what was lost as it last was, else what was
    seen; rows as they are now, so that a correction counts."""
    last = (seen.new or seen.old) if seen else None
    if occurrence.happened == "lost" and seen is not None and not program.is_mirror:
        return seen.old or now or {}
    if program.workflow.trigger.is_set or program.is_mirror or source.takes_current:
        return now or last or {}
    return last or now or {}


def describe_start(
    opened: OpenProgram, occurrence: Occurrence, source: Source, seen: Observation | None, failed: list[Effect]
) -> tuple[Scope, RowState]:
    """What a run began with, as far as it is known: its subject as it was seen, without what failed runs wrote."""
    state = (seen.new or seen.old if seen else None) or source.current(occurrence.subject) or {}
    state = source.unwritten(occurrence.subject, state, failed)
    scope = opened.scope_of(source, occurrence.subject, state, datetime.fromisoformat(occurrence.at))
    add_change_words(scope, occurrence, source, seen)
    return scope, state


def add_change_words(scope: Scope, occurrence: Occurrence, source: Source, seen: Observation | None) -> None:
    """What happened, old and changes, for the workflow's words."""
    scope.words["happened"] = "gained" if occurrence.happened == "orphaned" else occurrence.happened
    if seen is None:
        return
    if seen.old is not None:
        scope.words["old"] = source.thing(occurrence.subject, seen.old)
    if seen.old is not None and seen.new is not None:
        scope.words["changes"] = source.changes(seen.old, seen.new)


def holds(program: Program, scope: Scope) -> bool:
    """Whether the subject is in the workflow's set; one that cannot be told is taken up, so that its run says why."""
    try:
        return program.where(scope)
    except RowFault:
        return True
