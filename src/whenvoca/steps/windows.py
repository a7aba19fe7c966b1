"""The two moments between which a step looks: `from` and `until`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime

from whenvoca.engine.acting.step_call import StepCall
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.operations import to_instant
from whenvoca.values.texts import show_value

FROM = FieldDefinition(
    "from",
    "moment",
    "Only what lies wholly or partly after this moment; series are then given by their occurrences.",
    example="tomorrow",
)
UNTIL = FieldDefinition(
    "until", "moment", "Only what lies wholly or partly before this moment.", example="tomorrow + 7 days"
)


def window(call: StepCall) -> tuple[datetime | None, datetime | None]:
    """The two moments between which the step looks. Raises RowFault where only one of them has a value."""
    low, high = call.value("from"), call.value("until")
    if low is None and high is None:
        return None, None
    if low is None or high is None:
        raise RowFault(f"{'from' if low is None else 'until'} is empty", fix="give both moments, or none")
    begin, end = to_instant(low, call.scope.zone), to_instant(high, call.scope.zone)
    if end <= begin:
        raise RowFault(f"until, {show_value(end)}, does not come after from, {show_value(begin)}")
    return begin, end


def check_window(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    """from and until stand together."""
    for one, other in (("from", "until"), ("until", "from")):
        if one in given and other not in given:
            yield one, f"{one} stands without {other}", "give both"
