"""The step `fill sheet … for each …`: the rows below the headings become those of a list, in its order."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, show_brief
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


def _undo(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    """The rows that stood below the headings come back, unless somebody has changed the table since."""
    sheet = stage.sheet(effect.place)
    after, before = effect.after or {}, effect.before or {}
    now = sheet.rows_below(after["columns"])
    wrote = [
        [sheet.to_raw(name, value) for name, value in zip(after["columns"], row, strict=True)] for row in after["rows"]
    ]
    if now != wrote:
        left.append(f"{effect.place}: its rows were changed since; they are left so")
        return
    yield Effect(verb="fill sheet", place=effect.place, target="", before={**after, "rows": now}, after=before)


def _count(fields: dict[str, Any] | None) -> int:
    return len((fields or {}).get("rows", []))


FILL_EFFECT = EffectKind(
    verb="fill sheet",
    line=lambda effect: f"{effect.place} filled with {_count(effect.after)} rows",
    target=lambda effect: show_brief(effect.target or "its rows"),
    detail=lambda effect: f"{_count(effect.before)} rows → {_count(effect.after)} rows",
    invert=_undo,
)
FILL_SHEET = StepDefinition(
    sentence=Sentence("fill sheet SHEET for each EACH in LIST"),
    meaning="Replaces what stands below the headings by a row for each element of a list, in the list's order. Only "
    'the columns named below are written; others, a line of totals (totals = "last row"), charts and other tabs stay. '
    "Rows are put in or taken out as needed, and what speaks of them follows; new rows keep the formulas of the row "
    "above. A table that is as it should be is not touched.",
    columns_as_fields=True,
    value_type="list",
    is_told=True,
    example="fill sheet activity for each e in past\n  Title  e.title\n  Start  e.start\n  Hours  (e.end - e.start) / "
    "1 hour",
    effects=(FILL_EFFECT,),
    act=_act,
)
