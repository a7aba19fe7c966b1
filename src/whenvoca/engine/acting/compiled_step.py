"""A step of a workflow, its values and conditions compiled once."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, time

from msgspec import Struct

from whenvoca.engine.acting.keyed import Performing
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.language import tree
from whenvoca.language.evaluation import Scope, Value

Action = Callable[[RunContext, str], Performing]


class CompiledFields(Struct, frozen=True):
    """The lines below a step: its own fields by word, columns as they are written, and how moments are written."""

    values: dict[str, Value]
    columns: list[tuple[str, Value]]
    parts: dict[str, Callable[[Scope], tuple[date | None, time | None]]]  # of fields written `DATE at TIME`
    same_days: set[tuple[str, str]]  # of these, those with the very same date
    rules_zone: bool  # the step's `zone` rules how the others are read


class CompiledLookUp(Struct, frozen=True):
    """The `where` of a step: its condition, what it asks for by `WORD is VALUE`, and its text for messages."""

    condition: Callable[[Scope], bool] | None = None
    wanted: dict[str, Value] = {}
    said: str = ""


class CompiledSentence(Struct, frozen=True):
    """The values in the step's sentence: what its NAME stands for, its VALUE, and a host that is written out there."""

    named: Value | None
    value: Value | None
    host_said: str  # in lower case


class CompiledStep(Struct):
    """The whole step."""

    tree: tree.Step
    number: int  # among the workflow's steps
    name: str
    path: str  # what names it in identities
    paths: frozenset[str]  # those of all steps of the workflow
    key: str  # what names it among the effects of a run
    fields: CompiledFields
    look_up: CompiledLookUp
    sentence: CompiledSentence
    on_failure: list[Action] | None
    hides: bool  # what private events are about stays out of it
