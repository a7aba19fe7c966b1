"""One .ics file holding a whole calendar. What does not change in it stays byte for byte."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from whenvoca.calendars.components import list_components
from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import add_events, extract_event
from whenvoca.calendars.reader import Reading, read_calendar, refuse_cut
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import split_key
from whenvoca.calendars.writer import empty_calendar
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.place_protocols import CalendarChanges, Resource, StoredEvent
from whenvoca.errors import RowFault, SourceFault, WhenvocaError
from whenvoca.places import files
from whenvoca.places.calendar.ics_effects import (
    already_done,
    carry_out,
    is_on_its_version,
    moved_on,
    refuse_unread,
    to_stored,
    with_line_ends_of,
)
from whenvoca.places.calendar.local import LocalCalendar


class FileCalendar(LocalCalendar):
    """A calendar that is one file; it is made when the first event is written."""

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, **more)
        self._digest = ""
        self._data = b""
        self._events: list[Event] = []
        self._reading = Reading([])
        self._by_uid: dict[str, list[Event]] = {}
        self._versions: dict[str, str] = {}

    # --- looking

    def _count(self) -> int:
        return len({event.uid for event in self._load()})

    def _check(self) -> None:
        self._read()

    def _read(self) -> bytes:
        """The file's text, checked to be whole; an empty calendar while there is none."""
        if not self._path.exists():
            return empty_calendar()
        data = files.read_file(self._path)
        if not data.strip():
            raise SourceFault(
                "is empty and no iCalendar file", where=self.address, fix="take it away, a new one is made"
            )
        refuse_cut(data, self.address)
        return data

    def _load(self) -> list[Event]:
        data = self._read()
        digest = files.hash_bytes(data)
        if digest != self._digest:
            self._reading = read_calendar(data, self.zone, file=self.address)
            self._events = self._reading.events
            self._digest, self._data = digest, data
            self._versions = _versions(data)
            self._by_uid = {}
            for event in self._events:
                self._by_uid.setdefault(event.uid, []).append(event)
        self.unread = [each.said(self.address) for each in self._reading.unread]
        return self._events

    def find_event(self, uid: str) -> StoredEvent | None:
        self._load()
        mine = self._by_uid.get(uid, [])
        refuse_unread(self._reading, uid, self.address)
        if not mine:
            return None
        return to_stored(mine, uid, self._versions[uid], self.address_of(uid), extract_event(self._data, uid))

    def text_of(self, uid: str) -> bytes:
        return self._read()

    def find_marked(self, mark: str) -> StoredEvent | None:
        found = next((event for event in self._load() if event.origin == mark and event.occurrence is None), None)
        return self.find_event(found.uid) if found else None

    def find_between(self, low: datetime, high: datetime) -> list[Event]:
        left_out: dict[str, str] = {}
        found = expand_events(self._load(), low, high, self.zone, left_out)
        self.unread = [*self.unread, *(f"{self.address}: {said}" for said in left_out.values())]
        return found

    def all_events(self) -> list[Event]:
        return self._load()

    def find_marks(self, prefix: str) -> dict[str, str]:
        components = list_components(self._read())
        return {each.origin: each.uid for each in components if each.origin and each.origin.startswith(prefix)}

    def address_of(self, uid: str) -> str:
        return self._path.absolute().as_uri()

    def look(self, known: Mapping[str, Resource], cursor: str) -> CalendarChanges:
        """The events whose components changed; the cursor is the file's hash."""
        look = CalendarChanges(cursor=cursor)
        if self._path.exists():
            files.wait_settled(self._path, self._clock.wall_seconds, self._clock.wait)
        self._load()
        look.cursor = self._digest
        if self._digest == cursor:
            return look
        look.faults += self.unread
        closed = {each.uid for each in self._reading.unread} - self._by_uid.keys()
        for uid, version in self._versions.items():
            if uid not in closed and ((before := known.get(uid)) is None or before.version != version):
                look.changed[uid] = (Resource(uid, version), self._by_uid.get(uid, []))
        look.gone = [name for name in known if name not in self._versions]
        return look

    def resource_of(self, uid: str, version: str) -> tuple[str, Resource] | None:
        """The components of the event, which we have just written."""
        return (uid, Resource(uid, version)) if version else None

    # --- writing

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Writes a group with one replacement of the file. The version of an event is the hash of its components."""
        before = data = self._read()
        components = {each.uid: each for each in list_components(data) if each.name == "VEVENT"}
        versions = _versions(data)
        errors: dict[int, WhenvocaError] = {}
        fresh: list[Event] = []
        for index, effect in enumerate(effects):
            if effect.action == "create":
                assert effect.event is not None
                standing = components.get(effect.target)
                if standing is None:
                    fresh.append(effect.event)
                elif standing.origin != effect.lineage:
                    errors[index] = RowFault(
                        "an event of that UID stands there already and is not ours", where=self.address
                    )
            elif effect.action != "take":
                uid, _ = split_key(effect.target)
                done = already_done(data, effect, self.zone)
                if done == "moved" or (not done and not is_on_its_version(effect, versions.get(uid, ""))):
                    errors[index] = moved_on(effect, self.address)
                elif not done:
                    data = carry_out(data, effect, stamp, self.zone)
                    versions[uid] = _version_of(data, uid)
        if fresh:
            data = with_line_ends_of(data, add_events(data, fresh, stamp))
        if data != before:
            with files.telling_trouble(self._path, "made"):
                self._path.parent.mkdir(parents=True, exist_ok=True)
            files.replace_file(self._path, data)
        versions |= {event.uid: _version_of(data, event.uid) for event in fresh}
        address = self._path.absolute().as_uri()
        return [
            errors.get(index) or Receipt(versions.get(split_key(effect.target)[0], ""), address)
            for index, effect in enumerate(effects)
        ]


def _version_of(data: bytes, uid: str) -> str:
    mine = [data[each.begin : each.end] for each in list_components(data) if each.name == "VEVENT" and each.uid == uid]
    return files.hash_bytes(b"".join(mine)) if mine else ""


def _versions(data: bytes) -> dict[str, str]:
    """The version of each event: the hash of all components of its UID."""
    texts: dict[str, bytes] = {}
    for each in list_components(data):
        if each.name == "VEVENT":
            texts[each.uid] = texts.get(each.uid, b"") + data[each.begin : each.end]
    return {uid: files.hash_bytes(text) for uid, text in texts.items()}
