"""The step `add row to SHEET`: a new row below the others."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.errors import RowFault
from whenvoca.language.definitions import PlaceInfo, Sentence, StepDefinition, column_word
from whenvoca.language.names import fold_name, row_type
from whenvoca.language.types import Type
from whenvoca.steps.row_effects import ADD_EFFECT
from whenvoca.values.kinds import is_empty


class AddedRow:
    """The row that was added, for later steps: the values that were written."""

    def __init__(self, file: str, cells: dict[str, Any]) -> None:
        self._file = file
        self._cells = {fold_name(column_word(name)): value for name, value in cells.items()}

    def value_of(self, word: str) -> Any:
        """The value written into that column, empty if none was."""
        return self._cells.get(word)

    def where_is(self, word: str) -> str:
        """The file, since the row has no number before it is saved."""
        return self._file


def add_row(call: StepCall) -> Acting:
    """Adds a row with the step's columns. Raises RowFault where its key is taken."""
    sheet = call.stage.sheet(call.place)
    cells = {sheet.column_name(written): value for written, value in call.columns()}
    key = sheet.find_key(cells)
    standing = sheet.current(key) if key else None
    if standing is not None:
        for name, value in cells.items():
            if standing.get(name) != sheet.to_raw(name, value):
                raise RowFault(f'a row "{key}" stands there already, with another {name}', where=sheet.file)
    else:
        filled = {name: value for name, value in cells.items() if not is_empty(value)}
        count = sheet.count_equal(filled)
        yield Effect(place=sheet.name, verb="add row", target=key or "", after=filled, version=str(count))
    return AddedRow(sheet.file, cells)


def _made(place: PlaceInfo) -> Type:
    return replace(row_type(place), said=f"row of {place.name}")


ADD_ROW = StepDefinition(
    sentence=Sentence("add row to SHEET"),
    meaning="Adds a row below the others: a line for each column that it fills. Where the sheet has a key, a row of "
    "that key is never added twice. File and tab are made with their headings where the place says `create = true`.",
    columns_as_fields=True,
    is_told=True,
    makes=_made,
    is_making=True,
    adds="row",
    effects=(ADD_EFFECT,),
    example="add row to log\n  What  slot.title\n  Seen  now",
    act=add_row,
)
