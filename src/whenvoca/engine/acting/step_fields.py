"""The values of a step: its fields, its columns, and the values in its sentence."""

from __future__ import annotations

from copy import copy
from datetime import date, time
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.acting.compiled_step import CompiledStep
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Scope
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value
from whenvoca.values.zones import load_zone


class StepFields:
    """What is written below a step and in its sentence, for one run. A value that cannot be read raises RowFault."""

    def __init__(self, step: CompiledStep, scope: Scope) -> None:
        self._step = step
        self.scope = scope
        if step.fields.rules_zone and not is_empty(zone := self.value("zone")):
            self.scope = scope.in_zone(load_zone(str(zone)))

    def gives(self, word: str) -> bool:
        """Whether the field stands there, empty or not."""
        return word in self._step.fields.values

    def value(self, word: str, default: Any = None) -> Any:
        """The field's value; the default where it is not given or empty."""
        compiled = self._step.fields.values.get(word)
        if compiled is None:
            return default
        value = compiled(self.scope)
        return default if is_empty(value) else value

    def text(self, word: str) -> str:
        """The field's value as a text, empty where it is not given. Raises RowFault where the value cannot be read."""
        return show_value(self.value(word))

    def told(self, word: str, zone: ZoneInfo | None) -> str:
        """The field's text as somebody reads it: a list one a line, moments in their zone, where they have one.

        Raises RowFault where the value cannot be read.
        """
        call = self
        if zone is not None:
            call = copy(self)
            call.scope = self.scope.told_in(zone)
        value = call.value(word)
        return "\n".join(show_value(item) for item in value) if isinstance(value, list | tuple) else show_value(value)

    def at_parts(self, word: str) -> tuple[date | None, time | None] | None:
        """The date and time of a field written `DATE at TIME`, None if it is written otherwise."""
        parts = self._step.fields.parts.get(word)
        return parts(self.scope) if parts else None

    def shares_day(self, first: str, second: str) -> bool:
        """Whether two fields are written `DATE at TIME` with the very same date."""
        return (first, second) in self._step.fields.same_days

    def columns(self) -> list[tuple[str, Any]]:
        """The step's columns with their values, by word as written."""
        return [(written, value(self.scope)) for written, value in self._step.fields.columns]

    @property
    def column_words(self) -> list[str]:
        """The columns that stand below the step, as written."""
        return [written for written, _ in self._step.fields.columns]

    def resolved(self) -> list[tuple[str, Any]]:
        """Each field and column with what it comes to, or the fault that it is; for `explain`."""
        found: list[tuple[str, Any]] = []
        definition = self._step.tree.definition
        for word, value in [*self._step.fields.values.items(), *self._step.fields.columns]:
            if (known := definition.field(word)) is not None and known.given:
                continue  # it is another one for each thing
            try:
                found.append((word, value(self.scope)))
            except RowFault as fault:
                found.append((word, fault))
        return found

    @property
    def sentence_value(self) -> Any:
        """What the VALUE in the step's sentence comes to."""
        return self._step.sentence.value(self.scope) if self._step.sentence.value else None

    def allows_host(self, host: str) -> bool:
        """Whether the workflow itself names the host."""
        return f"//{host}".lower() in self._step.sentence.host_said
