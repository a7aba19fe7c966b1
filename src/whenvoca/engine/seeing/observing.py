"""Observing: what changed at a place since it was last looked at enters its log."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key, to_state
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import StateChange
from whenvoca.engine.message_protocols import Chat, Heard
from whenvoca.engine.place_protocols import Calendar, CalendarChanges, Noticed, Resource, RowState, Sheet
from whenvoca.engine.row_hashes import RowHashes
from whenvoca.engine.seeing.rekeying import follow_keys

KEPT = timedelta(days=90)  # so long messages are remembered
LONGEST_TEXT = 10_000  # signs of a message that are kept


# --- sheets


def observe_sheet(ledger: Ledger, sheet: Sheet, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
    """Enters what changed at the sheet into the observation log; a file that stands as it was is not read at all.

    Raises PlaceTrouble where the file cannot be read, SourceFault where it cannot be understood.
    """
    digest = sheet.digest()
    cursor = _read_cursor(ledger.cursor(sheet.name))
    if cursor.get("digest") == digest and cursor.get("signature") == sheet.signature:
        return Noticed(cursor.get("faults", []), cursor.get("waits", []))
    if digest and cursor and cursor.get("signature") != sheet.signature:
        follow_keys(ledger, sheet)
    known = ledger.standing(sheet.name)
    prints = ledger.prints(sheet.name) if digest else RowHashes()
    sight = Noticed()
    changes: list[StateChange] = []
    for row in sheet.scan(known, prints) if digest else ():
        if row.waits:
            sight.waits.append(row.waits)
        elif row.fault:
            sight.faults.append(row.fault)
        elif not known.is_same(row.key, row.state):
            changes.append(StateChange(row.key, row.state))
    printed = prints.keys()  # nearly always all that stood
    stood = printed if len(printed) == len(known) else known
    found = sheet.found if digest else frozenset()
    changes += [StateChange(key, None) for key in stood if key not in found]
    text = json.dumps({"digest": digest, "signature": sheet.signature, "faults": sight.faults, "waits": sight.waits})
    ledger.observe(sheet.name, changes, text, at.isoformat(), cause or 0, sheet.prints if digest else RowHashes())
    return sight


def _read_cursor(text: str) -> dict[str, Any]:  # what observe_sheet wrote
    found: dict[str, Any] = json.loads(text) if text else {}
    return found


def moved_cursor(cursor: str, digest: str) -> str:
    """The cursor of a sheet after a write of our own gave its file a new hash."""
    return json.dumps({**_read_cursor(cursor), "digest": digest})


# --- calendars


def observe_calendar(ledger: Ledger, calendar: Calendar, at: datetime) -> Noticed:
    """Enters what changed at the calendar into the observation log; only pieces whose version changed are read.

    A look that brings very much comes in parts, each noted before the next, so that memory stays flat.
    Raises PlaceTrouble where it cannot be reached.
    """
    sight = Noticed()
    known = ledger.resources(calendar.name)
    while True:
        look = calendar.look(known, ledger.cursor(calendar.name))
        _note_look(ledger, calendar, look, known, at)
        sight.faults += [f"{calendar.name}: {fault}" for fault in look.faults]
        if not look.is_partial:
            return sight
        known |= {name: resource for name, (resource, _) in look.changed.items()}


def _note_look(
    ledger: Ledger, calendar: Calendar, look: CalendarChanges, known: Mapping[str, Resource], at: datetime
) -> None:
    changes: list[StateChange] = []
    standing = {resource.uid for resource, _ in look.changed.values()}
    left = [known[name].uid for name in look.gone]
    left += [
        known[name].uid
        for name, (resource, _) in look.changed.items()
        if name in known and known[name].uid != resource.uid
    ]
    with ledger.transaction():
        for uid in dict.fromkeys(left):
            if uid and uid not in standing:  # it may have gone into another piece
                changes += state_changes(ledger, calendar, uid, [])
        for resource, events in look.changed.values():
            if resource.uid:
                changes += state_changes(ledger, calendar, resource.uid, events)
        ledger.observe(calendar.name, changes, look.cursor, at.isoformat())
        fresh = {name: resource for name, (resource, _) in look.changed.items()} | look.stamped
        ledger.keep_resources(calendar.name, fresh, look.gone)


def state_changes(ledger: Ledger, calendar: Calendar, uid: str, events: Sequence[Event]) -> list[StateChange]:
    """What changed among the components of a UID: masters, changed occurrences, and occurrences taken out of a series.

    An occurrence of a series that is changed or taken out for the first time changes from what its series gave.
    """
    before = ledger.standing_of_uid(calendar.name, uid)
    after = {event_key(event.uid, event.occurrence): to_state(event) for event in events if not event.cancelled}
    old_master = ledger.master_of(calendar.name, uid)
    found: list[StateChange] = []
    for key, state in after.items():
        if before.get(key) == state:
            continue
        given: RowState | None = None
        if key != uid and key not in before and old_master is not None:
            event = next(each for each in events if event_key(each.uid, each.occurrence) == key)
            assert event.occurrence is not None
            original = occurrence_at(old_master, event.occurrence, calendar.zone)
            given = to_state(original) if original else None
        found.append(StateChange(key, state, given))
    master = next((event for event in events if event.occurrence is None and not event.cancelled), None)
    for key, last in before.items():
        if key in after:
            continue
        given = _given(master, last, calendar.zone) if key != uid else None
        if given is not None and given != last:
            found.append(StateChange(key, given))  # one of its series again: changed back to what that gives
        found.append(StateChange(key, None, is_quiet=given is not None))
    if old_master is not None and master is not None and old_master.excluded != master.excluded:
        out = [each for each in master.excluded if each not in old_master.excluded]
        for moment in out:
            key = event_key(uid, moment)
            original = occurrence_at(old_master, moment, calendar.zone)
            if key not in before and original is not None:
                found.append(StateChange(key, None, to_state(original)))
    return found


def _given(master: Event | None, state: RowState, zone: ZoneInfo) -> RowState | None:
    """What the series gives in the place of a changed occurrence; None where it gives none there (any more)."""
    occurrence: Any = state.get("occurrence")
    given = occurrence_at(master, occurrence, zone) if master is not None and occurrence is not None else None
    return to_state(given) if given is not None else None


# --- chats


def observe_chat(ledger: Ledger, chat: Chat, at: datetime) -> Noticed:
    """Enters what was said in a chat into the observation log; what is old is forgotten.

    Raises PlaceTrouble where it cannot be reached.
    """
    cursor = ledger.cursor(chat.name)
    heard, following = chat.heard(cursor, at)
    known = ledger.standing(chat.name, [each.key for each in heard])
    heard = [each for each in heard if each.key not in known]
    if heard or following != cursor:
        ledger.observe(chat.name, [StateChange(each.key, _said(each)) for each in heard], following, at.isoformat())
        ledger.forget_messages(chat.name, (at - KEPT).isoformat())
    return Noticed(faults=list(chat.unheard))


def _said(message: Heard) -> dict[str, Any]:
    found = {
        "sender": message.sender,
        "room": message.room,
        "text": message.text[:LONGEST_TEXT],
        "sent": message.sent,
        "sound": message.sound,
        "names": ", ".join(message.names),
        "number": message.number,
        "corrects": message.corrects,
    }
    return {name: value for name, value in found.items() if value}
