"""What every calendar of iCalendar text does with an effect: put it into the text, and see if it is there."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Literal
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.moved_occurrences import with_moved_occurrences
from whenvoca.calendars.own_occurrences import change_occurrences, without_idle
from whenvoca.calendars.patch import (
    change_event,
    extract_event,
    has_event,
    put_back,
    remove_event,
    remove_occurrence,
    without_events,
)
from whenvoca.calendars.reader import Noun, Reading, read_events
from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key, split_key
from whenvoca.engine.effects import Effect
from whenvoca.engine.place_protocols import MovedOn, StoredEvent
from whenvoca.errors import SourceFault


def to_stored(events: Sequence[Event], uid: str, version: str, address: str, data: bytes) -> StoredEvent | None:
    """The standing event of that UID among these, with its changed occurrences."""
    mine = [event for event in events if event.uid == uid and not event.cancelled]
    master = next((event for event in mine if event.occurrence is None), None)
    if master is None:
        return None
    others = tuple(event for event in mine if event.occurrence is not None)
    return StoredEvent(master, version, address, data, others)


def refuse_unread(reading: Reading, uid: str, file: str) -> None:
    """Raises SourceFault where the event of that UID stands and cannot be used: it must not count as gone; and where
    several have that UID, so that nobody can say which one is meant."""
    if uid in reading.twins:
        raise refusal_of_twins(uid, file)
    for each in reading.unread:
        if each.uid == uid:
            raise SourceFault(each.said(file))


def refusal_of_twins(uid: str, *where: str) -> SourceFault:
    """The fault of a change to one of several events that have one UID."""
    return SourceFault(
        f'several events have the UID "{uid}", so it cannot be said which one is meant',
        where=" and ".join(where),
        fix="give each its own UID there",
    )


def carry_out(data: bytes, effect: Effect, stamp: datetime, zone: ZoneInfo) -> bytes:
    """The text with the effect in it; without any VEVENT of its UID where the event goes whole.

    ``zone`` is meant where a time carries none. Raises ValueError for an action that calendars do not know.
    """
    return with_line_ends_of(data, _carry_out(data, effect, stamp, zone))


def with_line_ends_of(data: bytes, changed: bytes) -> bytes:
    """The changed text with the line ends of before: what had bare line feeds keeps them."""
    return changed if not data or b"\r\n" in data else changed.replace(b"\r\n", b"\n")


def _carry_out(data: bytes, effect: Effect, stamp: datetime, zone: ZoneInfo) -> bytes:
    uid, occurrence = split_key(effect.target)
    match effect.action:
        case "change" if effect.noun == "occurrences":
            return change_occurrences(data, effect.stored.event, effect.parts, stamp, zone)
        case "change":
            assert effect.event is not None
            with_answers = "answers" in (effect.after or {})
            changed = change_event(data, effect.stored.event, effect.event, stamp, zone, with_answers=with_answers)
            if occurrence:
                return without_idle(changed, effect.event, zone)
            return with_moved_occurrences(changed, effect.stored.event, effect.event, zone)
        case "delete":
            return remove_occurrence(data, effect.stored.event, stamp, zone) if occurrence else remove_event(data, uid)
        case "put back":
            kept = effect.kept.encode()
            return put_back(data or without_events(kept), kept, effect.target, zone)
    raise ValueError(effect.verb)


def already_done(data: bytes, effect: Effect, zone: ZoneInfo) -> Literal["", "done", "moved"]:
    """Whether the effect stands already, as after a crash; or its event has gone, so that it cannot be carried out."""
    uid, occurrence = split_key(effect.target)
    stands = bool(data) and has_event(data, uid)
    deed = effect.action
    if deed == "delete" and not occurrence:
        return "" if stands else "done"
    if deed == "put back" and not occurrence:
        return "moved" if stands else ""
    if not stands:
        return "moved"
    if effect.noun == "occurrences":
        return ""  # what is done of them is not asked for again
    noun: Noun = "task" if effect.noun == "task" else "event"
    now = _event_at(
        read_events(extract_event(data, uid), zone, noun=noun),
        effect.target,
        effect.stored.event if effect.stored else None,
        zone,
    )
    if deed == "delete":
        return "" if now is not None else "done"
    if deed == "change" and effect.event is not None and now is not None:
        wanted = {name: value for name, (_, value) in changed_fields(now, effect.event, with_answers=True).items()}
        return "done" if not set(wanted) & set(effect.after or {}) and now.sequence >= effect.event.sequence else ""
    return ""


def _event_at(events: Sequence[Event], key: str, asked: Event | None, zone: ZoneInfo) -> Event | None:
    for event in events:
        if event_key(event.uid, event.occurrence) == key:
            return event
    uid = split_key(key)[0]  # a file may hold other series too
    master = next((event for event in events if event.occurrence is None and event.uid == uid), None)
    if master is None or asked is None or asked.occurrence is None:
        return None
    return occurrence_at(master, asked.occurrence, zone)


def is_on_its_version(effect: Effect, version: str) -> bool:
    """Whether what stands has the version that the effect was decided on; an occurrence is put back into any."""
    if effect.action == "put back" and split_key(effect.target)[1]:
        return True
    return version == (effect.stored.version if effect.stored else "")


def moved_on(effect: Effect, where: str) -> MovedOn:
    """The fault of an effect whose thing is no longer what it was decided on."""
    title = effect.stored.event.title if effect.stored else effect.target
    return MovedOn(f'"{title}" was changed by another hand meanwhile', where=where)
