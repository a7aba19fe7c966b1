"""The steps `delete row`: the subject, a named row, or looked up in a sheet."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.language.definitions import Sentence, StepDefinition
from whenvoca.steps.looking_up import MISSING, SEVERAL, WHERE, find_targets
from whenvoca.steps.row_effects import DELETE_EFFECT


def _act(call: StepCall) -> Acting:
    rows: list[Any] = find_targets(call)
    for row in rows:
        sheet = call.stage.sheet(row.place)
        state = sheet.current(row.key)
        if state is not None:
            number = str(sheet.number_of(row.key))
            yield Effect(place=sheet.name, verb="delete row", target=row.key, before=dict(state), version=number)


_MEANING = (
    "Takes the row out of its sheet; the rows below move up, and formulas, names, merged cells, tables, validations, "
    "formats and charts that speak of them follow. Where one cannot follow, the step fails. The brake counts it."
)

DELETE_ROW = StepDefinition(
    sentence=Sentence("delete row [NAME]"),
    meaning=_MEANING,
    thing="row",
    effects=(DELETE_EFFECT,),
    example="delete row",
    act=_act,
)

DELETE_ROW_IN = StepDefinition(
    sentence=Sentence("delete row in SHEET"),
    meaning=_MEANING + " The row is looked up.",
    fields=(WHERE, MISSING, SEVERAL),
    thing="row",
    looks_up=True,
    effects=(DELETE_EFFECT,),
    example="delete row in loan-book\n  where  Loan is event.uid",
    act=_act,
)
