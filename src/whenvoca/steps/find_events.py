"""The steps `find events in` and `find event in`: look events up, without changing anything."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.things.event import event_type
from whenvoca.language.definitions import FieldDefinition, PlaceInfo, Sentence, StepDefinition
from whenvoca.language.types import Type, list_of
from whenvoca.steps.looking_up import MISSING, SEVERAL, WHERE, choose, look_up
from whenvoca.steps.windows import FROM, UNTIL, check_window, window


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
