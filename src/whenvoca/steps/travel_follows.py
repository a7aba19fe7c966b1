"""Travel keeps up with its event: moved and deleted with it, by whomever that was; what a hand moved stays, named."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import timedelta
from functools import partial
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.state import from_state, to_state
from whenvoca.calendars.travel import way, with_way
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change, to_deletion
from whenvoca.engine.acting.effect_kind import Following
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.stage import ExistingThing, Missing, Stage
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.town_minutes import minutes_to
from whenvoca.values.towns import town_of

# In the base of a travel event, besides its state: what its event was when it was last followed, its length in seconds,
# whether that is by the sheet of towns, and the event's title and town.
AROUND, LENGTH, BY_TOWNS, TITLE, TOWN = "around", "way-length", "by-towns", "title-of", "town-of"
_NOTES = (AROUND, LENGTH, BY_TOWNS, TITLE, TOWN)
_GONE = "gone"
_TIMES = ("start", "end", "rule", "excluded", "added", "periods")


def remembered(stored: StoredEvent, length: timedelta, *, by_towns: bool) -> dict[str, Any]:
    """What is to be known of the event later on."""
    event = stored.event
    return {
        AROUND: fingerprint(stored),
        LENGTH: round(length.total_seconds()),
        BY_TOWNS: by_towns,
        TITLE: event.title,
        TOWN: town_of(event.location),
    }


def fingerprint(stored: StoredEvent | None) -> str:
    """What of an event its travel depends on."""
    if stored is None:
        return _GONE
    parts = [(e.title, e.location, e.cancelled, *(getattr(e, name) for name in _TIMES)) for e in _all_of(stored)]
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:16]


def _all_of(stored: StoredEvent) -> list[Event]:
    return [stored.event, *(stored.others if stored.event.occurrence is None else ())]


def follow_travel(stage: Stage, calendar: str) -> Iterator[Following]:
    """What of the travel in a calendar has to keep up with its event. Raises PlaceTrouble."""
    for key, ways in stage.travels(calendar).known().items():
        parent = stage.find_event(calendar, key)
        now = fingerprint(parent)
        late = [
            lineage
            for lineage, _ in ways
            if (known := stage.made(calendar, lineage.to_mark())) is not None
            and known.base is not None
            and known.base.get(AROUND) not in (None, now)
            and stage.calendar(calendar).find_event(known.uid) is not None
        ]
        if late:
            label = parent.event.title if parent is not None else _title_of(stage, calendar, late[0])
            yield Following(late[0].workflow, calendar, key, label, partial(_follow, stage, calendar, parent, late))


def _title_of(stage: Stage, calendar: str, lineage: Lineage) -> str:
    known = stage.made(calendar, lineage.to_mark())
    return str((known.base or {}).get(TITLE) or lineage.subject) if known is not None else lineage.subject


def _follow(stage: Stage, calendar: str, parent: StoredEvent | None, ways: list[Lineage]) -> Acting:
    for lineage in sorted(ways, key=lambda each: each.repetition, reverse=True):  # the way out first
        yield from retry_on_conflict(partial(_decide, stage, calendar, parent, lineage))


def _decide(stage: Stage, calendar: str, parent: StoredEvent | None, lineage: Lineage) -> Effect | None:
    made = stage.find_made(calendar, lineage)
    if isinstance(made, Missing) or made.base is None:
        return None
    travel, base = made.stored.event, from_state({k: v for k, v in made.base.items() if k not in _NOTES})
    moved = any(getattr(travel, name) != getattr(base, name) for name in _TIMES)
    notes = {name: made.base[name] for name in _NOTES if name in made.base} | {AROUND: fingerprint(parent)}
    more: dict[str, Any] = {"lineage": lineage.to_mark(), "number": made.number}
    if moved or (parent is None and not made.is_untouched):
        why = "was deleted" if parent is None else "has changed"
        said = f'"{travel.title}", which somebody has changed; its event {why}'
        return _left(calendar, made, {**to_state(base), **notes}, said, more)
    if parent is None:
        return to_deletion(made.stored, calendar, travel.uid, base={**made.base, **notes}, **more)
    new, told = _kept_up(stage, lineage, travel, base, parent, notes)
    known = {**to_state(replace(base, **{name: getattr(new, name) for name in (*_TIMES, "title")})), **notes}
    change = to_change(
        made.stored, replace(new, sequence=travel.sequence + 1), calendar, travel.uid, told, base=known, **more
    )
    return change or _left(calendar, made, known, "", more)


def _kept_up(
    stage: Stage, lineage: Lineage, travel: Event, base: Event, parent: StoredEvent, notes: dict[str, Any]
) -> tuple[Event, list[str]]:
    """The travel as its event is now: its times, its title where it names the event's, its length by the sheet."""
    event, said = parent.event, list[str]()
    length, town = timedelta(seconds=notes[LENGTH]), town_of(event.location)
    if town != notes.get(TOWN):
        found = minutes_to(stage, town) if notes.get(BY_TOWNS) else None
        if found is None:
            said.append(f"it is {event.location or 'nowhere'} now; the length is as it was for {notes.get(TOWN)}")
        else:
            length = found
        notes |= {TOWN: town, LENGTH: round(length.total_seconds())}
    new = with_way(travel, way(event, lineage.repetition, length, parent.others))
    before = str(notes.get(TITLE) or "")
    if before and before != event.title and travel.title == base.title and before in travel.title:
        new = replace(new, title=travel.title.replace(before, event.title))
    notes[TITLE] = event.title
    return new, said


def _left(calendar: str, made: ExistingThing, base: dict[str, Any], said: str, more: dict[str, Any]) -> Effect:
    """An effect that writes nothing: what is known of it from now on, told where it was left as it is."""
    kind = EVENT_EFFECTS.leave if said else EVENT_EFFECTS.take
    return Effect(
        verb=kind.verb,
        place=calendar,
        target=made.stored.event.uid,
        after={},
        stored=made.stored,
        event=made.stored.event,
        notes=(said,) if said else (),
        base=base,
        **more,
    )
