"""The steps `find events in` and `find event in`: look events up, without changing anything."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.things.event import event_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, PlaceInfo, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.operations import to_instant
from whenvoca.language.types import Type, list_of
from whenvoca.steps.looking_up import MISSING, SEVERAL, WHERE, choose, look_up
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


def _find_all(call: StepCall) -> Acting:
    yield from ()
    return look_up(call, *window(call))


def _find_one(call: StepCall) -> Acting:
    yield from ()
    found = choose(call, look_up(call, *window(call)))
    if call.text("several") == "all":
        return found
    return found[0] if found else None


def _events(place: PlaceInfo | None) -> Type:
    return list_of(event_type(place))


def _definition(words: str, meaning: str, fields: tuple[FieldDefinition, ...], **more: Any) -> StepDefinition:
    return StepDefinition(
        sentence=Sentence(words),
        meaning=meaning,
        fields=(WHERE, *fields, FROM, UNTIL),
        thing="event",
        looks_up=True,
        reads_only=True,
        check_fields=check_window,
        **more,
    )


FIND_EVENTS = _definition(
    "find events in CALENDARS",
    "Gives what lies wholly or partly between two moments, in order of start: a list, perhaps empty. Without from and "
    "until it gives every event, series once.",
    (),
    makes=_events,
    example="find events in domes, outreach as tonight\n  from   today at 18:00\n  until  tomorrow at 08:00\n"
    '  where  category is not "upkeep"',
    act=_find_all,
)
FIND_EVENT = _definition(
    "find event in CALENDARS",
    "Gives exactly one event; missing and several say what else may be.",
    (MISSING, SEVERAL),
    makes=event_type,
    example="find event in outreach as lesson\n  where  uid is row.Booking",
    act=_find_one,
)
