"""What the ledger keeps of places: observations in order, what stands by them, and how far workflows have looked."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from whenvoca.calendars.event import Event
from whenvoca.calendars.state import from_state
from whenvoca.engine.ledger.codec import decode_state, encode
from whenvoca.engine.ledger.connection import upsert
from whenvoca.engine.ledger.protocol import ObservationLog
from whenvoca.engine.ledger.records import CurrentStates, Observation, ReadPosition, StateChange
from whenvoca.engine.ledger.renaming import SqliteRenaming, own_name
from whenvoca.engine.place_protocols import Resource, RowState
from whenvoca.engine.row_hashes import HashBlock, RowHashes

_STANDING = "SELECT s.subject, o.state FROM standing s JOIN observations o ON o.sequence=s.sequence WHERE s.place=?"
_KEEP_STANDING = upsert("standing", ("place", "subject"), ("sequence",))
_KEEP_RESOURCE = upsert("resources", ("place", "name"), ("uid", "version", "stamp"))
_KEEP_CURSOR = upsert("cursors", ("place",), ("value",))
_KEEP_HASHES = upsert("prints", ("place",), ("sequence", "packed"))
_KEEP_READER = upsert("readers", ("workflow", "place"), ("sequence", "signature"))
_MANY = 3000  # subjects beyond which it is quicker to ask for all
_FEW = 200  # states that are asked for one by one before all are read


class StoredStates(CurrentStates):
    """Subjects with their states, read from the ledger when one is asked for and decoded then: most are only compared,
    and where rows stand as they were, hardly one."""

    def __init__(self, db: sqlite3.Connection, place: str, subjects: Sequence[str] | None = None) -> None:
        self._db = db
        self._place = place
        self._texts: dict[str, str] = {}
        self._read: dict[str, RowState] = {}
        self._asked_for = 0
        self._is_whole = subjects is not None
        self._subjects: dict[str, int] | None = None
        if subjects is not None:
            for subject in subjects:
                self._texts.update(self._find(subject))
            self._subjects = dict.fromkeys(self._texts, 0)

    def _all(self) -> dict[str, int]:
        """All subjects, asked for when they are needed."""
        if self._subjects is None:
            found = self._db.execute("SELECT subject, 0 FROM standing WHERE place=?", (self._place,))
            self._subjects = dict(found.fetchall())
        return self._subjects

    def _find(self, subject: str) -> list[tuple[str, str]]:
        return self._db.execute(f"{_STANDING} AND s.subject=?", (self._place, subject)).fetchall()

    def _text(self, subject: str) -> str | None:
        if subject not in self._texts and not self._is_whole:
            self._asked_for += 1
            if self._asked_for < _FEW:
                self._texts.update(self._find(subject))
            else:
                self._texts.update(self._db.execute(_STANDING, (self._place,)).fetchall())
                self._is_whole = True
        return self._texts.get(subject)

    def __getitem__(self, subject: str) -> RowState:
        if subject not in self._read:
            if (text := self._text(subject)) is None:
                raise KeyError(subject)
            self._read[subject] = decode_state(text)
        return self._read[subject]

    def __contains__(self, subject: object) -> bool:
        return subject in self._all()

    def __iter__(self) -> Iterator[str]:
        return iter(self._all())

    def __len__(self) -> int:
        if self._subjects is not None:
            return len(self._subjects)
        return int(self._db.execute("SELECT count(*) FROM standing WHERE place=?", (self._place,)).fetchone()[0])

    def is_same(self, subject: str, state: RowState) -> bool:
        """Whether the subject stands with that state."""
        text = self._text(subject)
        return text is not None and (text == encode(state) or decode_state(text) == state)


class SqliteObservations(SqliteRenaming, ObservationLog):
    """These tables of the SQLite ledger."""

    def cursor(self, place: str) -> str:
        return str(self._one("SELECT value FROM cursors WHERE place=?", (place,)) or "")

    def standing(self, place: str, subjects: Sequence[str] | None = None) -> StoredStates:
        return StoredStates(self._db, place, subjects)

    def standing_of_uid(self, place: str, uid: str) -> dict[str, RowState]:
        rows = self._db.execute(f"{_STANDING} AND s.subject>=? AND s.subject<?", (place, uid, f"{uid} @~"))
        mine = f"{uid} @ "
        return {subject: decode_state(state) for subject, state in rows if subject == uid or subject.startswith(mine)}

    def master_of(self, place: str, uid: str) -> Event | None:
        state = self.standing(place, [uid]).get(uid)
        return from_state(state) if state else None

    def resources(self, place: str) -> dict[str, Resource]:
        rows = self._db.execute("SELECT name, uid, version, stamp FROM resources WHERE place=?", (place,))
        return {name: Resource(uid, version, stamp) for name, uid, version, stamp in rows}

    def keep_resources(self, place: str, fresh: Mapping[str, Resource], gone: Sequence[str] = ()) -> None:
        with self.transaction():
            self._db.executemany(
                _KEEP_RESOURCE, ((place, name, each.uid, each.version, each.stamp) for name, each in fresh.items())
            )
            self._db.executemany("DELETE FROM resources WHERE place=? AND name=?", ((place, name) for name in gone))

    def standing_sequences(self, place: str) -> Iterator[tuple[str, int]]:
        rows = self._db.execute("SELECT subject, sequence FROM standing WHERE place=? ORDER BY sequence", (place,))
        yield from rows.fetchall()

    def observe(
        self,
        place: str,
        changes: Iterable[StateChange],
        cursor: str,
        at: str,
        cause: Mapping[str, int] | int = 0,
        prints: RowHashes | None = None,
    ) -> int:
        """Records changes, moves the standing subjects and the cursor, all in one transaction."""
        with self.transaction():
            sequence = self._one("SELECT coalesce(max(sequence),0) FROM observations", ())
            changes = list(changes)
            previous = self._standing_of(place, [each.subject for each in changes])
            count = 0
            rows: list[tuple[Any, ...]] = []
            standing: list[tuple[str, str, int]] = []
            gone: list[tuple[str, str]] = []
            for each in changes:
                subject, state = each.subject, each.state
                if each.is_quiet:
                    gone.append((place, subject))
                    continue
                if each.given is not None and subject not in previous:  # observed through another until now
                    count += 1
                    previous[subject] = sequence + count
                    rows.append((sequence + count, "", subject, None, encode(each.given), at, None))
                count += 1
                by = (cause if isinstance(cause, int) else cause.get(subject, 0)) or None
                text = None if state is None else encode(state)
                rows.append((sequence + count, place, subject, previous.get(subject), text, at, by))
                if state is None:
                    gone.append((place, subject))
                else:
                    standing.append((place, subject, sequence + count))
                if len(rows) >= 5000:
                    self._db.executemany("INSERT INTO observations VALUES (?,?,?,?,?,?,?)", rows)
                    self._db.executemany(_KEEP_STANDING, standing)
                    rows, standing = [], []
            self._db.executemany("INSERT INTO observations VALUES (?,?,?,?,?,?,?)", rows)
            self._db.executemany(_KEEP_STANDING, standing)
            self._db.executemany("DELETE FROM standing WHERE place=? AND subject=?", gone)
            self._db.execute(_KEEP_CURSOR, (place, cursor))
            if prints is not None:
                packed = msgspec.msgpack.encode(prints.blocks)
                self._db.execute(_KEEP_HASHES, (place, sequence + count, packed))
        return count

    def prints(self, place: str) -> RowHashes:
        kept = self._db.execute("SELECT sequence, packed FROM prints WHERE place=?", (place,)).fetchone()
        if kept is None:
            return RowHashes()
        newest, packed = kept
        try:
            found = RowHashes(msgspec.msgpack.decode(packed, type=list[HashBlock]))
        except msgspec.DecodeError:  # it is a memory only: without it every row is read
            return RowHashes()
        since = "SELECT DISTINCT subject FROM observations WHERE place=? AND sequence>?"
        stale = {subject for (subject,) in self._db.execute(since, (place, newest))}
        return found.without(stale) if stale else found

    def _standing_of(self, place: str, subjects: Sequence[str]) -> dict[str, int]:
        """The newest observations of these subjects, as far as they stand."""
        if len(subjects) > _MANY:
            rows = self._db.execute("SELECT subject, sequence FROM standing WHERE place=?", (place,)).fetchall()
            return dict(rows)
        one = "SELECT sequence FROM standing WHERE place=? AND subject=?"
        found = {subject: self._db.execute(one, (place, subject)).fetchone() for subject in subjects}
        return {subject: row[0] for subject, row in found.items() if row is not None}

    def forget(self, place: str) -> None:
        with self.transaction():
            for table in ("standing", "cursors", "prints", "readers", "observations", "occurrences", "resources"):
                self._db.execute(f"DELETE FROM {table} WHERE lower(place)=lower(?)", (place,))

    def last_sequence(self, place: str) -> int:
        return int(self._one("SELECT coalesce(max(sequence),0) FROM observations WHERE place=?", (place,)))

    def reader(self, workflow: str, place: str) -> ReadPosition | None:
        found = self._db.execute(
            "SELECT sequence, signature FROM readers WHERE workflow=? AND place=?", (workflow, place)
        ).fetchone()
        return ReadPosition(*found) if found else None

    def readers(self) -> dict[str, set[str]]:
        found: dict[str, set[str]] = {}
        for workflow, place in self._db.execute("SELECT workflow, place FROM readers"):
            found.setdefault(workflow, set()).add(own_name(place))
        return found

    def set_reader(self, workflow: str, place: str, sequence: int, signature: str = "") -> None:
        with self._telling():
            self._db.execute(_KEEP_READER, (workflow, place, sequence, signature))

    def observations(self, place: str, after: int, but_by: str = "") -> Iterator[Observation]:
        yield from self._observations(
            "o.place=? AND o.sequence>? AND (r.workflow IS NULL OR r.workflow<>?) AND (r.kind IS NULL OR "
            "r.kind<>'undo')",
            (place, after, but_by),
        )

    def observed(self, sequences: Sequence[int]) -> dict[int, Observation]:
        found: dict[int, Observation] = {}
        for begin in range(0, len(sequences), 500):
            part = sequences[begin : begin + 500]
            for each in self._observations(f"o.sequence IN ({','.join('?' * len(part))})", part):
                found[each.sequence] = each
        return found

    def _observations(self, where: str, values: Sequence[Any]) -> Iterator[Observation]:
        rows = self._db.execute(
            "SELECT o.sequence, o.place, o.subject, p.state, o.state, r.workflow, c.chain FROM observations o "
            "LEFT JOIN observations p ON p.sequence=o.previous LEFT JOIN runs r ON r.number=o.cause "
            f"LEFT JOIN occurrences c ON c.number=r.occurrence WHERE {where} ORDER BY o.sequence",
            tuple(values),
        )
        for sequence, place, subject, old, new, workflow, chain in rows:
            yield Observation(
                sequence,
                place,
                subject,
                None if old is None else decode_state(old),
                None if new is None else decode_state(new),
                workflow or "",
                tuple((chain or "").split()),
            )

    def forget_messages(self, place: str, before: str) -> None:
        with self.transaction():
            newest = self._one("SELECT max(sequence) FROM observations", ())  # stays, so that numbers go on from it
            old = "FROM observations WHERE place=? AND seen_at<? AND sequence<?"
            self._db.execute(
                f"DELETE FROM standing WHERE place=? AND sequence IN (SELECT sequence {old})",
                (place, place, before, newest),
            )
            self._db.execute(f"DELETE {old}", (place, before, newest))
