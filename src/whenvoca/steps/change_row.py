"""The step `change row`: writes cells of the row that the workflow is about."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from whenvoca.engine.effects import Effect
from whenvoca.engine.program import Acting, StepCall
from whenvoca.errors import RowFault
from whenvoca.language.definitions import Sentence, StepDefinition
from whenvoca.values.kinds import Raw


def _act(call: StepCall) -> Acting:
    sheet = call.stage.sheet(call.place)
    state = sheet.current(call.subject_key)
    if state is None:
        raise RowFault("the row is no longer in the sheet", where=sheet.file)
    before: dict[str, Raw] = {}
    after: dict[str, Any] = {}
    for written, value in call.columns():
        name = sheet.column_name(written)
        if state.get(name) != sheet.to_raw(name, value):
            before[name], after[name] = state.get(name), value
    if not any(value is not None for value in before.values()):
        before = _nothing_in(tuple(before))
    if after:
        yield Effect(place=sheet.name, verb="change row", target=call.subject_key, before=before, after=after)


@lru_cache(maxsize=64)
def _nothing_in(names: tuple[str, ...]) -> dict[str, Raw]:
    """Empty cells of these columns, one dictionary for all the rows that had nothing there."""
    return dict.fromkeys(names)


CHANGE_ROW = StepDefinition(
    sentence=Sentence(words="change row"),
    meaning="Writes cells of the row that the workflow is about: a line for each column. A cell that holds the value "
    "already is not touched; `empty` clears one. A cell with a formula is never written over.",
    columns_as_fields=True,
    writes_subject=True,
    example='change row\n  Booking  slot.uid\n  Answer   "granted"',
    act=_act,
)
