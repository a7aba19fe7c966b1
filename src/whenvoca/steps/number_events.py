"""The step `number events in CALENDARS`: events in a row carry their count in their titles."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import date, datetime, timedelta
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.numbering import closed_numbers, kept_numbers
from whenvoca.calendars.recurrence import end_of_series, expand_events
from whenvoca.calendars.state import event_key, from_state, to_state
from whenvoca.calendars.writer import carried
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change
from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.things.event import event_type
from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.operations import to_instant
from whenvoca.language.types import NUMBER, TEXT, list_of
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.looking_up import WHERE
from whenvoca.values.texts import show_value
from whenvoca.values.weekdays import NAMES

_MOST = 20_000  # events in all sequences of one step
_NUMBER, _TOTAL, _TITLE = "\ue000", "\ue001", "\ue002"  # stand for them where a title's pattern is worked out
_PLAIN, _GIVEN = "plain", "number"  # in a base, besides the state of an event: the title without a number; the number


_NUMBERED = EffectKind(
    verb="take event as numbered",
    line=lambda effect: f"numbers in {effect.place} stand as they are",
    target=lambda effect: effect.event.title if effect.event is not None else effect.target,
    invert=lambda stage, effect, left: iter(()),  # type: ignore[arg-type, return-value]
)

# What an occurrence takes over from its series, as long as nobody gave it its own.
_FOLLOWED = "location details attendees organizer alarms busy priority colour categories private meeting_link".split()


class _Place(Struct):
    """One event in its sequence: ``plain`` is its title without a number, ``own`` the number it had, ``base`` what this
    step last wrote to it."""

    calendar: str
    event: Event
    lineage: Lineage
    begin: datetime
    base: Mapping[str, Any]
    plain: str
    own: int | None = None
    is_by_hand: bool = False  # its title is a person's
    derived: Event | None = None  # of an occurrence: what its series says of it


def _act(call: StepCall) -> Acting:
    first, step = _whole(call, "first", 1), _whole(call, "step", 1)
    if not step:
        raise RowFault("step is 0", fix="give a number that is not 0")
    done = []
    for places in _sequences(call):
        kept = call.text("gaps") == "kept"
        numbers = (
            kept_numbers([each.own for each in places], first, step)
            if kept
            else closed_numbers(len(places), first, step)
        )
        for place, number in zip(places, numbers, strict=True):
            done.append((yield from _name(call, place, number, max(numbers[0], numbers[-1]))))
    return done


def _whole(call: StepCall, word: str, default: int) -> int:
    value = call.value(word, default)
    if not isinstance(value, int) or isinstance(value, bool):
        raise RowFault(f"{word}: {show_value(value)} is not a whole number")
    return value


# --- which events, in which order


def _sequences(call: StepCall) -> Iterator[list[_Place]]:
    """The sequences, each in its order."""
    pattern = _pattern(call)
    names = [call.stage.calendar(name).name for name in call.calendars]
    places = [place for name in names for place in _places(call, name, pattern)]
    if len(places) > _MOST:
        raise RowFault(f"{len(places):,} events fit, and {_MOST:,} are the most", fix="say more in where, or until")
    places.sort(key=lambda each: (each.begin, each.event.uid), reverse=call.text("order") == "latest first")
    found: dict[tuple[Any, ...], list[_Place]] = {}
    for each in places:
        found.setdefault((_period(call, each), *_own_sequence(call, each)), []).append(each)
    yield from found.values()


def _own_sequence(call: StepCall, place: _Place) -> tuple[str, ...]:
    match call.text("each"):
        case "series":
            return place.calendar, place.event.uid
        case "title":
            return (place.plain.casefold(),)
    return ()


def _period(call: StepCall, place: _Place) -> date | None:
    """The first day of the year, month or week in which its numbers begin anew."""
    day = place.begin.astimezone(call.stage.calendar(place.calendar).zone).date()
    match call.text("restart"):
        case "every year":
            return day.replace(month=1, day=1)
        case "every month":
            return day.replace(day=1)
        case "every week":
            return day - timedelta(days=(day.weekday() - NAMES.index(call.stage.workspace.week_starts.lower())) % 7)
    return None


def _places(call: StepCall, name: str, pattern: re.Pattern[str] | None) -> Iterator[_Place]:
    """The events of a calendar that fit, by their titles as they are, as we wrote them, or without a number."""
    zone = call.stage.calendar(name).zone
    until = call.value("until")
    end = None if until is None else to_instant(until, call.scope.zone)
    for group in _groups(call.stage.calendar(name).all_events()):
        for event, derived in _occurrences(call, name, group, end):
            begin = event.span(zone)[0]
            if end is not None and begin >= end:
                continue
            place = _known(call, name, event, begin, pattern)
            place.derived = derived
            titles = dict.fromkeys((event.title, place.plain, str(place.base.get("title", place.plain))))
            if any(_fits(call, name, event, title) for title in titles):
                yield place


def _groups(events: Iterable[Event]) -> Iterable[list[Event]]:
    """The standing events by their UIDs: the master of a series with its changed occurrences."""
    found: dict[str, list[Event]] = {}
    for event in events:
        if not event.cancelled or event.occurrence is not None:
            found.setdefault(event.uid, []).append(event)
    return found.values()


def _occurrences(
    call: StepCall, name: str, group: list[Event], until: datetime | None
) -> Iterable[tuple[Event, Event | None]]:
    """The event, or the occurrences of the series, each with what the series says of it; None where that gives none.

    Raises RowFault for a series without an end that is to be numbered.
    """
    zone = call.stage.calendar(name).zone
    master = next((event for event in group if event.occurrence is None), None)
    if master is None or not master.is_series:
        return [(event, None) for event in group if not event.cancelled]
    end = until if until is not None else end_of_series(master, zone)
    if end is None:
        if _fits(call, name, master, master.title):
            raise RowFault(
                f'the series "{master.title}" has no end', where=name, fix="say up to when: until  today + 1 year"
            )
        return [(event, None) for event in group if event.occurrence is not None and not event.cancelled]
    begins = [event.span(zone)[0] for event in group]
    high = max([end, *(event.span(zone)[1] for event in group if event.occurrence is not None)]) + timedelta(days=1)
    found = [event for event in expand_events(group, min(begins), high, zone) if not event.cancelled]
    if len(group) == 1:
        return [(event, event) for event in found]
    derived = {event_key(each.uid, each.occurrence): each for each in expand_events([master], min(begins), high, zone)}
    return [(event, derived.get(event_key(event.uid, event.occurrence))) for event in found]


def _fits(call: StepCall, name: str, event: Event, title: str) -> bool:
    return call.where.fits(call.stage.to_thing(name, event if event.title == title else replace(event, title=title)))


def _known(call: StepCall, name: str, event: Event, begin: datetime, pattern: re.Pattern[str] | None) -> _Place:
    """What is known of the event: what this step wrote to it, else what its title says."""
    about = call.lineage
    lineage = Lineage(about.root, about.workflow, event_key(event.uid, event.occurrence), about.step, about.repetition)
    known = call.stage.made(name, lineage.to_mark())
    base: Mapping[str, Any] = known.base if known is not None and known.base is not None else {}
    read = pattern.fullmatch(event.title) if pattern is not None else None
    groups = read.groupdict() if read is not None else {}
    plain = str(base.get(_PLAIN) or groups.get(_PLAIN) or event.title)
    own = base.get(_GIVEN, groups.get(_GIVEN))
    by_hand = bool(base) and event.title not in (base.get("title", ""), plain)
    if by_hand and read is not None and groups.get(_PLAIN, plain) == plain:
        by_hand = False  # no more than another number, as in a copy
    return _Place(name, event, lineage, begin, base, plain, None if own is None else int(own), by_hand)


# --- titles


def _title(call: StepCall, **given: Any) -> str:
    """The title that the step's field gives, on one line."""
    inside = call.for_one("", **given)
    return " ".join(carried(inside.text("title")).split())


def _pattern(call: StepCall) -> re.Pattern[str] | None:
    """What tells a numbered title; None where numbers are shown in a way that cannot be told from outside."""
    try:
        text = _title(call, number=_NUMBER, total=_TOTAL, title=_TITLE)
    except RowFault:
        return None
    if text.count(_NUMBER) != 1 or text.count(_TITLE) > 1:
        return None
    shapes = {_NUMBER: r"(?P<number>-?\d+)", _TOTAL: r"-?\d+", _TITLE: r"(?P<plain>.+?)"}
    return re.compile("".join(shapes.get(part, re.escape(part)) for part in re.split("([\ue000\ue001\ue002])", text)))


def _name(call: StepCall, place: _Place, number: int, total: int) -> Acting:
    """Gives the event its number, unless a person named it; answers the event."""
    if place.is_by_hand:
        return call.stage.to_thing(place.calendar, place.event)
    wanted = _title(call, number=number, total=total, title=place.plain)
    key = event_key(place.event.uid, place.event.occurrence)

    def decide() -> Effect | None:
        stored = call.stage.find_event(place.calendar, key)
        if stored is None or stored.event.title != place.event.title:
            return None  # gone, or named by somebody, in this very moment
        new = _following(replace(stored.event, title=wanted, sequence=stored.event.sequence + 1), place)
        base = {**to_state(new), _PLAIN: place.plain, _GIVEN: number}
        mark = place.lineage.to_mark()
        change = to_change(stored, new, place.calendar, key, lineage=mark, number=0, base=base)
        if change is None and place.base.get(_GIVEN) != number:
            more: dict[str, Any] = {"stored": stored, "event": new, "lineage": mark, "base": base, "after": {}}
            return Effect(verb=_NUMBERED.verb, place=place.calendar, target=key, **more)
        return change

    done = yield from retry_on_conflict(decide)
    event = done[0].event if done is not None and done[0].event is not None else place.event
    return call.stage.to_thing(place.calendar, event)


def _following(event: Event, place: _Place) -> Event:
    """An occurrence with what its series says now, in all that nobody changed in it since it was numbered."""
    if place.derived is None or not place.base:
        return event
    base = from_state({name: value for name, value in place.base.items() if name not in (_PLAIN, _GIVEN)})
    taken = {
        name: now
        for name in _FOLLOWED
        if (now := getattr(place.derived, name)) != getattr(base, name) == getattr(event, name)
    }
    if (event.start, event.end) == (base.start, base.end) and event.start == place.derived.start:
        taken["end"] = place.derived.end
    return replace(event, **taken)


def _check(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    if "title" not in given:
        yield "", "title is missing: where does the number stand?", 'such as title  "{title} {number} of {total}"'


def _check_title(node: tree.Node) -> tuple[str, str] | None:
    if "number" in {word.lower() for word in tree.words_in(node)}:
        return None
    return "this title has no {number}", 'such as "{title} {number} of {total}"'


NUMBER_EVENTS = StepDefinition(
    sentence=Sentence("number events in CALENDARS"),
    meaning="Counts the events that fit, series by their occurrences, and writes the count into their titles. In the "
    "title stand {number}, {total} (the greatest number of the sequence) and {title} (the title without the number it "
    "got before). Run again it changes nothing; what was added since counts on, and every total follows. A title that "
    "a person changed stays, and keeps its place in the count.",
    fields=(
        WHERE,
        FieldDefinition(
            "title",
            "text",
            "What they are called, with {number}.",
            example='"Mirror cleaning {number} of {total}"',
            given={"number": NUMBER, "total": NUMBER, "title": TEXT},
            check=_check_title,
        ),
        FieldDefinition("first", "number", "The first number.", default="1", example="1"),
        FieldDefinition("step", "number", "From one number to the next.", default="1", example="1"),
        FieldDefinition(
            "restart",
            "choice",
            "When the count begins anew.",
            choices=("every year", "every month", "every week"),
            default="never",
        ),
        FieldDefinition(
            "each",
            "choice",
            "With series each series is counted by itself, with title all that are called the same.",
            choices=("series", "title"),
            default="all as one",
        ),
        FieldDefinition(
            "order",
            "choice",
            "From which end it counts.",
            choices=("earliest first", "latest first"),
            default="earliest first",
        ),
        FieldDefinition(
            "gaps",
            "choice",
            "What becomes of the number of one that was taken out or moved: the later ones move up, or keep theirs.",
            choices=("closed", "kept"),
            default="closed",
        ),
        FieldDefinition(
            "until", "moment", "Only what begins before this moment; series without an end need it.", example="today"
        ),
    ),
    thing="event",
    looks_up=True,
    is_collective=True,
    makes=lambda place: list_of(event_type(place)),
    effects=(EVENT_EFFECTS.change, _NUMBERED),
    check_fields=_check,
    example='number events in domes\n  where    title begins with "Mirror cleaning"\n'
    '  title    "Mirror cleaning {number} of {total}"\n  restart  every year',
    act=_act,
)
