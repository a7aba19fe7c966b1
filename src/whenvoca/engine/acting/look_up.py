"""The look-up of a step: which candidates fit its `where`, and what it found."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from whenvoca.engine.acting.compiled_step import CompiledStep
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.engine.place_protocols import Found
from whenvoca.language.evaluation import Scope, Thing


class LookUp:
    """The `where` of one step in one run. ``scope`` is what its fields are read among."""

    def __init__(self, step: CompiledStep, context: RunContext, repetition: str, scope: Scope) -> None:
        self._step, self._context, self._repetition, self._scope = step, context, repetition, scope

    @property
    def said(self) -> str:
        """The conditions as they are written, for messages."""
        return self._step.look_up.said

    @property
    def wanted_words(self) -> list[str]:
        """The fields that are compared with a value by `is`."""
        return list(self._step.look_up.wanted)

    def wanted(self, word: str) -> Any:
        """The value that a `WORD is VALUE` asks for, None if it asks for none."""
        value = self._step.look_up.wanted.get(word)
        return None if value is None else value(self._among(None))

    def fits(self, thing: Thing) -> bool:
        """Whether a candidate fits: bare names are its fields, then given names."""
        condition = self._step.look_up.condition
        return condition is None or condition(self._among(thing))

    def recalled(self, search: Callable[[], list[Found]]) -> list[Found]:
        """What it finds; after a crash what it found before, so that the run goes on with the same things."""
        step = f"{self._step.number} {self._step.tree.path} {self._repetition}"
        return self._context.recall.get(step, self._context.count("read " + step, ""), search)

    def _among(self, thing: Thing | None) -> Scope:
        outer = self._context.scope
        names = {**outer.names, outer.subject_word: outer.subject} if outer.subject_word else outer.names
        return Scope(thing, "", outer.now, self._scope.zone, names, outer.words)
