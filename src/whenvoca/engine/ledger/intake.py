"""What came in by forms and web calls, in the SQLite ledger: kept before it is answered, and looked at afterwards."""

from __future__ import annotations

from whenvoca.engine.ledger.codec import decode_state, encode
from whenvoca.engine.ledger.connection import SqliteFile, upsert
from whenvoca.engine.ledger.protocol import IntakeBook
from whenvoca.engine.ledger.records import Arrival, KeptEntry, Sample
from whenvoca.engine.place_protocols import RowState

_NEXT_NUMBER = (
    "INSERT INTO numbers (place,last) VALUES (?,1) ON CONFLICT (place) DO UPDATE SET last=numbers.last+1 RETURNING last"
)
_KEEP_ENTRY = upsert("entries", ("place", "subject"), ("number", "at", "state", "refused"))
_KEEP_SAMPLE = upsert("samples", ("place",), ("at", "kind", "body"))
_REMEMBER = (
    "INSERT INTO repeats (place,once,subject,at) VALUES (?,?,?,?) ON CONFLICT (place,once) DO UPDATE SET "
    "subject=repeats.subject"
)


class SqliteIntake(SqliteFile, IntakeBook):
    """These tables of the SQLite ledger."""

    def next_number(self, place: str) -> int:
        return self._add(_NEXT_NUMBER, (place,))

    def taken_before(self, place: str, once: str) -> str | None:
        found = self._one("SELECT subject FROM repeats WHERE place=? AND once=?", (place, once)) if once else None
        return None if found is None else str(found)

    def put_entry(self, place: str, entry: KeptEntry, once: str = "") -> int:
        state = None if entry.state is None else encode(entry.state)
        with self.transaction():
            self._db.execute(_KEEP_ENTRY, (place, entry.subject, entry.number, entry.at, state, 0))
            arrival = self._add(
                "INSERT INTO arrivals (place,subject,at,state) VALUES (?,?,?,?) RETURNING sequence",
                (place, entry.subject, entry.at, state),
            )
            self.remember_once(place, once, entry.subject, entry.at)
        return arrival

    def remember_once(self, place: str, once: str, word: str, at: str) -> None:
        if once:
            with self._telling():
                self._db.execute(_REMEMBER, (place, once, word, at))

    def entry(self, place: str, subject: str) -> KeptEntry | None:
        with self._telling():
            row = self._db.execute(
                "SELECT subject, number, at, state, refused FROM entries WHERE place=? AND subject=?", (place, subject)
            ).fetchone()
        return None if row is None else KeptEntry(row[0], row[1], row[2], _state(row[3]), is_refused=bool(row[4]))

    def newest_entry(self, place: str) -> KeptEntry | None:
        subject = self._one("SELECT subject FROM arrivals WHERE place=? ORDER BY sequence DESC LIMIT 1", (place,))
        return None if subject is None else self.entry(place, str(subject))

    def count_entries(self, place: str) -> int:
        count = "SELECT count(*) FROM entries WHERE place=? AND state IS NOT NULL AND NOT refused"
        return int(self._one(count, (place,)))

    def last_arrival(self, place: str) -> int:
        return int(self._one("SELECT coalesce(max(sequence),0) FROM arrivals WHERE place=?", (place,)))

    def arrivals(self, place: str, after: int) -> list[Arrival]:
        with self._telling():
            rows = self._db.execute(
                "SELECT sequence, subject, at, state FROM arrivals WHERE place=? AND sequence>? ORDER BY sequence",
                (place, after),
            ).fetchall()
        return [Arrival(sequence, subject, at, _state(state)) for sequence, subject, at, state in rows]

    def put_sample(self, place: str, sample: Sample) -> None:
        with self._telling():
            self._db.execute(_KEEP_SAMPLE, (place, sample.at, sample.kind, sample.body))

    def sample(self, place: str) -> Sample | None:
        with self._telling():
            row = self._db.execute("SELECT at, kind, body FROM samples WHERE place=?", (place,)).fetchone()
        return None if row is None else Sample(*row)

    def states_of_occurrences(self, place: str, subject: str) -> list[tuple[str, int]]:
        with self._telling():
            found = self._db.execute(
                "SELECT sequence, state, run FROM occurrences WHERE workflow IN (SELECT workflow FROM readers WHERE "
                "place=?) AND place=? AND subject=? ORDER BY number",
                (place, place, subject),
            ).fetchall()
        newest = max((sequence for sequence, _, _ in found), default=0)
        return [(state, run) for sequence, state, run in found if sequence == newest]


def _state(text: str | None) -> RowState | None:
    return None if text is None else decode_state(text)
