"""The step `fill sheet … for each …`: the rows below the headings become those of a list, in its order."""

from __future__ import annotations

from whenvoca.engine.acting.step_call import Acting, StepCall
from whenvoca.engine.effects import Effect
from whenvoca.errors import RowFault
from whenvoca.language.definitions import Sentence, StepDefinition
from whenvoca.language.operations import to_list
from whenvoca.values.kinds import is_empty

_MOST_ROWS = 100_000


def _act(call: StepCall) -> Acting:
    sheet = call.stage.sheet(call.place)
    elements = to_list(call.sentence_value)
    if len(elements) > _MOST_ROWS:
        raise RowFault(
            f"{len(elements)} rows are more than a sheet should be filled with",
            fix="narrow the list by from, until or where",
        )
    columns = [sheet.column_name(written) for written in call.column_words]
    rows = [
        [None if is_empty(value) else value for _, value in call.with_element(element).columns()]
        for element in elements
    ]
    before = sheet.rows_below(columns)
    wanted = [[sheet.to_raw(name, value) for name, value in zip(columns, row, strict=True)] for row in rows]
    if before != wanted:
        yield Effect(
            verb="fill sheet",
            place=sheet.name,
            target="",
            before={"columns": columns, "rows": before},
            after={"columns": columns, "rows": rows},
        )


FILL_SHEET = StepDefinition(
    sentence=Sentence(words="fill sheet SHEET for each EACH in LIST"),
    meaning="Replaces what stands below the headings by a row for each element of a list, in the list's order. Only "
    "the "
    "columns named below "
    'are written; others, a line of totals (totals = "last row"), charts and other tabs stay. Rows are put in or '
    "taken out as needed, and what "
    "speaks of them follows. A table that is as it should be is not touched.",
    columns_as_fields=True,
    value_type="list",
    is_told=True,
    example="fill sheet activity for each e in past\n  Title  e.title\n  Start  e.start\n  Hours  (e.end - e.start) / "
    "1 hour",
    act=_act,
)
