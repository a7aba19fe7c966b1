"""What a step acts on: the subject, a thing by its given name, or what it looks up in a place."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import from_state, to_state
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.place_protocols import Found
from whenvoca.engine.things.event import EventThing
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition
from whenvoca.language.evaluation import Thing
from whenvoca.steps.windows import window
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value

_MOST_LISTED = 5

WHERE = FieldDefinition(
    "where",
    "condition",
    "Which one. Bare names are its own fields, then given names; the subject is written in full. Several "
    "lines must all hold.",
    example="uid is row.Booking",
)
MISSING = FieldDefinition(
    "missing",
    "choice",
    "What happens if there is none: the step fails, or it does nothing and its name stays empty.",
    choices=("fail", "pass"),
    default="fail",
)
MISSING_OR_MADE = FieldDefinition(
    "missing",
    "choice",
    "What happens if there is none: the step fails, does nothing, or makes one with these fields.",
    choices=("fail", "pass", "make"),
    default="fail",
)
SEVERAL = FieldDefinition(
    "several",
    "choice",
    "What happens if more than one fits: the step fails and lists them, or takes the first, or all.",
    choices=("fail", "first", "all"),
    default="fail",
)


def find_targets(call: StepCall) -> list[Thing]:
    """The things that the step acts on, as they stand now. Raises RowFault where there are none, or too many."""
    if call.definition.looks_up and call.definition.field("several") is None:
        return look_up(call, *window(call))
    if call.definition.looks_up:
        return choose(call, look_up(call))
    if call.has_name:
        named = call.named
        things = [each for each in (named if isinstance(named, list | tuple) else [named]) if not is_empty(each)]
        return [now for each in things if (now := _as_now(call, each)) is not None]
    subject = call.subject
    if subject is None:
        raise RowFault("the workflow is about nothing that could be changed")
    now = _as_now(call, subject)
    if now is None and call.about.is_lost:
        return []  # it has gone, which is what the run is about
    if now is None:
        thing = call.definition.thing
        raise RowFault(f"the {thing} is no longer there", where=_place_said(subject))
    return [now]


def _place_said(thing: Any) -> str:
    return str(getattr(thing, "place", ""))


def _as_now(call: StepCall, thing: Any) -> Thing | None:
    """The thing as it stands now, None if it is gone."""
    if isinstance(thing, EventThing):
        stored = call.stage.find_event(thing.place, thing.key)
        return None if stored is None else call.stage.to_thing(thing.place, stored.event)
    sheet = call.stage.sheet(thing.place)
    state = sheet.current(thing.key)
    return None if state is None else sheet.row(thing.key, state)


def choose(call: StepCall, found: list[Thing]) -> list[Thing]:
    """As many of the things found as the step may take. Raises RowFault by `missing` and `several`."""
    thing, place = call.definition.thing, " or ".join(call.calendars or [call.place])
    if not found:
        if call.text("missing") in ("pass", "make"):
            return []
        raise RowFault(f"no {thing} of {place} fits: {_asked(call)}")
    several = call.text("several") or "fail"
    if len(found) > 1 and several == "fail":
        listed = "; ".join(describe(each) for each in found[:_MOST_LISTED])
        more = f" and {len(found) - _MOST_LISTED} more" if len(found) > _MOST_LISTED else ""
        raise RowFault(
            f"{len(found)} {thing}s of {place} fit: {listed}{more}",
            fix="say more in where, or several first, several all",
        )
    return found if several == "all" else found[:1]


def _asked(call: StepCall) -> str:
    values = [f"{word} {show_value(call.where.wanted(word)) or 'empty'}" for word in call.where.wanted_words]
    return call.where.said + (f" ({', '.join(values)})" if values else "")


def describe(thing: Any) -> str:
    """A thing in a list of several."""
    if isinstance(thing, EventThing):
        return f'"{thing.event.title}" {show_value(thing.value_of("start"))}'
    return str(thing.where_is_row())


def look_up(call: StepCall, low: datetime | None = None, high: datetime | None = None) -> list[Thing]:
    """Everything in the step's places that fits its `where`, in order: events by start, rows as they stand.

    Raises RowFault where a place is missing, PlaceTrouble where it cannot be reached.
    """
    if call.definition.thing == "row":
        found = call.where.recalled(lambda: _search_rows(call))
        sheet = call.stage.sheet(call.place)
        return [sheet.row(each.key, sheet.current(each.key) or each.state) for each in found]
    found = call.where.recalled(lambda: _search_events(call, low, high))
    return [call.stage.to_thing(each.place, from_state(each.state)) for each in found]


def _search_rows(call: StepCall) -> list[Found]:
    sheet = call.stage.sheet(call.place)
    keys: list[str] | None = None
    for word in call.where.wanted_words:
        value = call.where.wanted(word)
        if isinstance(value, str) and value.strip():
            held = sheet.keys_holding(word, value)
            keys = held if keys is None or len(held) < len(keys) else keys
    found = []
    for key in sheet.keys() if keys is None else keys:
        state = sheet.current(key)
        if state is not None and call.where.fits(sheet.row(key, state)):
            found.append(Found(sheet.name, key, state))
    return found


def _search_events(call: StepCall, low: datetime | None, high: datetime | None) -> list[Found]:
    found: list[tuple[datetime, Found]] = []
    for name in call.calendars:
        calendar = call.stage.calendar(name)
        for event in _candidates(call, name, low, high):
            thing = call.stage.to_thing(name, event)
            if call.where.fits(thing):
                found.append((event.span(calendar.zone)[0], Found(calendar.name, thing.key, to_state(event))))
    return [each for _, each in sorted(found, key=lambda pair: pair[0])]


def _candidates(call: StepCall, name: str, low: datetime | None, high: datetime | None) -> list[Event]:
    calendar = call.stage.calendar(name)
    if "uid" in call.where.wanted_words:
        uid = show_value(call.where.wanted("uid"))
        stored = calendar.find_event(uid) if uid else None
        if stored is None:
            return []
        if low is None or high is None:
            return [stored.event]
        return expand_events([stored.event, *stored.others], low, high, calendar.zone)
    if low is not None and high is not None:
        return [event for event in calendar.find_between(low, high) if not event.cancelled]
    return [event for event in calendar.all_events() if event.occurrence is None and not event.cancelled]
