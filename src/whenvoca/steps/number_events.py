"""The step `number events in CALENDARS`: events in a row carry their count in their titles."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.numbering import closed_numbers, kept_numbers
from whenvoca.calendars.state import event_key, from_state, split_key, to_state
from whenvoca.calendars.writer import carried
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change
from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.things.event import event_type
from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.types import NUMBER, TEXT, list_of
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.looking_up import WHERE
from whenvoca.steps.numbered_places import NUMBERS, NumberedPlace, Owner, find_sequences
from whenvoca.steps.occurrence_effects import OCCURRENCE_EFFECT, to_occurrences
from whenvoca.values.texts import show_value

_NUMBER, _TOTAL, _TITLE = "\ue000", "\ue001", "\ue002"  # stand for them where a title's pattern is worked out
_NUMBERED = EffectKind(
    verb="take event as numbered",
    line=lambda effect: f"numbers in {effect.place} stand as they are",
    target=lambda effect: effect.event.title if effect.event is not None else effect.target,
    invert=lambda stage, effect, left: iter(()),  # type: ignore[arg-type, return-value]
)
# What an occurrence takes over from its series, as long as nobody gave it its own.
_FOLLOWED = "location details attendees organizer alarms busy priority colour categories private meeting_link".split()


def _act(call: StepCall) -> Acting:
    first, step = _whole(call, "first", 1), _whole(call, "step", 1)
    if not step:
        raise RowFault("step is 0", fix="give a number that is not 0")
    sequences = find_sequences(call, _pattern(call))
    owners: dict[tuple[str, str], list[NumberedPlace]] = {}
    for places in sequences:
        if call.text("gaps") == "kept":
            numbers = kept_numbers([each.own for each in places], first, step)
        else:
            numbers = closed_numbers(len(places), first, step)
        total = max(numbers[0], numbers[-1])
        for place, number in zip(places, numbers, strict=True):
            place.number = number
            place.wanted = _title(call, number=number, total=total, title=place.plain)
            owners.setdefault((place.owner.calendar, place.event.uid), []).append(place)
    for places in owners.values():
        yield from _name(call, places[0].owner, places)
    found = [place for places in sequences for place in places]
    return [call.stage.to_thing(each.owner.calendar, each.event) for each in found]


def _whole(call: StepCall, word: str, default: int) -> int:
    value = call.value(word, default)
    if not isinstance(value, int) or isinstance(value, bool):
        raise RowFault(f"{word}: {show_value(value)} is not a whole number")
    return value


def _title(call: StepCall, **given: Any) -> str:
    """The title that the step's field gives, on one line."""
    return " ".join(carried(call.for_one("", **given).text("title")).split())


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


# --- writing


def _name(call: StepCall, owner: Owner, places: Sequence[NumberedPlace]) -> Acting:
    """Gives an event its number, or the occurrences of a series theirs, in one write; those that a person named keep
    their titles."""
    free = [each for each in places if not each.is_by_hand]
    ours = {each.name: (each.wanted, each.plain, each.number) for each in free}
    numbers = [[key, *written] for key, written in {**owner.numbers, **ours}.items()]
    is_known = ours.items() <= owner.numbers.items()
    if is_known and all(_changed(each).content() == each.event.content() for each in free):
        return
    if owner.master is not None and owner.master.is_series and not owner.master.organizer:
        done = yield from retry_on_conflict(partial(_decide_series, call, owner, free, numbers))
        if done is not None:
            now = {event_key(new.uid, new.occurrence): new for _, new in done[0].parts}
            for each in free:
                each.event = now.get(event_key(each.event.uid, each.event.occurrence), each.event)
        return
    for each in free:  # people who are invited hear of each by itself
        done = yield from retry_on_conflict(partial(_decide, call, each, numbers))
        if done is not None and done[0].event is not None:
            each.event = done[0].event


def _decide_series(
    call: StepCall, owner: Owner, places: Sequence[NumberedPlace], numbers: list[list[Any]]
) -> Effect | None:
    stored = call.stage.find_event(owner.calendar, places[0].event.uid)
    if stored is None:
        return None
    own = {split_key(event_key(each.uid, each.occurrence))[1]: each for each in stored.others}
    pairs = []
    for each in places:
        now = own.get(each.name) or each.derived
        if now is not None and now.title == each.event.title:  # nobody has named it in this very moment
            pairs.append((now, _changed(each, now)))
    more: dict[str, Any] = {"lineage": owner.lineage.to_mark(), "base": {**to_state(stored.event), NUMBERS: numbers}}
    change = to_occurrences(stored, owner.calendar, pairs, **more)
    if change is None and numbers != owner.base.get(NUMBERS):
        more |= {"stored": stored, "event": stored.event, "after": {}}
        return Effect(verb=_NUMBERED.verb, place=owner.calendar, target=stored.event.uid, **more)
    return change


def _decide(call: StepCall, place: NumberedPlace, numbers: list[list[Any]]) -> Effect | None:
    owner, key = place.owner, event_key(place.event.uid, place.event.occurrence)
    stored = call.stage.find_event(owner.calendar, key)
    if stored is None or stored.event.title != place.event.title:
        return None  # gone, or named by somebody, in this very moment
    new = _changed(place, stored.event)
    more: dict[str, Any] = {"lineage": owner.lineage.to_mark(), "base": {**to_state(new), NUMBERS: numbers}}
    change = to_change(stored, new, owner.calendar, key, number=0, **more)
    if change is None and numbers != owner.base.get(NUMBERS):
        more |= {"stored": stored, "event": new, "after": {}}
        return Effect(verb=_NUMBERED.verb, place=owner.calendar, target=key, **more)
    return change


def _changed(place: NumberedPlace, now: Event | None = None) -> Event:
    """The event with its number; of an occurrence with what its series says now, in all that nobody changed in it since
    it was numbered."""
    event = now or place.event
    event = replace(event, title=place.wanted, sequence=event.sequence + 1)
    series = place.derived
    if series is None or place.name not in place.owner.numbers:
        return event
    base = from_state({name: value for name, value in place.owner.base.items() if name != NUMBERS})
    taken = {
        name: said
        for name in _FOLLOWED
        if (said := getattr(series, name)) != getattr(base, name) == getattr(event, name)
    }
    if event.start == series.start and event.end - event.start == base.end - base.start:
        taken["end"] = series.end
    return replace(event, **taken)


# --- the definition


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
    effects=(EVENT_EFFECTS.change, OCCURRENCE_EFFECT, _NUMBERED),
    check_fields=_check,
    example='number events in domes\n  where    title begins with "Mirror cleaning"\n'
    '  title    "Mirror cleaning {number} of {total}"\n  restart  every year',
    act=_act,
)
