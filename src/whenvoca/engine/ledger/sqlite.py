"""The ledger on SQLite: occurrences, runs, effects, saves. What it keeps of places and of time stands in files of its
own."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import Any

from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.codec import (
    EFFECT_COLUMNS,
    OCCURRENCE_COLUMNS,
    decode_state,
    encode,
    to_effect,
    to_occurrence,
    with_run,
)
from whenvoca.engine.ledger.observations import SqliteObservations
from whenvoca.engine.ledger.protocol import (
    Journal,
    JournalEntry,
    MadeThing,
    Occurrence,
    RunRecord,
)
from whenvoca.engine.ledger.renaming import SqliteRenaming
from whenvoca.engine.ledger.schedule_store import SqliteSchedule
from whenvoca.engine.place_protocols import Found, SaveIntent

_EVERY = 2**63 - 1  # beyond every number of a run


class SqliteLedger(SqliteObservations, SqliteSchedule, SqliteRenaming):
    """A ledger in one file. Raises SettingsFault for a file of a newer version, PlaceTrouble where it cannot be
    kept."""

    # --- occurrences

    def add_occurrences(self, occurrences: Iterable[Occurrence], *, once: bool = True, revive: bool = False) -> int:
        """Records occurrences; ``once``: of subjects that have none waiting; ``revive``: known ones wait again."""
        known = (
            "ON CONFLICT DO UPDATE SET state='waiting', run=0, tries=0, happened=excluded.happened, at=excluded.at"
            if revive
            else "ON CONFLICT DO NOTHING"
        )
        with self.transaction():
            before = self._db.total_changes
            self._db.executemany(
                "INSERT INTO occurrences (workflow,place,subject,label,sequence,at,happened,chain,state) "
                "SELECT ?1,?2,?3,?4,?5,?6,?7,?8,'waiting' WHERE NOT EXISTS (SELECT 1 FROM occurrences "
                f"WHERE ?9 AND workflow=?1 AND place=?2 AND subject=?3 AND state='waiting') {known}",
                (
                    (o.workflow, o.place, o.subject, o.label, o.sequence, o.at, o.happened, " ".join(o.chain), once)
                    for o in occurrences
                ),
            )
            return self._db.total_changes - before

    def waiting(self, workflow: str, limit: int, after: int = 0) -> list[Occurrence]:
        """Occurrences that are not dealt with, oldest first."""
        rows = self._db.execute(
            f"SELECT {OCCURRENCE_COLUMNS} FROM occurrences WHERE workflow=? AND state='waiting' AND number>? "
            "ORDER BY number LIMIT ?",
            (workflow, after, limit),
        )
        return [to_occurrence(row) for row in rows]

    def occurrence(self, number: int) -> Occurrence | None:
        """An occurrence by its number."""
        row = self._db.execute(f"SELECT {OCCURRENCE_COLUMNS} FROM occurrences WHERE number=?", (number,)).fetchone()
        return to_occurrence(row) if row else None

    def newest(self, workflow: str, place: str, subject: str) -> int:
        """The number of the newest occurrence of a subject."""
        newest = "SELECT max(number) FROM occurrences WHERE workflow=? AND place=? AND subject=?"
        return int(self._one(newest, (workflow, place, subject)) or 0)

    def wake(self, number: int) -> None:
        """Makes an occurrence that has ended wait again, with a run of its own."""
        with self._telling():
            self._db.execute(
                "UPDATE occurrences SET state='waiting', run=0, tries=0 WHERE number=? AND state!='waiting'", (number,)
            )

    def has_unfinished(self) -> bool:
        """Whether runs were begun and not ended, as after a crash."""
        return self._one("SELECT 1 FROM occurrences WHERE state='waiting' AND run!=0 LIMIT 1", ()) is not None

    def count_waiting(self, workflow: str) -> int:
        """How many occurrences are not dealt with."""
        return int(self._one("SELECT count(*) FROM occurrences WHERE workflow=? AND state='waiting'", (workflow,)))

    def count_orphaned(self, workflow: str, happened: str = "orphaned") -> int:
        """How many waiting occurrences are of things that a mirror made of subjects it does not know, or lost ones."""
        waiting = "SELECT count(*) FROM occurrences WHERE workflow=? AND state='waiting' AND happened=?"
        return int(self._one(waiting, (workflow, happened)))

    def failed_writes(self, workflow: str) -> dict[str, list[Effect]]:
        """Subjects whose newest ended run failed or was undone, each with the row effects that stand of it."""
        return {
            subject: [] if undone else self._writes_since_success(workflow, subject)
            for subject, undone in self._unwell(workflow)
        }

    def count_unanswered(self, workflow: str) -> int:
        """How many subjects' newest ended run failed, and was not taken back."""
        return sum(undone is None for _, undone in self._unwell(workflow))

    def _unwell(self, workflow: str) -> list[tuple[str, int | None]]:
        """Subjects whose newest ended run failed or was undone, with the run that took it back."""
        return self._db.execute(
            "SELECT subject, undone FROM runs r WHERE workflow=? AND kind='run' AND (outcome='failed' OR undone IS "
            "NOT NULL) "
            "AND NOT EXISTS (SELECT 1 FROM runs n WHERE n.workflow=r.workflow AND n.subject=r.subject AND "
            "n.number>r.number "
            "AND n.kind='run' AND n.outcome IN ('done','failed'))",
            (workflow,),
        ).fetchall()

    def failed_writes_before(self, record: RunRecord) -> list[Effect]:
        """The row effects that stood of failed runs about its subject when the run began."""
        return self._writes_since_success(record.workflow, record.subject, record.number)

    def _writes_since_success(self, workflow: str, subject: str, before: int = _EVERY) -> list[Effect]:
        """What failed runs wrote into a row since one went well, the newest first."""
        runs = self._db.execute(
            "SELECT number, outcome FROM runs WHERE workflow=? AND subject=? AND kind='run' AND undone IS NULL AND "
            "number<? "
            "ORDER BY number DESC",
            (workflow, subject, before),
        ).fetchall()
        found: list[Effect] = []
        for number, outcome in runs:
            if outcome == "done":
                break
            if outcome == "failed":
                found += [each.effect for each in reversed(self.effects_done(number))]
        return found

    def drop(self, occurrence: Occurrence, reason: str) -> None:
        """Ends an occurrence whose subject is gone or left the set; a run that was begun is told as dropped."""
        with self.transaction():
            self._db.execute("UPDATE occurrences SET state='dropped' WHERE number=?", (occurrence.number,))
            if occurrence.run:
                self._db.execute("UPDATE runs SET outcome='dropped', reason=? WHERE number=?", (reason, occurrence.run))

    # --- runs and effects

    def begin_runs(self, occurrences: Sequence[Occurrence], at: str) -> list[Occurrence]:
        """Gives each a run, the one it had if it was begun before."""
        with self.transaction():
            number = self._one("SELECT coalesce(max(number),0) FROM runs", ())
            begun, fresh = [], []
            for each in occurrences:
                if each.run:
                    begun.append(each)
                    continue
                number += 1
                fresh.append((number, each.number, each.workflow, each.place, each.subject, each.label, at, "begun"))
                begun.append(with_run(each, number))
            self._db.executemany(
                "INSERT INTO runs (number,occurrence,workflow,place,subject,label,started,outcome) VALUES "
                "(?,?,?,?,?,?,?,?)",
                fresh,
            )
            self._db.executemany("UPDATE occurrences SET run=? WHERE number=?", ((row[0], row[1]) for row in fresh))
        return begun

    def journal_of(self, run: int) -> list[JournalEntry]:
        """What a run has done so far, in order; failed effects are left out."""
        rows = self._db.execute(
            f"SELECT {EFFECT_COLUMNS}, number, step, repetition, ordinal, receipt, state FROM effects "
            "WHERE run=? AND state!='failed' ORDER BY number",
            (run,),
        )
        found = []
        for row in rows:
            *effect, number, step, repetition, ordinal, receipt, state = row
            done = Receipt(*receipt.split(" ", 1)) if state == "done" else None
            key = EffectKey(step, repetition, ordinal, f"{effect[0]} {effect[2]}")
            found.append(JournalEntry(number, key, to_effect(effect), done))
        return found

    def effects_done(self, run: int) -> list[JournalEntry]:
        """What a run did, with receipts, in order."""
        return [entry for entry in self.journal_of(run) if entry.receipt is not None]

    def last_run_of(self, occurrence: Occurrence) -> int:
        """The newest run of an occurrence that read something, its own before that."""
        found = "SELECT coalesce(max(number),0) FROM runs WHERE occurrence=? AND number IN (SELECT run FROM reads)"
        return int(self._one(found, (occurrence.number,)))

    def reads_of(self, run: int) -> dict[tuple[str, int], list[Found]]:
        """What the look-ups of a run found."""
        rows = self._db.execute("SELECT step, ordinal, found FROM reads WHERE run=?", (run,))
        return {
            (step, ordinal): [Found(place, key, decode_state(state)) for place, key, state in json.loads(found)]
            for step, ordinal, found in rows
        }

    def runs_set_off(self, run: int) -> list[int]:
        """The runs that what a run wrote has set off, newest first."""
        rows = self._db.execute(
            "SELECT r.number FROM observations o JOIN occurrences c ON c.sequence=o.sequence AND c.place=o.place "
            "JOIN runs r ON r.occurrence=c.number WHERE o.cause=? AND r.kind='run' AND r.number!=? ORDER BY r.number "
            "DESC",
            (run, run),
        )
        return [number for (number,) in rows]

    def begin_undo(self, record: RunRecord, at: str) -> int:
        """Begins the run that takes back another one."""
        with self.transaction():
            cursor = self._db.execute(
                "INSERT INTO runs (occurrence,workflow,place,subject,label,started,outcome,kind,undoes) "
                "VALUES (?,?,?,?,?,?,'begun','undo',?)",
                (record.occurrence, record.workflow, record.place, record.subject, record.label, at, record.number),
            )
        return int(cursor.lastrowid or 0)

    def verbs_since(self, workflow: str, since: str) -> dict[str, int]:
        """How many effects of each verb a workflow's runs have had since then."""
        rows = self._db.execute(
            "SELECT e.verb, count(*) FROM runs r JOIN effects e ON e.run=r.number WHERE r.workflow=? AND r.started>=? "
            "AND r.kind='run' AND e.state='done' GROUP BY e.verb",
            (workflow, since),
        )
        return dict(rows.fetchall())

    def newest_number(self) -> int:
        """The number of the newest occurrence."""
        return int(self._one("SELECT coalesce(max(number),0) FROM occurrences", ()))

    def begin_manual_run(
        self, workflow: str, place: str, person: str, at: str, kind: str = "presence", label: str = ""
    ) -> int:
        """Begins a run that no occurrence sets off."""
        with self.transaction():
            cursor = self._db.execute(
                "INSERT INTO runs (occurrence,workflow,place,subject,label,started,outcome,kind) "
                "VALUES (0,?,?,?,?,?,'begun',?)",
                (workflow, place, person, label or person, at, kind),
            )
        return int(cursor.lastrowid or 0)

    def end_manual_run(self, number: int, outcome: str, reason: str) -> None:
        """Ends it."""
        with self._telling():
            self._db.execute("UPDATE runs SET outcome=?, reason=? WHERE number=?", (outcome, reason, number))

    def end_undo(self, number: int, record: RunRecord, outcome: str, reason: str) -> None:
        """Ends it: the run is marked as undone, and its subject held until a person changes it."""
        with self.transaction():
            self._db.execute("UPDATE runs SET outcome=?, reason=? WHERE number=?", (outcome, reason, number))
            if outcome == "done":
                self.note_undone(number, record)

    def note_undone(self, number: int, record: RunRecord) -> None:
        """Marks a run as undone by another one."""
        with self.transaction():
            self._db.execute("UPDATE runs SET undone=? WHERE number=?", (number, record.number))
            self._db.execute("UPDATE runs SET undone=NULL WHERE number=? AND ?='undo'", (record.undoes, record.kind))
            state = "done" if record.kind == "undo" else "undone"
            self._db.execute("UPDATE occurrences SET state=? WHERE number=?", (state, record.occurrence))

    def next_effect(self) -> int:
        """The first free effect number."""
        return int(self._one("SELECT coalesce(max(number),0)+1 FROM effects", ()))

    def commit(self, journal: Journal) -> None:
        """Writes one round of a group in one transaction."""
        with self.transaction():
            self._db.executemany(
                "INSERT OR REPLACE INTO effects VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,'intent',NULL,?)",
                (
                    (
                        number,
                        run,
                        key.step,
                        key.repetition,
                        key.ordinal,
                        e.place,
                        e.verb,
                        e.target,
                        e.lineage,
                        e.number,
                        e.version,
                        None if e.before is None else encode(e.before),
                        None if e.after is None else encode(e.after),
                        "\n".join(e.notes),
                        e.kept,
                    )
                    for number, run, key, e in journal.intents
                ),
            )
            self._db.executemany(
                "UPDATE effects SET state='done', receipt=? WHERE number=?",
                ((f"{r.version} {r.address}", number) for number, _, r in journal.receipts),
            )
            self._db.executemany(
                "INSERT OR REPLACE INTO things VALUES (?,?,?,?,?,?)",
                (
                    (e.place, e.lineage, e.number, e.target, r.version, None if e.base is None else encode(e.base))
                    for _, e, r in journal.receipts
                    if e.lineage
                ),
            )
            self._db.executemany(
                "INSERT OR REPLACE INTO reads VALUES (?,?,?,?)",
                (
                    (run, step, ordinal, encode([[f.place, f.key, f.state] for f in found]))
                    for run, step, ordinal, found in journal.reads
                ),
            )
            self._db.executemany(
                "UPDATE effects SET state='failed', receipt=? WHERE number=?",
                ((reason, number) for number, reason in journal.failures),
            )
            self._db.executemany(
                "UPDATE runs SET outcome=?, reason=?, milliseconds=? WHERE number=?",
                ((outcome, reason, spent, o.run) for o, outcome, reason, spent in journal.ended),
            )
            self._db.executemany(  # intents of a way that the run did not take again after a crash
                "UPDATE effects SET state='failed', receipt='' WHERE run=? AND state='intent'",
                ((run,) for run in journal.abandoned),
            )
            self._db.executemany(
                "UPDATE occurrences SET state=? WHERE number=?",
                ((outcome, o.number) for o, outcome, _, _ in journal.ended),
            )

    def hold(self, occurrence: Occurrence, reason: str, tries: int = 0) -> None:
        """Notes why a begun run cannot go on now; it stays waiting."""
        with self.transaction():
            self._db.execute("UPDATE runs SET outcome='waiting', reason=? WHERE number=?", (reason, occurrence.run))
            self._db.execute("UPDATE occurrences SET tries=? WHERE number=?", (tries, occurrence.number))

    def has_made(self, place: str) -> bool:
        """Whether we know of anything that was made at a place."""
        return self._one("SELECT 1 FROM things WHERE place=? LIMIT 1", (place,)) is not None

    def made(self, place: str, lineage: str) -> MadeThing | None:
        """The newest thing of a lineage that we know of."""
        row = self._db.execute(
            "SELECT uid, thing, version, base FROM things WHERE place=? AND lineage=? ORDER BY thing DESC LIMIT 1",
            (place, lineage),
        ).fetchone()
        return MadeThing(row[0], row[1], row[2], row[3] and decode_state(row[3])) if row else None

    def was_lost_since_made(self, place: str, subject: str, lineage: str, making: Sequence[str]) -> bool:
        """Whether a subject went after the newest thing of that lineage was made of it, by an effect of these verbs."""
        made = self._one(
            "SELECT max(c.sequence) FROM effects e JOIN runs r ON r.number=e.run JOIN occurrences c ON "
            "c.number=r.occurrence "
            f"WHERE e.lineage=? AND e.verb IN ({','.join('?' * len(making))}) AND e.state='done'",
            (lineage, *making),
        )
        went = "SELECT 1 FROM observations WHERE place=? AND subject=? AND state IS NULL AND sequence>? LIMIT 1"
        return made is not None and self._one(went, (place, subject, made)) is not None

    def mark_of(self, place: str, uid: str) -> str:
        """The lineage of the thing of that UID as the ledger knows it, empty if it does not."""
        return str(self._one("SELECT lineage FROM things WHERE place=? AND uid=? LIMIT 1", (place, uid)) or "")

    def marks_made(self, place: str, prefix: str) -> dict[str, str]:
        """The lineages that begin so of which we know a thing, each with the newest thing's UID."""
        rows = self._db.execute(
            "SELECT lineage, uid FROM things WHERE place=? AND lineage>=? AND lineage<? ORDER BY thing",
            (place, prefix, prefix + "\uffff"),
        )
        return dict(rows.fetchall())

    # --- saves of files

    def begin_save(self, intent: SaveIntent, effects: Sequence[int]) -> int:
        """Commits that a file is about to be replaced."""
        with self.transaction():
            cursor = self._db.execute(
                "INSERT INTO saves (file,before,after,effects,state) VALUES (?,?,?,?,'intent')",
                (intent.file, intent.before, intent.after, encode(list(effects))),
            )
        return int(cursor.lastrowid or 0)

    def end_save(self, number: int, state: str) -> None:
        """Notes what became of a save."""
        with self._telling():
            self._db.execute("UPDATE saves SET state=?, effects='[]' WHERE number=?", (state, number))

    def open_saves(self) -> list[tuple[int, SaveIntent, list[int]]]:
        """Saves whose end was never noted."""
        rows = self._db.execute(
            "SELECT number, file, before, after, effects FROM saves WHERE state='intent' ORDER BY number"
        )
        return [
            (number, SaveIntent(file, before, after), json.loads(effects))
            for number, file, before, after, effects in rows
        ]

    def effects(self, numbers: Sequence[int]) -> dict[int, tuple[int, Effect]]:
        """Effects by number, each with its run."""
        found = {}
        for number in numbers:
            row = self._db.execute(f"SELECT {EFFECT_COLUMNS}, run FROM effects WHERE number=?", (number,)).fetchone()
            if row:
                found[number] = (row[-1], to_effect(row[:-1]))
        return found

    # --- history

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
        """The history, newest first."""
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
            "undone, "
            f"occurrence FROM runs WHERE {' AND '.join(where)} ORDER BY number DESC LIMIT ?",
            (*values, limit),
        ).fetchall()
        return [RunRecord(*row, effects=tuple(e.effect for e in self.journal_of(row[0]))) for row in rows]  # type: ignore[misc]

    def counts(self) -> dict[str, Any]:
        """How much it holds."""
        names = ("observations", "occurrences", "runs", "effects")
        return {name: self._one(f"SELECT count(*) FROM {name}", ()) for name in names}
