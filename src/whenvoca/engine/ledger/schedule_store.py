"""What the ledger keeps of time: how far triggers have looked, next starts, claims on presence, pauses, jobs."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from whenvoca.engine.ledger.connection import SqliteFile, upsert
from whenvoca.engine.ledger.protocol import Schedule
from whenvoca.engine.ledger.records import Claim, Job, Occurrence

_CLAIM = "number, place, person, run, workflow, shown, until, event_place, event_key, event_field"
_KEEP_START = upsert("starts", ("workflow", "place", "uid"), ("due",))
_KEEP_PRESENCE = upsert("presences", ("place", "person"), ("before", "shown"))


class SqliteSchedule(SqliteFile, Schedule):
    """These tables of the SQLite ledger."""

    # --- how far triggers by time have looked

    def high_water(self, workflow: str, place: str) -> str | None:
        row = self._db.execute("SELECT at FROM marks WHERE workflow=? AND place=?", (workflow, place)).fetchone()
        return row[0] if row else None

    def set_high_water(self, workflow: str, place: str, at: str) -> None:
        with self.transaction():
            self._db.execute(
                "INSERT INTO marks (workflow,place,at) VALUES (?,?,?) ON CONFLICT (workflow,place) DO UPDATE "
                "SET at=CASE WHEN excluded.at>marks.at THEN excluded.at ELSE marks.at END",
                (workflow, place, at),
            )

    def due_starts(self, workflow: str, place: str, now: str) -> list[str]:
        rows = self._db.execute(
            "SELECT uid FROM starts WHERE workflow=? AND place=? AND due<=?", (workflow, place, now)
        )
        return [uid for (uid,) in rows]

    def keep_starts(self, workflow: str, place: str, nexts: Mapping[str, str]) -> None:
        with self.transaction():
            self._db.executemany(_KEEP_START, ((workflow, place, uid, at) for uid, at in nexts.items() if at))
            self._db.executemany(
                "DELETE FROM starts WHERE workflow=? AND place=? AND uid=?",
                ((workflow, place, uid) for uid, at in nexts.items() if not at),
            )

    def next_start(self, workflow: str) -> str:
        row = self._db.execute("SELECT min(due) FROM starts WHERE workflow=?", (workflow,)).fetchone()
        return row[0] or ""

    def add_missed(self, occurrences: Iterable[Occurrence], at: str) -> list[Occurrence]:
        fresh = []
        with self.transaction():
            for each in occurrences:
                added = self._db.execute(
                    "INSERT INTO occurrences (workflow,place,subject,label,sequence,at,happened,chain,state) "
                    "VALUES (?,?,?,?,?,?,?,'','missed') ON CONFLICT (workflow,place,subject,sequence) DO NOTHING "
                    "RETURNING number",
                    (each.workflow, each.place, each.subject, each.label, each.sequence, each.at, each.happened),
                ).fetchall()
                if added:
                    fresh.append(each)
                    reason = f"was due at {each.at[:16].replace('T', ' ')}"
                    self._db.execute(
                        "INSERT INTO runs (occurrence,workflow,place,subject,label,started,outcome,reason) "
                        "VALUES (?,?,?,?,?,?,'missed',?)",
                        (added[0][0], each.workflow, each.place, each.subject, each.label, at, reason),
                    )
        return fresh

    def restart_times(self, workflow: str, at: str) -> None:
        with self.transaction():
            for table in ("marks", "starts"):
                self._db.execute(f"DELETE FROM {table} WHERE workflow=?", (workflow,))
            self._db.execute("DELETE FROM readers WHERE workflow=?", (workflow,))
            self._db.execute(
                "DELETE FROM occurrences WHERE workflow=? AND happened IN ('begun','ended','come')", (workflow,)
            )
            self._db.execute(
                "INSERT INTO marks SELECT ?, place, ? FROM cursors UNION SELECT ?, 'clock', ?",
                (workflow, at, workflow, at),
            )

    def forget_time(self) -> None:
        with self.transaction():
            for table in ("marks", "starts", "claims", "presences"):
                self._db.execute(f"DELETE FROM {table}")
            self._db.execute(
                "DELETE FROM readers WHERE workflow IN (SELECT workflow FROM occurrences WHERE happened IN "
                "('begun','ended'))"
            )
            self._db.execute("DELETE FROM meta WHERE name='time'")

    # --- presence

    def claims(self, place: str = "", person: str = "") -> list[Claim]:
        where = [(name, value) for name, value in (("place", place), ("person", person)) if value]
        rows = self._db.execute(
            f"SELECT {_CLAIM} FROM claims WHERE ended=0{''.join(f' AND {name}=?' for name, _ in where)} ORDER BY "
            "number",
            tuple(value for _, value in where),
        )
        return [_to_claim(row) for row in rows]

    def add_claim(self, claim: Claim) -> None:
        with self.transaction():
            self._db.execute(
                f"INSERT INTO claims ({_CLAIM}) VALUES (?,?,?,?,?,?,?,?,?,?) ON CONFLICT (number) DO NOTHING",
                (
                    claim.number,
                    claim.place,
                    claim.person,
                    claim.run,
                    claim.workflow,
                    json.dumps(dict(claim.shown)),
                    claim.until,
                    claim.event_place,
                    claim.event_key,
                    claim.event_field,
                ),
            )

    def move_claim(self, number: int, until: str) -> None:
        with self.transaction():
            self._db.execute("UPDATE claims SET until=? WHERE number=?", (until, number))

    def end_claims(self, numbers: Iterable[int]) -> None:
        with self.transaction():
            self._db.executemany("UPDATE claims SET ended=1 WHERE number=?", ((number,) for number in numbers))

    def presence(self, place: str, person: str) -> tuple[dict[str, str], dict[str, str]] | None:
        row = self._db.execute(
            "SELECT before, shown FROM presences WHERE place=? AND person=?", (place, person)
        ).fetchone()
        return (json.loads(row[0]), json.loads(row[1])) if row else None

    def keep_presence(self, place: str, person: str, before: Mapping[str, str], shown: Mapping[str, str]) -> None:
        with self.transaction():
            self._db.execute(_KEEP_PRESENCE, (place, person, json.dumps(dict(before)), json.dumps(dict(shown))))

    def forget_presence(self, place: str, person: str) -> None:
        with self.transaction():
            self._db.execute("DELETE FROM presences WHERE place=? AND person=?", (place, person))

    # --- pauses

    def pauses(self) -> dict[str, str]:
        return dict(self._db.execute("SELECT workflow, since FROM pauses ORDER BY workflow").fetchall())

    def pause(self, workflow: str, since: str) -> None:
        with self.transaction():
            self._db.execute(
                "INSERT INTO pauses (workflow,since) VALUES (?,?) ON CONFLICT (workflow) DO NOTHING", (workflow, since)
            )

    def resume(self, workflow: str) -> None:
        with self.transaction():
            self._db.execute("DELETE FROM pauses WHERE workflow=?", (workflow,))

    # --- jobs for the process that watches

    def add_job(self, arguments: Iterable[str]) -> int:
        statement = "INSERT INTO jobs (arguments, state) VALUES (?,'waiting') RETURNING number"
        return self._add(statement, (json.dumps(list(arguments)),))

    def next_job(self) -> Job | None:
        with self.transaction():
            row = self._db.execute(
                "SELECT number, arguments FROM jobs WHERE state='waiting' ORDER BY number LIMIT 1"
            ).fetchone()
            if row is None:
                return None
            self._db.execute("UPDATE jobs SET state='begun' WHERE number=?", (row[0],))
        return Job(row[0], tuple(json.loads(row[1])), "begun")

    def end_job(self, number: int, code: int, out: str, err: str) -> None:
        with self.transaction():
            self._db.execute(
                "UPDATE jobs SET state='done', code=?, out=?, err=? WHERE number=?", (code, out, err, number)
            )

    def job(self, number: int) -> Job | None:
        row = self._db.execute(
            "SELECT number, arguments, state, code, out, err FROM jobs WHERE number=?", (number,)
        ).fetchone()
        return Job(row[0], tuple(json.loads(row[1])), *row[2:]) if row else None

    def drop_job(self, number: int) -> None:
        with self.transaction():
            self._db.execute("DELETE FROM jobs WHERE number=?", (number,))

    def drop_jobs(self) -> None:
        with self.transaction():
            self._db.execute("DELETE FROM jobs")


def _to_claim(row: Sequence[Any]) -> Claim:
    number, place, person, run, workflow, shown, until, event_place, event_key, event_field = row
    return Claim(number, place, person, run, workflow, json.loads(shown), until, event_place, event_key, event_field)
