"""Seeing: what changed at a sheet since it was last looked at, and which workflows that is an occurrence for."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect
from whenvoca.engine.faces import RowState, SheetFace
from whenvoca.engine.ledger import Ledger, Observation, Occurrence
from whenvoca.engine.program import Program
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Scope


@dataclass(slots=True)
class Sight:
    """What a look at a sheet brought: rows that cannot be taken up, and rows that wait for their key."""

    faults: list[str] = field(default_factory=list)
    waits: list[str] = field(default_factory=list)


def observe_sheet(ledger: Ledger, sheet: SheetFace, at: datetime, cause: Mapping[str, int] | None = None) -> Sight:
    """Enters what changed at the sheet into the observation log; a file that stands as it was is not read at all."""
    digest = sheet.digest()
    cursor = _read_cursor(ledger.cursor(sheet.name))
    if cursor.get("digest") == digest and cursor.get("signature") == sheet.signature:
        return Sight(cursor.get("faults", []), cursor.get("waits", []))
    known = ledger.standing(sheet.name)
    sight = Sight()
    seen: set[str] = set()
    changes: list[tuple[str, RowState | None]] = []
    for row in sheet.scan(known) if digest else ():
        if row.waits:
            sight.waits.append(row.waits)
            continue
        seen.add(row.key)
        if row.fault:
            sight.faults.append(row.fault)
        elif known.get(row.key) != row.state:
            changes.append((row.key, row.state))
    changes += [(key, None) for key in known if key not in seen]
    text = json.dumps({"digest": digest, "signature": sheet.signature, "faults": sight.faults, "waits": sight.waits})
    ledger.observe(sheet.name, changes, text, at.isoformat(), cause or 0)
    return sight


def _read_cursor(text: str) -> dict[str, Any]:  # what observe_sheet wrote
    found: dict[str, Any] = json.loads(text) if text else {}
    return found


def moved_cursor(cursor: str, digest: str) -> str:
    """The cursor of a sheet after a write of our own gave its file a new hash."""
    return json.dumps({**_read_cursor(cursor), "digest": digest})


@dataclass(slots=True)
class TakenUp:
    """What a workflow takes up: how many new occurrences, and circles that were stopped."""

    new: int = 0
    circles: list[str] = field(default_factory=list)


def take_up(ledger: Ledger, program: Program, sheet: SheetFace, now: datetime, zone: ZoneInfo) -> TakenUp:
    """Finds the occurrences of a workflow among what it has not looked at yet, and moves its reader on."""
    identity = program.workflow.identity
    trigger = program.workflow.trigger
    assert trigger is not None
    reader = ledger.reader(identity, sheet.name)
    last = ledger.last_sequence(sheet.name)
    taken = TakenUp()
    if reader is not None and reader >= last:
        return taken
    with ledger.transaction():
        if reader is None:
            existing = trigger.definition.existing_by_default if trigger.existing is None else trigger.existing
            found = _of_standing(ledger, program, sheet, now, zone) if existing else iter(())
        else:
            found = _of_observations(ledger, program, sheet, now, zone, reader, taken)
        taken.new = ledger.add_occurrences(found)
        ledger.set_reader(identity, sheet.name, last)
    return taken


def _occurrence(program: Program, sheet: SheetFace, subject: str, sequence: int, now: datetime) -> Occurrence:
    return Occurrence(
        program.workflow.identity, sheet.name, subject, sequence, now.isoformat(), label=sheet.label(subject)
    )


def _of_standing(
    ledger: Ledger, program: Program, sheet: SheetFace, now: datetime, zone: ZoneInfo
) -> Iterator[Occurrence]:
    """What was there before the workflow's first run counts as gained."""
    tell = _Membership(program, sheet, now, zone)
    if not sheet.is_scanned:
        sheet.scan(ledger.standing(sheet.name))
    for subject, sequence in ledger.standing_sequences(sheet.name):
        state = sheet.current(subject)
        if state is not None and tell.is_in(subject, state):
            yield _occurrence(program, sheet, subject, sequence, now)


def _of_observations(
    ledger: Ledger, program: Program, sheet: SheetFace, now: datetime, zone: ZoneInfo, reader: int, taken: TakenUp
) -> Iterator[Occurrence]:
    identity = program.workflow.identity
    failed = ledger.failed_writes(identity)
    tell = _Membership(program, sheet, now, zone)
    for seen in ledger.observations(sheet.name, reader, but_by=identity):
        if seen.new is None:
            continue
        if not _is_gained(seen, failed.get(seen.subject), tell):
            continue
        chain = (*seen.chain, seen.cause_workflow) if seen.cause_workflow else ()
        if identity in chain:
            said = " → ".join([*chain[chain.index(identity) :], identity])
            taken.circles.append(f"{sheet.label(seen.subject)}: {said} would go round without end; stopped here")
            continue
        yield replace(_occurrence(program, sheet, seen.subject, seen.sequence, now), chain=chain)


def _is_gained(seen: Observation, failed: list[Effect] | None, tell: _Membership) -> bool:
    """Whether the subject came into the set; after a failed run, whether a person changed it and it is in the set."""
    assert seen.new is not None
    if failed is not None:
        return tell.is_in(seen.subject, tell.unwritten(seen.new, failed))
    if not tell.is_in(seen.subject, seen.new):
        return False
    return seen.old is None or not tell.is_in(seen.subject, seen.old, doubtful=False)


class _Membership:
    """Tells whether a row in some state is in a workflow's `where`."""

    def __init__(self, program: Program, sheet: SheetFace, now: datetime, zone: ZoneInfo) -> None:
        assert program.workflow.trigger is not None
        self._where = program.where
        self._sheet = sheet
        self._word = program.workflow.trigger.definition.subject
        self._now, self._zone = now, zone

    def is_in(self, subject: str, state: RowState, *, doubtful: bool = True) -> bool:
        """Whether it is in the set; ``doubtful`` where a cell gives no answer, so that its run tells why."""
        try:
            return self._where(Scope(self._sheet.row(subject, state), self._word, self._now, self._zone))
        except RowFault:
            return doubtful

    def unwritten(self, state: RowState, effects: list[Effect]) -> RowState:
        """The state without what a failed run wrote."""
        return unwritten(state, effects, self._sheet)


def unwritten(state: RowState, effects: list[Effect], sheet: SheetFace) -> RowState:
    """The state as it would be without these writes, as far as nobody has changed those cells since."""
    masked = dict(state)
    for effect in effects:
        for name, value in (effect.after or {}).items():
            if masked.get(name) == sheet.to_raw(name, value):
                before = (effect.before or {}).get(name)
                if before is None:
                    masked.pop(name, None)
                else:
                    masked[name] = before
    return masked
