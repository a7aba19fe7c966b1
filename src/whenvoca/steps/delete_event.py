"""The steps `delete event`: the subject, a named thing, or looked up in a calendar."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_deletion
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.meeting_links import end_link
from whenvoca.engine.acting.splitting import deciders_of_ending
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.things.event import EventThing
from whenvoca.language.definitions import Sentence, StepDefinition
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.looking_up import MISSING, SEVERAL, WHERE, find_targets
from whenvoca.steps.meeting_links import KEPT_FIELD, LINK_EFFECTS, WORD
from whenvoca.steps.occurrences import ALL, LATER, WHICH
from whenvoca.steps.windows import FROM, UNTIL, check_window


def delete_things(call: StepCall) -> Acting:
    """Deletes the events or tasks that the step is about. Raises RowFault where there are none, or too many."""
    things: list[Any] = find_targets(call)
    for thing in things:
        for decide in _deciders(call, thing):
            yield from retry_on_conflict(decide)
        if call.text(WORD) != "kept":
            yield from end_link(call.stage, thing.place, thing.event)


def _deciders(call: StepCall, thing: EventThing) -> Iterator[Callable[[], Effect | None]]:
    if thing.event.occurrence is None or call.text("which") != LATER:
        yield lambda: _decide(call, thing)
        return
    stored = call.stage.find_event(thing.place, thing.key)
    if stored is None or not call.where.fits(call.stage.to_thing(thing.place, stored.event)):
        return
    master = call.stage.find_event(thing.place, thing.uid)
    assert master is not None
    if thing.event.occurrence == master.event.start:
        yield lambda: to_deletion(master, thing.place, thing.uid)
        return
    yield from deciders_of_ending(call.stage, thing.place, thing.event)


def _decide(call: StepCall, thing: EventThing) -> Effect | None:
    stored = call.stage.find_event(thing.place, thing.key)
    if stored is None or not call.where.fits(call.stage.to_thing(thing.place, stored.event)):
        return None
    which = call.text("which") if thing.event.occurrence is not None else ""
    if which == ALL:
        master = call.stage.find_event(thing.place, thing.uid)
        assert master is not None
        return to_deletion(master, thing.place, thing.uid)
    return to_deletion(stored, thing.place, thing.key)


_MEANING = "Takes the event away; of a series the one occurrence, unless `which` says more. The brake counts it."

DELETE_EVENT = StepDefinition(
    sentence=Sentence("delete event [NAME]"),
    meaning=_MEANING
    + " Alone it deletes the event that the workflow is about; with a name that one, or each of a list.",
    fields=(WHICH, KEPT_FIELD),
    thing="event",
    effects=(EVENT_EFFECTS.change, EVENT_EFFECTS.delete, *LINK_EFFECTS),
    example="delete event lesson",
    act=delete_things,
)

DELETE_EVENTS = StepDefinition(
    sentence=Sentence("delete events in CALENDARS"),
    meaning="Takes all events away that fit: with from and until series by their occurrences between these moments, "
    "else as a whole. The brake counts each.",
    fields=(WHERE, FROM, UNTIL, KEPT_FIELD),
    thing="event",
    looks_up=True,
    check_fields=check_window,
    effects=(EVENT_EFFECTS.change, EVENT_EFFECTS.delete, *LINK_EFFECTS),
    example='delete events in outreach\n  where  title begins with "Draft"\n  from   today\n  until  today + 30 days',
    act=delete_things,
)

DELETE_EVENT_IN = StepDefinition(
    sentence=Sentence("delete event in CALENDAR"),
    meaning=_MEANING + " The event is looked up.",
    fields=(WHERE, MISSING, SEVERAL, WHICH, KEPT_FIELD),
    thing="event",
    looks_up=True,
    effects=(EVENT_EFFECTS.change, EVENT_EFFECTS.delete, *LINK_EFFECTS),
    example="delete event in outreach\n  where    uid is row.Booking\n  missing  pass",
    act=delete_things,
)
