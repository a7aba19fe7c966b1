"""The steps `find rows in` and `find row in`: look rows up, without changing anything."""

from __future__ import annotations

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.language.definitions import PlaceInfo, Sentence, StepDefinition
from whenvoca.language.names import row_type
from whenvoca.language.types import Type, list_of
from whenvoca.steps.looking_up import MISSING, SEVERAL, WHERE, choose, look_up


def _find_all(call: StepCall) -> Acting:
    yield from ()
    return look_up(call)


def _find_one(call: StepCall) -> Acting:
    yield from ()
    found = choose(call, look_up(call))
    if call.text("several") == "all":
        return found
    return found[0] if found else None


def _rows(place: PlaceInfo) -> Type:
    return list_of(row_type(place))


FIND_ROWS = StepDefinition(
    sentence=Sentence("find rows in SHEET"),
    meaning="Gives the rows that fit, in the order in which they stand: a list, perhaps empty. Without where: all.",
    fields=(WHERE,),
    thing="row",
    looks_up=True,
    reads_only=True,
    makes=_rows,
    example="find rows in requests as open-ones\n  where  Answer is empty",
    act=_find_all,
)
FIND_ROW = StepDefinition(
    sentence=Sentence("find row in SHEET"),
    meaning="Gives exactly one row; missing and several say what else may be.",
    fields=(WHERE, MISSING, SEVERAL),
    thing="row",
    looks_up=True,
    reads_only=True,
    makes=row_type,
    example="find row in visits as wish\n  where  Visit-no is Visit",
    act=_find_one,
)
