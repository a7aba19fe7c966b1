"""The steps `change row`: of the subject or a named row, or looked up in a sheet."""

from __future__ import annotations

from collections.abc import Generator
from functools import lru_cache
from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.place_protocols import Sheet
from whenvoca.errors import RowFault
from whenvoca.language.definitions import Sentence, StepDefinition
from whenvoca.language.names import row_type
from whenvoca.steps.add_row import add_row
from whenvoca.steps.looking_up import MISSING_OR_MADE, SEVERAL, WHERE, find_targets
from whenvoca.steps.row_effects import ADD_EFFECT, CHANGE_EFFECT
from whenvoca.values.kinds import Raw


def _act(call: StepCall) -> Acting:
    if not call.definition.looks_up and not call.has_name:
        sheet = call.stage.sheet(call.place)
        if not call.about.is_lost or sheet.current(call.about.key) is not None:
            yield from _change(call, sheet, call.about.key)
        return None
    rows: list[Any] = find_targets(call)
    if not rows and call.text("missing") == "make":
        return (yield from add_row(call))
    for row in rows:
        yield from _change(call.bound(row), call.stage.sheet(row.place), row.key)
    sheets = [(row.key, call.stage.sheet(row.place)) for row in rows]
    changed = [sheet.row(key, state) for key, sheet in sheets if (state := sheet.current(key)) is not None]
    return changed if call.text("several") == "all" else changed[0] if changed else None


def _change(call: StepCall, sheet: Sheet, key: str) -> Generator[Effect, Receipt, None]:
    state = sheet.current(key)
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
        yield Effect(place=sheet.name, verb="change row", target=key, before=before, after=after)


@lru_cache(maxsize=64)
def _nothing_in(names: tuple[str, ...]) -> dict[str, Raw]:
    """Empty cells of these columns, one dictionary for all the rows that had nothing there."""
    return dict.fromkeys(names)


_MEANING = (
    "A line for each column. A cell that holds the value already is not touched; `empty` clears one. A cell with a "
    "formula is never written over."
)

CHANGE_ROW = StepDefinition(
    sentence=Sentence("change row [NAME]"),
    meaning="Writes cells of the row that the workflow is about, or of a named one, or of each of a list. A row that "
    "is "
    "gone is not written to. " + _MEANING,
    columns_as_fields=True,
    is_told=True,
    thing="row",
    effects=(CHANGE_EFFECT,),
    makes=row_type,
    example='change row\n  Booking  slot.uid\n  Answer   "granted"',
    act=_act,
)

CHANGE_ROW_IN = StepDefinition(
    sentence=Sentence("change row in SHEET"),
    meaning="Writes cells of the row that where finds. "
    + _MEANING
    + " With `as NAME`, NAME.COLUMN is the value before.",
    fields=(WHERE, MISSING_OR_MADE, SEVERAL),
    columns_as_fields=True,
    is_told=True,
    thing="row",
    looks_up=True,
    effects=(ADD_EFFECT, CHANGE_EFFECT),
    makes=row_type,
    example="change row in visits as entry\n  where  Booking is event.uid\n  Venue  event.location\n  Moves  "
    "entry.Moves + 1",
    act=_act,
)
