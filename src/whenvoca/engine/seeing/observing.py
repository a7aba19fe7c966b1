"""Seeing: what changed at a place since it was last looked at, and which workflows that is an occurrence for."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key, to_state
from whenvoca.engine.acting.program import Program
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.protocol import Ledger, Observation, Occurrence, StateChange
from whenvoca.engine.place_protocols import (
    CalendarChanges,
    CalendarFace,
    ChatFace,
    Heard,
    Resource,
    RowState,
    SheetFace,
)
from whenvoca.engine.row_hashes import RowHashes
from whenvoca.engine.seeing.rekeying import follow_keys
from whenvoca.engine.seeing.sources import Source
from whenvoca.engine.seeing.starts import TakenUp
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Scope
from whenvoca.language.inference import fold_name

KEPT = timedelta(days=90)  # so long messages are remembered
LONGEST_TEXT = 10_000  # signs of a message that are kept


class Noticed(Struct):
    """What a look at a place brought: subjects that cannot be taken up, and rows that wait for their key."""

    faults: list[str] = field(default_factory=list)
    waits: list[str] = field(default_factory=list)


# --- sheets


def observe_sheet(ledger: Ledger, sheet: SheetFace, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
    """Enters what changed at the sheet into the observation log; a file that stands as it was is not read at all."""
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


def observe_calendar(ledger: Ledger, calendar: CalendarFace, at: datetime) -> Noticed:
    """Enters what changed at the calendar into the observation log; only pieces whose version changed are read.

    A look that brings very much comes in parts, each noted before the next, so that memory stays flat.
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
    ledger: Ledger, calendar: CalendarFace, look: CalendarChanges, known: Mapping[str, Resource], at: datetime
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


def state_changes(ledger: Ledger, calendar: CalendarFace, uid: str, events: Sequence[Event]) -> list[StateChange]:
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


def observe_chat(ledger: Ledger, chat: ChatFace, at: datetime) -> Noticed:
    """Enters what was said in a chat into the observation log; what is old is forgotten."""
    cursor = ledger.cursor(chat.name)
    heard, following = chat.heard(cursor, at)
    known = ledger.standing(chat.name, [each.key for each in heard])
    heard = [each for each in heard if each.key not in known]
    if heard or following != cursor:
        ledger.observe(chat.name, [StateChange(each.key, _said(each)) for each in heard], following, at.isoformat())
        ledger.forget_messages(chat.name, (at - KEPT).isoformat())
    return Noticed()


def _said(message: Heard) -> dict[str, Any]:
    found = {
        "sender": message.sender,
        "room": message.room,
        "text": message.text[:LONGEST_TEXT],
        "sent": message.sent,
        "sound": message.sound,
        "names": ", ".join(message.names),
    }
    return {name: value for name, value in found.items() if value}


# --- what is an occurrence


def take_up(
    ledger: Ledger,
    program: Program,
    source: Source,
    now: datetime,
    zone: ZoneInfo,
    written: Sequence[str] = (),
    made: Callable[[], Mapping[str, str]] = dict,
) -> TakenUp:
    """Finds the occurrences of a workflow among what it has not looked at yet, and moves its reader on.

    ``written`` are the columns that the workflow writes: they make no row changed. ``made`` tells what a mirror has
    made, by subject: it is asked where the workflow looks for the first time, or is not what it was.
    """
    identity, trigger = program.workflow.identity, program.workflow.trigger
    assert trigger is not None
    reader = ledger.reader(identity, source.name)
    last = ledger.last_sequence(source.name)
    tell = _Telling(program, source, now, zone, {fold_name(word) for word in written})
    signature = _signature(program) if tell.is_mirror else ""
    taken = TakenUp()
    if reader is not None and reader.sequence >= last and reader.signature == signature:
        return taken
    source.prepare()
    with ledger.transaction():
        found: Iterator[Occurrence]
        if reader is None:
            existing = trigger.definition.existing_by_default if trigger.existing is None else trigger.existing
            found = tell.of_standing(ledger, set(made())) if existing or tell.is_mirror else iter(())
        elif reader.signature != signature:
            found = tell.of_standing(ledger, set(made()))
        else:
            found = tell.of_observations(ledger, reader.sequence, taken)
        is_other = reader is not None and reader.signature != signature
        taken.new = ledger.add_occurrences(found, once=tell.is_by_subject, revive=is_other)
        ledger.set_reader(identity, source.name, last, signature)
    return taken


def _signature(program: Program) -> str:
    """What a mirror is: another one looks at all its subjects anew."""
    return hashlib.sha256(program.workflow.text.encode()).hexdigest()[:16]


class _Telling:
    """Tells what an observation is for one workflow."""

    def __init__(self, program: Program, source: Source, now: datetime, zone: ZoneInfo, written: set[str]) -> None:
        trigger = program.workflow.trigger
        assert trigger is not None
        self._identity = program.workflow.identity
        self._happenings = trigger.happenings
        self._fields = {fold_name(each.word) for each in trigger.fields}
        self._written = written
        self._where = program.where
        self._source = source
        self._word = trigger.definition.subject
        self._now, self._zone, self._at = now, zone, now.isoformat()
        self.is_mirror = program.is_mirror
        self.is_by_subject = trigger.is_set or program.is_mirror

    def is_in(self, subject: str, state: RowState | None, *, doubtful: bool = True) -> bool:
        """Whether it is in the set; ``doubtful`` where a cell gives no answer, so that its run tells why."""
        if state is None:
            return False
        try:
            return self._where(Scope(self._source.thing(subject, state), self._word, self._now, self._zone))
        except RowFault:
            return doubtful

    def of_standing(self, ledger: Ledger, made: set[str]) -> Iterator[Occurrence]:
        """What was there before the workflow's first run; for a mirror also what it made of subjects that are gone."""
        for subject, sequence in ledger.standing_sequences(self._source.name):
            state = self._source.current(subject)
            if self.is_in(subject, state):
                made.discard(subject)
                if "gained" in self._happenings:
                    yield self._occurrence(subject, sequence, "gained", state)
        for subject in sorted(made):
            yield self._occurrence(subject, ledger.last_sequence(self._source.name), "orphaned", None)

    def of_observations(self, ledger: Ledger, reader: int, taken: TakenUp) -> Iterator[Occurrence]:
        """What happened since the workflow last looked."""
        failed = ledger.failed_writes(self._identity)
        for seen in ledger.observations(self._source.name, reader, but_by=self._identity):
            happened = self._what_happened(seen, failed.get(seen.subject))
            if happened not in self._happenings:
                continue
            chain = (*seen.chain, seen.cause_workflow) if seen.cause_workflow else ()
            if self._identity in chain:
                said = " → ".join([*chain[chain.index(self._identity) :], self._identity])
                label = self._source.label(seen.subject, seen.new or seen.old)
                taken.circles.append(f"{label}: {said} would go round without end; stopped here")
                continue
            yield self._occurrence(seen.subject, seen.sequence, happened, seen.new or seen.old, chain)

    def _occurrence(
        self, subject: str, sequence: int, happened: str, state: RowState | None, chain: tuple[str, ...] = ()
    ) -> Occurrence:
        return Occurrence(
            self._identity,
            self._source.name,
            subject,
            sequence,
            self._at,
            happened,
            chain,
            label=self._source.label(subject, state),
        )

    def _what_happened(self, seen: Observation, failed: list[Effect] | None) -> str:
        """Whether the subject came into the set, changed in it or left it; after a failed run, whether a person
        corrected it: what that run wrote does not count."""
        old, new = seen.old, seen.new
        if failed is not None:
            old = None if old is None else self._source.unwritten(old, failed)
            new = None if new is None else self._source.unwritten(new, failed)
        is_in = self.is_in(seen.subject, new)
        was_in = self.is_in(seen.subject, old, doubtful=False)
        if failed is not None and is_in:
            return "gained" if "gained" in self._happenings else "changed"
        if is_in and was_in:
            assert old is not None
            assert new is not None
            return "changed" if self._counts(old, new) else ""
        return "gained" if is_in else "lost" if was_in else ""

    def _counts(self, old: RowState, new: RowState) -> bool:
        """Whether a change counts: in a field that `fields` names, else in any that the workflow does not write
        itself."""
        if "changed" not in self._happenings:
            return False
        fields = {fold_name(change.word) for change in self._source.changes(old, new)}
        return bool(fields & self._fields if self._fields else fields - self._written)
