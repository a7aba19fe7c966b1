"""The step `find attendees in`: who is invited to what, and what they answered."""

from __future__ import annotations

from typing import Any

from whenvoca.calendars.event import Attendee
from whenvoca.calendars.state import from_state, to_state
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.place_protocols import Found
from whenvoca.engine.things.event import EventThing, event_type
from whenvoca.language.definitions import PlaceInfo, Sentence, StepDefinition
from whenvoca.language.types import TEXT, YES_NO, Type, list_of, thing
from whenvoca.steps.looking_up import WHERE
from whenvoca.steps.windows import FROM, UNTIL, check_window, window

_TEXTS = ("address", "name", "answer", "comment")


def attendee_type(place: PlaceInfo | None = None) -> Type:
    """The type of an attendee of an event."""
    return thing("attendee", {"event": event_type(place), **dict.fromkeys(_TEXTS, TEXT), "optional": YES_NO})


class AttendeeThing:
    """Somebody who is invited to an event."""

    def __init__(self, event: EventThing, attendee: Attendee) -> None:
        self._event, self._attendee = event, attendee

    @property
    def key(self) -> str:
        """What makes it the same attendee of the same event."""
        return f"{self._event.key} {self._attendee.address.lower()}"

    def where_is(self, word: str) -> str:
        """The event, and who it is."""
        return f"{self._event.where_is('')}, {self._attendee.address}"

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of an attendee."""
        if word == "event":
            return self._event
        if word == "answer":
            return self._attendee.answer.lower() if self._attendee.has_answered else None
        if word in (*_TEXTS, "optional"):
            return getattr(self._attendee, word) or (None if word != "optional" else False)
        raise KeyError(word)


def _act(call: StepCall) -> Acting:
    yield from ()
    low, high = window(call)

    def search() -> list[Found]:
        found = []
        for name in call.calendars:
            calendar = call.stage.calendar(name)
            if low is None or high is None:
                events = [each for each in calendar.all_events() if each.occurrence is None and not each.cancelled]
            else:
                events = [each for each in calendar.find_between(low, high) if not each.cancelled]
            for event in events:
                event_thing = call.stage.to_thing(name, event)
                for index, attendee in enumerate(event.attendees):
                    if call.where.fits(AttendeeThing(event_thing, attendee)):
                        found.append(Found(calendar.name, f"{index}", to_state(event)))
        return found

    things = []
    for each in call.where.recalled(search):
        event = from_state(each.state)
        things.append(AttendeeThing(call.stage.to_thing(each.place, event), event.attendees[int(each.key)]))
    return things


FIND_ATTENDEES = StepDefinition(
    sentence=Sentence("find attendees in CALENDARS"),
    meaning="Gives everybody who is invited to an event, once for each event: address, name, answer (accepted, "
    "declined, tentative, delegated; empty where none came), comment, optional, and the event.",
    fields=(WHERE, FROM, UNTIL),
    thing="attendee",
    looks_up=True,
    reads_only=True,
    makes=lambda place: list_of(attendee_type(place)),
    check_fields=check_window,
    example="find attendees in outreach as quiet\n  from   today\n  until  today + 7 days\n  where  answer is empty",
    act=_act,
)
ATTENDEE_FIELDS = frozenset(attendee_type().fields)
