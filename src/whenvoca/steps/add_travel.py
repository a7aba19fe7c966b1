"""The step `add travel around NAME`: the way out and back beside an event, which keeps up with it from then on."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.state import split_key, to_state
from whenvoca.calendars.travel import HOMEWARD, OUTWARD, way, with_way
from whenvoca.engine.acting.dated_changes import to_creation
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.stage import ExistingThing, Missing
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.engine.things.event import EventThing, event_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.types import TEXT, list_of
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.event_fields import EVENT_FIELDS, event_at
from whenvoca.steps.looking_up import find_targets
from whenvoca.steps.town_minutes import minutes_to
from whenvoca.steps.travel_follows import AROUND, follow_travel, remembered
from whenvoca.values.durations import Duration, show_duration
from whenvoca.values.texts import show_value
from whenvoca.values.towns import town_of

_GIVEN = {"event": event_type(), "town": TEXT}
_FIELDS = ("title", "reminder", "details", "category", "colour", "busy", "private")
_WAYS = {OUTWARD: "outward", HOMEWARD: "return"}
_LONGEST = timedelta(days=7)


class _Way(Struct):
    """One way: its event, which way it is, and how long it takes."""

    thing: EventThing
    stored: StoredEvent
    which: str
    length: timedelta
    town: str


def _act(call: StepCall) -> Acting:
    made: list[EventThing] = []
    for thing in find_targets(call):
        assert isinstance(thing, EventThing)
        if _way_of(thing.event) in _WAYS:
            continue  # nobody travels to a way
        stored = call.stage.find_event(thing.place, thing.key)
        if stored is not None:
            made += yield from _around(call, thing, stored)
    return made


def _around(call: StepCall, thing: EventThing, stored: StoredEvent) -> Acting:
    """Puts the ways beside one event; all of them or none."""
    event, town = stored.event, town_of(stored.event.location)
    if not isinstance(event.start, datetime):
        raise RowFault(f'"{event.title}" takes whole days, so nobody knows when one sets out', fix="give it times")
    length = _length(call, event, town)
    standing = {_way_of(each): each for each in call.stage.travels(thing.place).around(thing.key)}
    ways = [_Way(thing, stored, which, length, town) for which in (OUTWARD, HOMEWARD) if _wants(call, which)]
    planned = [
        (each, _travel(call, each))
        for each in ways
        if each.which not in standing and _is_needed(call, thing, event, each.which, length)
    ]
    notes = remembered(stored, length, by_towns=not call.gives("length"))
    found = [call.stage.to_thing(thing.place, each) for each in standing.values()]
    for each in ways:
        yield from _remember(call, each, notes)
    for each, travel in planned:
        _, made = _identity(call, each)
        if isinstance(made, ExistingThing) or made.by_another:
            continue  # it stands, or was taken out by hand
        yield to_creation(travel, thing.place, made.number, base={**to_state(travel), **notes})
        found.append(call.stage.to_thing(thing.place, travel))
    return sorted(found, key=lambda each: each.value_of("start"))


def _remember(call: StepCall, each: _Way, notes: dict[str, Any]) -> Acting:
    """What is to be known of a way that stands, where a crash, or a lost ledger, left that unknown."""
    lineage, made = _identity(call, each)
    if isinstance(made, ExistingThing) and AROUND not in (made.base or {}):
        base = {**(made.base or to_state(made.stored.event)), **notes}
        more: dict[str, Any] = {"stored": made.stored, "event": made.stored.event, "lineage": lineage.to_mark()}
        yield Effect(
            verb=EVENT_EFFECTS.take.verb,
            place=each.thing.place,
            target=made.stored.event.uid,
            number=made.number,
            base=base,
            after={},
            **more,
        )


def _way_of(travel: Event) -> str:
    lineage = Lineage.from_mark(travel.origin)
    return lineage.repetition if lineage is not None else ""


def _identity(call: StepCall, each: _Way) -> tuple[Lineage, ExistingThing | Missing]:
    about = call.lineage
    lineage = Lineage(about.root, about.workflow, each.thing.key, about.step, each.which)
    return lineage, call.stage.find_made(each.thing.place, lineage)


def _wants(call: StepCall, which: str) -> bool:
    """Whether that way is asked for: both, unless one of them is named."""
    others = any(call.gives(word) for word in _WAYS.values())
    return bool(call.value(_WAYS[which], not others))


def _length(call: StepCall, event: Event, town: str) -> timedelta:
    """How long the way is: as the step says, else by the sheet of towns."""
    if call.gives("length"):
        value = call.value("length")
        if not isinstance(value, Duration) or value.months or not 0 < value.to_seconds() <= _LONGEST.total_seconds():
            raise RowFault(f"the length of the way is {show_value(value) or 'empty'}", fix="such as length  35 minutes")
        return timedelta(seconds=float(value.to_seconds()))
    if not town:
        raise RowFault(
            f'"{event.title}" has no town in its location, "{event.location}"', fix="add the town there, or give length"
        )
    if not call.stage.workspace.towns:
        raise RowFault(
            "nobody says how long the way is", fix='give length, or a sheet: [workspace] towns = "…" in whenvoca.toml'
        )
    found = minutes_to(call.stage, town)
    if found is None:
        raise RowFault(f"{call.stage.workspace.towns} has no row for {town}", fix="add it there, or give length")
    return found


# --- whether there is a way, and room for it


def _is_needed(call: StepCall, thing: EventThing, event: Event, which: str, length: timedelta) -> bool:
    """Whether one goes that way at all: not between two events at one place. Raises RowFault where the time between two
    towns is too short for home and out again."""
    neighbour = None if event.is_series and event.occurrence is None else _neighbour(call, thing, event, which)
    if neighbour is None:
        return True
    zone = call.scope.zone
    first, second = (neighbour, event) if which == OUTWARD else (event, neighbour)
    gap = second.span(zone)[0] - first.span(zone)[1]
    town = town_of(neighbour.location)
    same_day = first.span(zone)[1].astimezone(zone).date() == second.span(zone)[0].astimezone(zone).date()
    if _place(neighbour) == _place(event) or (town and town == town_of(event.location)):
        return not (same_day or gap < 2 * length)
    there = minutes_to(call.stage, town) if town else None
    if there is not None and gap < length + there:
        raise RowFault(
            f'between "{first.title}" and "{second.title}" are {_shown(gap)}, and home and out again takes '
            f"{_shown(length + there)}",
            fix="move one of them, or give a shorter length",
        )
    return True


def _shown(span: timedelta) -> str:
    return show_duration(Duration(seconds=round(span.total_seconds())))


def _place(event: Event) -> str:
    return " ".join(event.location.casefold().split())


def _neighbour(call: StepCall, thing: EventThing, event: Event, which: str) -> Event | None:
    """The event with a place that comes before it, or after it, within a day."""
    calendar, zone = call.stage.calendar(thing.place), call.scope.zone
    begin, end = event.span(zone)
    day = timedelta(days=1)
    own = {each.uid for each in call.stage.travels(thing.place).around(thing.key)} | {split_key(thing.key)[0]}
    ways = {uid for made in call.stage.travels(thing.place).all().values() for _, uid in made}
    around = calendar.find_between(begin - day, begin) if which == OUTWARD else calendar.find_between(end, end + day)
    found = [
        each
        for each in around
        if each.takes_time and each.location and not each.is_whole_day and each.uid not in own | ways
    ]
    if which == OUTWARD:
        return max((e for e in found if e.span(zone)[1] <= begin), key=lambda e: e.span(zone)[1], default=None)
    return min((e for e in found if e.span(zone)[0] >= end), key=lambda e: e.span(zone)[0], default=None)


def _travel(call: StepCall, each: _Way) -> Event:
    """The event of the way. Raises RowFault where something else takes its time, as the step says."""
    lineage, made = _identity(call, each)
    number = made.number if isinstance(made, Missing) else 1
    event = each.stored.event
    inside = call.for_one(each.thing.place, event=each.thing, town=each.town)
    times = way(event, each.which, each.length, each.stored.others)
    travel = event_at(inside, lineage.to_uid(number), lineage.to_mark(), times["start"], times["end"])
    title = travel.title or f"{'To' if each.which == OUTWARD else 'Back from'} {event.title}"
    private = travel.private if call.gives("private") else event.private
    travel = with_way(replace(travel, title=title, private=private), times)
    others = [
        other
        for other in call.stage.find_clashes(each.thing.place, travel)
        if other.uid != event.uid and not other.is_whole_day
    ]
    return travel if not others else _with_others(call, each, travel, others)


def _with_others(call: StepCall, each: _Way, travel: Event, others: list[Event]) -> Event:
    zone = call.scope.zone
    other = others[0]
    begin, end = (moment.astimezone(zone) for moment in other.span(zone))
    said = f'"{other.title}", {show_value(begin)} to {show_value(end)}, takes the time of the {each.which}'
    if call.text("clash") != "shorten":
        raise RowFault(said, fix="move one of them, or shorten the way: clash  shorten")
    if travel.is_series:
        raise RowFault(f"{said}; the way of a series cannot be shortened for one of them", fix="move one of them")
    assert isinstance(travel.start, datetime)
    assert isinstance(travel.end, datetime)
    start, stop = travel.start, travel.end
    if each.which == OUTWARD:
        start = max([start, *(o.span(zone)[1] for o in others)]).astimezone(start.tzinfo)
    else:
        stop = min([stop, *(o.span(zone)[0] for o in others)]).astimezone(stop.tzinfo)
    if start.astimezone(UTC) >= stop.astimezone(UTC):
        raise RowFault(f"{said}, and leaves nothing of it", fix="move one of them")
    return replace(travel, start=start, end=stop)


# --- the definition


def _event_field(name: str) -> FieldDefinition:
    found = next(each for each in EVENT_FIELDS if each.name == name)
    own = {
        "title": {"default": "To, or Back from, and the event's title", "example": '"On the road for {event.title}"'}
    }
    return replace(found, given=_GIVEN, **own.get(name, {}))


ADD_TRAVEL = StepDefinition(
    sentence=Sentence("add travel around NAME"),
    meaning="Puts the way out and the way back beside an event, or beside each of a list, in the same calendar. From "
    "then on they keep up with it: where the event is moved or deleted, by whomever, `run` and `watch` move or delete "
    "them; a way that somebody moved by hand stays and is named. There is no way between two events at one place or in "
    "one town on the same day; between two towns it goes home and out again, and is refused where the time is too "
    "short. A series gets ways that repeat with it. NAME holds the events of the ways.",
    fields=(
        FieldDefinition(
            "length",
            "duration",
            "How long one way is.",
            default="the minutes of the event's town in the sheet [workspace] towns",
            example="35 minutes",
        ),
        FieldDefinition("outward", "yes-no", "The way there.", default="yes, unless return alone stands there"),
        FieldDefinition("return", "yes-no", "The way back.", default="yes, unless outward alone stands there"),
        FieldDefinition(
            "clash",
            "choice",
            "What happens where something else takes its time.",
            choices=("refuse", "shorten"),
            default="refuse",
        ),
        *map(_event_field, _FIELDS),
    ),
    thing="event",
    makes=lambda place: list_of(event_type(place)),
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.take),
    follow=follow_travel,
    example='add travel around event\n  length    35 minutes\n  title     "On the road for {event.title}"\n'
    "  reminder  40 minutes before",
    act=_act,
)
