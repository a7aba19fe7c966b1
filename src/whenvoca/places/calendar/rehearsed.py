"""A calendar on which is rehearsed: read for real, its own writes answered first, nothing written."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from whenvoca.calendars.event import Event
from whenvoca.calendars.free_busy import FreeBusy
from whenvoca.calendars.patch import has_event
from whenvoca.calendars.reader import Noun, read_events
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import split_key
from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.place_protocols import Calendar, CalendarChanges, Resource, StoredEvent
from whenvoca.errors import PlaceTrouble, WhenvocaError
from whenvoca.language.definitions import PlaceInfo
from whenvoca.places.calendar.ics_effects import already_done, carry_out, moved_on, to_stored


class RehearsedCalendar(Calendar):
    """What would stand: the pieces rehearsed over, by UID, None where one would be gone; the rest as it is."""

    def __init__(self, real: Calendar) -> None:
        self._real = real
        self.name, self.kind, self.zone, self.clash = real.name, real.kind, real.zone, real.clash
        self.address, self.invite, self.clash_rule = real.address, real.invite, real.clash_rule
        self._over: dict[str, bytes | None] = {}
        self._parsed: dict[str, list[Event]] = {}
        self._marks: dict[str, str] = {}  # UIDs by mark
        self._versions: dict[str, str] = {}

    @property
    def unread(self) -> Sequence[str]:  # type: ignore[override]
        """What the last look of the real one found that cannot be used."""
        return self._real.unread

    def holds(self) -> str:
        return self._real.holds()

    def info(self) -> PlaceInfo:
        return self._real.info()

    def _events(self) -> Iterator[Event]:
        for uid, events in self._parsed.items():
            if self._over[uid] is not None:
                yield from events

    def find_event(self, uid: str) -> StoredEvent | None:
        if uid not in self._over:
            return self._real.find_event(uid)
        data = self._over[uid]
        if data is None:
            return None
        return to_stored(self._parsed[uid], uid, self._versions[uid], self.address_of(uid), data)

    def text_of(self, uid: str) -> bytes:
        return self._over[uid] or b"" if uid in self._over else self._real.text_of(uid)

    def find_marked(self, mark: str) -> StoredEvent | None:
        if mark in self._marks and (stored := self.find_event(self._marks[mark])) is not None:
            return stored
        found = self._real.find_marked(mark)
        return None if found is None or found.event.uid in self._over else found

    def find_between(self, low: datetime, high: datetime) -> list[Event]:
        others = [event for event in self._real.find_between(low, high) if event.uid not in self._over]
        mine = expand_events(self._events(), low, high, self.zone)
        return sorted([*others, *mine], key=lambda event: event.span(self.zone)[0])

    def all_events(self) -> list[Event]:
        return [*(event for event in self._real.all_events() if event.uid not in self._over), *self._events()]

    def find_marks(self, prefix: str) -> dict[str, str]:
        found = {mark: uid for mark, uid in self._real.find_marks(prefix).items() if uid not in self._over}
        return found | {event.origin: event.uid for event in self._events() if event.origin.startswith(prefix)}

    def busy_times(self, low: datetime, high: datetime) -> FreeBusy:
        return super().busy_times(low, high) if self._over else self._real.busy_times(low, high)

    def busy_times_of(self, address: str, low: datetime, high: datetime) -> FreeBusy:
        return self._real.busy_times_of(address, low, high)

    def address_of(self, uid: str) -> str:
        return self._real.address_of(uid)

    def look(self, known: Mapping[str, Resource], cursor: str) -> CalendarChanges:
        look = self._real.look(known, cursor)
        look.changed = {name: each for name, each in look.changed.items() if each[0].uid not in self._over}
        look.gone = [name for name in look.gone if known[name].uid not in self._over]
        return look

    def resource_of(self, uid: str, version: str) -> tuple[str, Resource] | None:
        found = self._real.resource_of(uid, version)
        if self._over.get(uid) is None:
            return None
        return (found[0] if found else f"rehearsed {uid}", Resource(uid, version))

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Remembers what would be written."""
        return [self._apply_one(effect, stamp) for effect in effects]

    def _apply_one(self, effect: Effect, stamp: datetime) -> Receipt | WhenvocaError:
        uid, _ = split_key(effect.target)
        stored = self.find_event(uid)
        if effect.action == "take":
            return Receipt(stored.version if stored else "", self.address_of(uid))
        if effect.action == "create":
            if stored is not None:
                return PlaceTrouble("stands there already and is not ours", where=f"{self.name}, {uid}")
            assert effect.event is not None
            return self._put(uid, write_calendar(effect.event, stamp), [effect.event])
        data = stored.data if stored is not None else b""
        done = already_done(data, effect, self.zone)
        if done == "moved" or (not done and effect.stored and stored and effect.stored.version != stored.version):
            return moved_on(effect, self.name)
        return self._put(
            uid,
            data if done else carry_out(data, effect, stamp, self.zone),
            noun="task" if effect.noun == "task" else "event",
        )

    def _put(self, uid: str, data: bytes, events: list[Event] | None = None, noun: Noun = "event") -> Receipt:
        self._over[uid] = data if events or (data and has_event(data, uid)) else None
        self._parsed[uid] = events or (read_events(data, self.zone, noun=noun) if self._over[uid] else [])
        self._marks |= {event.origin: uid for event in self._parsed[uid] if event.origin}
        self._versions[uid] = f"rehearsed {len(self._versions)} {len(data)}"
        return Receipt(self._versions[uid], self.address_of(uid))
