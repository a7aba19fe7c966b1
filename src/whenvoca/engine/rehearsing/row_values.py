"""What values come to for rows that wait for a run, as far as the rows' own fields tell."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.language.evaluation import Compiler, Value
from whenvoca.language.names import fold_name


class Unknown(Exception):
    """A value takes more than the row's own fields, or has a fault, which the row's run will tell."""


class RowValues:
    """Reads values for the rows of one workflow; each value is compiled once."""

    def __init__(self, program: OpenProgram) -> None:
        self._program = program
        self._sources = {source.name: source for source in program.sources.values()}
        self._compiled: dict[tuple[str, int], Value | None] = {}

    def of(self, occurrence: Occurrence, node: tree.Node) -> Any:
        """The value for a row. Raises Unknown."""
        source = self._sources.get(occurrence.place)
        state = source.current(occurrence.subject) if source is not None else None
        if source is None or state is None:
            raise Unknown
        value = self._value(source.name, source.fields, node)
        scope = self._program.scope_of(source, occurrence.subject, state, self._program.stage.clock.now())
        try:
            return value(scope)
        except RowFault as fault:
            raise Unknown from fault

    def _value(self, place: str, fields: frozenset[str], node: tree.Node) -> Value:
        key = (place, id(node))
        if key not in self._compiled:
            is_own = {fold_name(word) for word in tree.words_in(node)} <= fields
            days_off = self._program.stage.workspace.days_off
            self._compiled[key] = Compiler(fields, days_off).value(node) if is_own else None
        found = self._compiled[key]
        if found is None:
            raise Unknown
        return found
