"""Occurrences and runs in the SQLite ledger."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from msgspec.structs import replace

from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.codec import OCCURRENCE_COLUMNS, to_occurrence
from whenvoca.engine.ledger.effect_store import SqliteEffects
from whenvoca.engine.ledger.protocol import RunBook
from whenvoca.engine.ledger.records import Occurrence, RunRecord
from whenvoca.reports.runs import RunEnd

_EVERY = 2**63 - 1  # beyond every number of a run
_RUN = (
    "number, workflow, place, subject, label, started, outcome, reason, milliseconds, kind, undoes, undone, occurrence"
)


class SqliteRuns(SqliteEffects, RunBook):
    """These tables of the SQLite ledger."""

    def add_occurrences(self, occurrences: Iterable[Occurrence], *, once: bool = True, revive: bool = False) -> int:
        again = "state='waiting', run=0, tries=0, happened=excluded.happened, at=excluded.at"
        known = f"DO UPDATE SET {again}" if revive else "DO NOTHING"
        waiting = "SELECT 1 FROM occurrences WHERE workflow=? AND place=? AND subject=? AND state='waiting'"
        with self.transaction():
            added = self._db.executemany(
                "INSERT INTO occurrences (workflow,place,subject,label,sequence,at,happened,chain,state) "
                f"SELECT ?,?,?,?,?,?,?,?,'waiting' WHERE NOT (? AND EXISTS ({waiting})) "
                f"ON CONFLICT (workflow,place,subject,sequence) {known}",
                (
                    (
                        o.workflow,
                        o.place,
                        o.subject,
                        o.label,
                        o.sequence,
                        o.at,
                        o.happened,
                        " ".join(o.chain),
                        once,
                        o.workflow,
                        o.place,
                        o.subject,
                    )
                    for o in occurrences
                ),
            )
            return added.rowcount if added.rowcount > 0 else 0  # -1 where there were none

    def waiting(self, workflow: str, limit: int, after: int = 0) -> list[Occurrence]:
        rows = self._db.execute(
            f"SELECT {OCCURRENCE_COLUMNS} FROM occurrences WHERE workflow=? AND state='waiting' AND number>? "
            "ORDER BY number LIMIT ?",
            (workflow, after, limit),
        )
        return [to_occurrence(row) for row in rows]

    def occurrence(self, number: int) -> Occurrence | None:
        row = self._db.execute(f"SELECT {OCCURRENCE_COLUMNS} FROM occurrences WHERE number=?", (number,)).fetchone()
        return to_occurrence(row) if row else None

    def newest(self, workflow: str, place: str, subject: str) -> int:
        newest = "SELECT max(number) FROM occurrences WHERE workflow=? AND place=? AND subject=?"
        return int(self._one(newest, (workflow, place, subject)) or 0)

    def wake(self, number: int) -> None:
        with self._telling():
            self._db.execute(
                "UPDATE occurrences SET state='waiting', run=0, tries=0 WHERE number=? AND state!='waiting'", (number,)
            )

    def has_unfinished(self) -> bool:
        return self._one("SELECT 1 FROM occurrences WHERE state='waiting' AND run!=0 LIMIT 1", ()) is not None

    def count_waiting(self, workflow: str) -> int:
        return int(self._one("SELECT count(*) FROM occurrences WHERE workflow=? AND state='waiting'", (workflow,)))

    def count_orphaned(self, workflow: str, happened: str = "orphaned") -> int:
        waiting = "SELECT count(*) FROM occurrences WHERE workflow=? AND state='waiting' AND happened=?"
        return int(self._one(waiting, (workflow, happened)))

    def newest_number(self) -> int:
        return int(self._one("SELECT coalesce(max(number),0) FROM occurrences", ()))

    def drop(self, occurrence: Occurrence, reason: str) -> None:
        with self.transaction():
            self._db.execute("UPDATE occurrences SET state='dropped' WHERE number=?", (occurrence.number,))
            if occurrence.run:
                self._db.execute("UPDATE runs SET outcome='dropped', reason=? WHERE number=?", (reason, occurrence.run))

    def hold(self, occurrence: Occurrence, reason: str, tries: int = 0) -> None:
        with self.transaction():
            self._db.execute("UPDATE runs SET outcome='waiting', reason=? WHERE number=?", (reason, occurrence.run))
            self._db.execute("UPDATE occurrences SET tries=? WHERE number=?", (tries, occurrence.number))

    def begin_runs(self, occurrences: Sequence[Occurrence], at: str) -> list[Occurrence]:
        with self.transaction():
            number = self._one("SELECT coalesce(max(number),0) FROM runs", ())
            begun, fresh = [], []
            for each in occurrences:
                if each.run:
                    begun.append(each)
                    continue
                number += 1
                fresh.append((number, each.number, each.workflow, each.place, each.subject, each.label, at, "begun"))
                begun.append(replace(each, run=number))
            self._db.executemany(
                "INSERT INTO runs (number,occurrence,workflow,place,subject,label,started,outcome) VALUES "
                "(?,?,?,?,?,?,?,?)",
                fresh,
            )
            self._db.executemany("UPDATE occurrences SET run=? WHERE number=?", ((row[0], row[1]) for row in fresh))
        return begun

    def last_run_of(self, occurrence: Occurrence) -> int:
        found = "SELECT coalesce(max(number),0) FROM runs WHERE occurrence=? AND number IN (SELECT run FROM reads)"
        return int(self._one(found, (occurrence.number,)))

    def begin_undo(self, record: RunRecord, at: str) -> int:
        return self._add(
            "INSERT INTO runs (occurrence,workflow,place,subject,label,started,outcome,kind,undoes) "
            "VALUES (?,?,?,?,?,?,'begun','undo',?) RETURNING number",
            (record.occurrence, record.workflow, record.place, record.subject, record.label, at, record.number),
        )

    def end_undo(self, number: int, record: RunRecord, outcome: str, reason: str) -> None:
        with self.transaction():
            self._db.execute("UPDATE runs SET outcome=?, reason=? WHERE number=?", (outcome, reason, number))
            if outcome == "done":
                self.note_undone(number, record)

    def note_undone(self, number: int, record: RunRecord) -> None:
        with self.transaction():
            self._db.execute("UPDATE runs SET undone=? WHERE number=?", (number, record.number))
            self._db.execute("UPDATE runs SET undone=NULL WHERE number=? AND ?='undo'", (record.undoes, record.kind))
            state = "done" if record.kind == "undo" else "undone"
            self._db.execute("UPDATE occurrences SET state=? WHERE number=?", (state, record.occurrence))

    def begin_manual_run(
        self, workflow: str, place: str, person: str, at: str, kind: str = "presence", label: str = ""
    ) -> int:
        return self._add(
            "INSERT INTO runs (occurrence,workflow,place,subject,label,started,outcome,kind) "
            "VALUES (0,?,?,?,?,?,'begun',?) RETURNING number",
            (workflow, place, person, label or person, at, kind),
        )

    def end_manual_run(self, number: int, outcome: str, reason: str) -> None:
        with self._telling():
            self._db.execute("UPDATE runs SET outcome=?, reason=? WHERE number=?", (outcome, reason, number))

    def begun_runs(self, kind: str) -> list[RunRecord]:
        rows = self._db.execute("SELECT number FROM runs WHERE outcome='begun' AND kind=?", (kind,)).fetchall()
        return self.runs(numbers=[number for (number,) in rows], limit=len(rows)) if rows else []

    def failed_writes(self, workflow: str) -> dict[str, list[Effect]]:
        return {
            subject: [] if undone else self._writes_since_success(workflow, subject)
            for subject, undone in self._unwell(workflow)
        }

    def failed_writes_before(self, record: RunRecord) -> list[Effect]:
        return self._writes_since_success(record.workflow, record.subject, record.number)

    def undone_subjects(self, workflow: str) -> list[str]:
        return [subject for subject, undone in self._unwell(workflow) if undone is not None]

    def count_unanswered(self, workflow: str) -> int:
        return sum(undone is None for _, undone in self._unwell(workflow))

    def _unwell(self, workflow: str) -> list[tuple[str, int | None]]:
        """Subjects whose newest ended run failed or was undone, with the run that took it back."""
        return self._db.execute(
            "SELECT subject, undone FROM runs r WHERE workflow=? AND kind='run' AND (outcome='failed' OR undone IS "
            "NOT NULL) AND NOT EXISTS (SELECT 1 FROM runs n WHERE n.workflow=r.workflow AND n.subject=r.subject AND "
            "n.number>r.number AND n.kind='run' AND n.outcome IN ('done','failed'))",
            (workflow,),
        ).fetchall()

    def _writes_since_success(self, workflow: str, subject: str, before: int = _EVERY) -> list[Effect]:
        """What failed runs wrote into a row since one went well, the newest first."""
        runs = self._db.execute(
            "SELECT number, outcome FROM runs WHERE workflow=? AND subject=? AND kind='run' AND undone IS NULL AND "
            "number<? ORDER BY number DESC",
            (workflow, subject, before),
        ).fetchall()
        found: list[Effect] = []
        for number, outcome in runs:
            if outcome == "done":
                break
            if outcome == "failed":
                found += [each.effect for each in reversed(self.effects_done(number))]
        return found

    def runs(
        self,
        *,
        workflow: str = "",
        failed: bool = False,
        since: str = "",
        limit: int = 50,
        numbers: Sequence[int] | None = None,
        subject: str = "",
    ) -> list[RunRecord]:
        where: list[str] = ["1"]
        values: list[Any] = []
        for column, value in (("workflow=?", workflow), ("subject=?", subject), ("started>=?", since)):
            if value:
                where.append(column)
                values.append(value)
        if failed:
            where.append("outcome='failed'")
        if numbers is not None:
            where.append(f"number IN ({','.join('?' * len(numbers))})")
            values += numbers
        rows = self._db.execute(
            "SELECT number, workflow, place, subject, label, started, outcome, reason, milliseconds, kind, undoes, "
            f"undone, occurrence FROM runs WHERE {' AND '.join(where)} ORDER BY number DESC LIMIT ?",
            (*values, limit),
        ).fetchall()
        return [RunRecord(*row, effects=tuple(e.effect for e in self.journal_of(row[0]))) for row in rows]  # type: ignore[misc]

    def run_ends(self, begin: str, end: str) -> Iterator[RunEnd]:
        rows = self._db.execute(
            "SELECT workflow, started, outcome, milliseconds, undone IS NOT NULL FROM runs "
            "WHERE started>=? AND started<? AND kind<>'undo' AND outcome<>'' ORDER BY number",
            (begin, end),
        )
        for workflow, started, outcome, milliseconds, is_undone in rows:
            yield RunEnd(workflow, started, outcome, milliseconds, bool(is_undone))

    def runs_set_off(self, run: int) -> list[int]:
        rows = self._db.execute(
            "SELECT r.number FROM observations o JOIN occurrences c ON c.sequence=o.sequence AND c.place=o.place JOIN "
            "runs r ON r.occurrence=c.number WHERE o.cause=? AND r.kind='run' AND r.number!=? ORDER BY r.number DESC",
            (run, run),
        )
        return [number for (number,) in rows]
