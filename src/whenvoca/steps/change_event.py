"""The steps `change event`: of the subject or a named thing, or looked up in a calendar."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from typing import Any

from whenvoca.calendars.series import moved_series
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change, to_creation
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.meeting_links import end_link, make_link, with_link, write_with_link
from whenvoca.engine.acting.splitting import Splitting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.things.event import EventThing, event_type
from whenvoca.language.definitions import Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.types import list_of
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.dated_kinds import kind_of
from whenvoca.steps.event_fields import EVENT_FIELDS, TIMES, changed_event, check_changed_fields, heed_clashes
from whenvoca.steps.looking_up import MISSING_OR_MADE, SEVERAL, WHERE, find_targets
from whenvoca.steps.meeting_links import LINK_EFFECTS, WORD, linked, wants_link
from whenvoca.steps.occurrences import ALL, LATER, WHICH
from whenvoca.steps.windows import FROM, UNTIL, check_window


def change_things(call: StepCall) -> Acting:
    """Changes the events or tasks that the step is about.

    Raises RowFault where one is gone or a field cannot be read.
    """
    things: list[Any] = find_targets(call)
    if not things and call.text("missing") == "make":
        return (yield from _make(call))
    changed = []
    for thing in things:
        changed.append((yield from _change(call, thing)))
    if call.text("several") == "all" or (call.definition.looks_up and call.definition.field("several") is None):
        return changed
    return changed[0] if changed else None


def _make(call: StepCall) -> Acting:
    made = call.stage.find_made(call.place, call.lineage)
    notes: list[str] = []
    kind = kind_of(call)
    event = kind.make(call, call.lineage.to_uid(made.number), call.lineage.to_mark(), notes)
    event = yield from linked(call, event, "")
    yield from write_with_link(call.stage, event, to_creation(event, call.place, made.number, notes))
    return call.stage.to_thing(call.place, event)


def _change(call: StepCall, thing: EventThing) -> Acting:
    which = call.text("which") if thing.event.occurrence is not None else ""
    if which == LATER:
        return (yield from _split(call, thing))
    link = thing.event.meeting_link
    if wants_link(call) and not link:
        link = yield from make_link(call.stage, thing.place, thing.event)

    def decide() -> Effect | None:
        stored = call.stage.find_event(thing.place, thing.key)
        if stored is None or not call.where.fits(call.stage.to_thing(thing.place, stored.event)):
            return None
        notes: list[str] = []
        new = kind_of(call).change(call.bound(call.stage.to_thing(thing.place, stored.event)), stored.event, notes)
        key = thing.key
        if which == ALL:
            master = call.stage.find_event(thing.place, thing.uid)
            assert master is not None
            new, stored, key = moved_series(master.event, stored.event, new), master, thing.uid
        if call.gives("clash") and any(call.gives(word) for word in TIMES):
            new = heed_clashes(call, new, call.text("clash"), notes)
        if call.gives(WORD):
            new = with_link(new, link if wants_link(call) else "")
        return to_change(stored, new, thing.place, key, notes)

    done = yield from retry_on_conflict(decide)
    if call.gives(WORD) and not wants_link(call):
        yield from end_link(call.stage, thing.place, thing.event)
    event = done[0].event if done and done[0].event else thing.event
    return call.stage.to_thing(thing.place, event)


def _split(call: StepCall, thing: EventThing) -> Generator[Effect, Receipt, EventThing]:
    """This occurrence and those after it become a series of their own, changed; the old one ends before."""
    own = call.lineage
    lineage = Lineage(own.root, own.workflow, f"{own.subject} {thing.key}", own.step, own.repetition)
    splitting = Splitting(
        call.stage, thing.place, thing.event, lineage, lambda rest: changed_event(call.bound(thing), rest, [])
    )
    later = yield from splitting.effects()
    return call.stage.to_thing(thing.place, later) if later is not None else thing


def _check_many(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    yield from check_window(given)
    yield from check_changed_fields({word: spot for word, spot in given.items() if word not in ("from", "until")})


_MEANING = (
    "Changes the fields that stand below it; the others stay as they are. A new start alone keeps the length. `empty` "
    "clears a "
    "field. If somebody else changes the event in the same moment, it is read again and the fields with it."
)

CHANGE_EVENT = StepDefinition(
    sentence=Sentence("change event [NAME]"),
    meaning=_MEANING
    + " Alone it changes the event that the workflow is about; with a name that one, or each of a list.",
    fields=(WHICH, *EVENT_FIELDS),
    thing="event",
    makes=event_type,
    check_fields=check_changed_fields,
    example="change event lesson\n  start     Visit-date at Begin\n  location  Venue",
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.change, *LINK_EFFECTS),
    act=change_things,
)

CHANGE_EVENTS = StepDefinition(
    sentence=Sentence("change events in CALENDARS"),
    meaning=_MEANING
    + " All that fit are changed: with from and until series by their occurrences between these moments, else as a "
    "whole. In the fields NAME is the event as it is before the change.",
    fields=(WHERE, FROM, UNTIL, *EVENT_FIELDS),
    thing="event",
    makes=lambda place: list_of(event_type(place)),
    looks_up=True,
    check_fields=_check_many,
    example='change events in outreach as e\n  where  location is "Hall"\n  from   today\n  until  today + 7 days\n'
    "  start  e.start + 1 hour",
    effects=(EVENT_EFFECTS.change, *LINK_EFFECTS),
    act=change_things,
)

CHANGE_EVENT_IN = StepDefinition(
    sentence=Sentence("change event in CALENDAR"),
    meaning=_MEANING + " The event is looked up.",
    fields=(WHERE, MISSING_OR_MADE, SEVERAL, WHICH, *EVENT_FIELDS),
    thing="event",
    makes=event_type,
    looks_up=True,
    check_fields=check_changed_fields,
    example='change event in outreach\n  where   uid is row.Booking\n  colour  "silver"',
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.change, *LINK_EFFECTS),
    act=change_things,
)
