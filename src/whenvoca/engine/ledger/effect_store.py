"""Effects, what they made, and the saves of files behind them, in the SQLite ledger."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.codec import EFFECT_COLUMNS, current_verb, decode_fields, decode_state, encode, to_effect
from whenvoca.engine.ledger.connection import SqliteFile, upsert
from whenvoca.engine.ledger.protocol import EffectBook
from whenvoca.engine.ledger.records import Journal, JournalEntry, MadeThing
from whenvoca.engine.place_protocols import Found, SaveIntent

_INTENT = "run step repetition ordinal place verb target lineage thing version before after notes kept state receipt"
_KEEP_INTENT = upsert("effects", ("number",), _INTENT.split())
_KEEP_THING = upsert("things", ("place", "lineage", "thing"), ("uid", "version", "base"))
_KEEP_READ = upsert("reads", ("run", "step", "ordinal"), ("found",))


class SqliteEffects(SqliteFile, EffectBook):
    """These tables of the SQLite ledger."""

    def next_effect(self) -> int:
        return int(self._one("SELECT coalesce(max(number),0)+1 FROM effects", ()))

    def commit(self, journal: Journal) -> None:
        with self.transaction():
            self._db.executemany(
                _KEEP_INTENT,
                (
                    (number, run, key.step, key.repetition, key.ordinal, *_intent_row(effect))
                    for number, run, key, effect in journal.intents
                ),
            )
            self._db.executemany(
                "UPDATE effects SET state='done', receipt=? WHERE number=?",
                ((f"{r.version} {r.address}", number) for number, _, r in journal.receipts),
            )
            self._db.executemany(
                _KEEP_THING,
                (
                    (e.place, e.lineage, e.number, e.target, r.version, None if e.base is None else encode(e.base))
                    for _, e, r in journal.receipts
                    if e.lineage
                ),
            )
            self._db.executemany(
                _KEEP_READ,
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
            self._db.executemany("UPDATE entries SET refused=1 WHERE place=? AND subject=?", journal.refused)
            self._db.executemany(
                "UPDATE occurrences SET state=? WHERE number=?",
                ((outcome, o.number) for o, outcome, _, _ in journal.ended),
            )

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
        return [entry for entry in self.journal_of(run) if entry.receipt is not None]

    def was_told(self, run: int, place: str, target: str) -> bool:
        earlier = (
            "SELECT b.number FROM runs a JOIN runs b ON b.workflow=a.workflow AND b.subject=a.subject AND "
            "b.occurrence=a.occurrence AND b.number!=a.number WHERE a.number=?"
        )
        told = f"SELECT 1 FROM effects WHERE run IN ({earlier}) AND place=? AND target=? AND state='done' LIMIT 1"
        return run > 0 and self._one(told, (run, place, target)) is not None

    def written(self, workflow: str, subject: str, place: str, target: str) -> dict[str, Any]:
        rows = self._db.execute(
            "SELECT e.verb, e.before, e.after FROM runs r JOIN effects e ON e.run=r.number WHERE r.workflow=? AND "
            "r.subject=? "
            "AND e.place=? AND e.target=? AND (e.state='done' OR e.verb LIKE 'create %') ORDER BY e.number",
            (workflow, subject, place, target),
        )
        fields: dict[str, Any] = {}
        for verb, before, after in rows:
            if after is not None and (fields or before is None):
                kept = {} if verb.startswith("create ") else fields
                fields = kept | decode_fields(after, verb)
        return fields

    def effects(self, numbers: Sequence[int]) -> dict[int, tuple[int, Effect]]:
        found = {}
        for number in numbers:
            row = self._db.execute(f"SELECT {EFFECT_COLUMNS}, run FROM effects WHERE number=?", (number,)).fetchone()
            if row:
                found[number] = (row[-1], to_effect(row[:-1]))
        return found

    def reads_of(self, run: int) -> dict[tuple[str, int], list[Found]]:
        rows = self._db.execute("SELECT step, ordinal, found FROM reads WHERE run=?", (run,))
        return {
            (step, ordinal): [Found(place, key, decode_state(state)) for place, key, state in json.loads(found)]
            for step, ordinal, found in rows
        }

    def verbs_since(self, workflow: str, since: str) -> dict[str, int]:
        rows = self._db.execute(
            "SELECT e.verb, count(*) FROM runs r JOIN effects e ON e.run=r.number WHERE r.workflow=? AND r.started>=? "
            "AND r.kind='run' AND e.state='done' GROUP BY e.verb",
            (workflow, since),
        )
        return {current_verb(verb): count for verb, count in rows}

    def has_made(self, place: str) -> bool:
        return self._one("SELECT 1 FROM things WHERE place=? AND thing>0 LIMIT 1", (place,)) is not None

    def made(self, place: str, lineage: str) -> MadeThing | None:
        row = self._db.execute(
            "SELECT uid, thing, version, base FROM things WHERE place=? AND lineage=? ORDER BY thing DESC LIMIT 1",
            (place, lineage),
        ).fetchone()
        return MadeThing(row[0], row[1], row[2], row[3] and decode_state(row[3])) if row else None

    def was_lost_since_made(self, place: str, subject: str, lineage: str) -> bool:
        made = self._one(
            "SELECT max(c.sequence) FROM effects e JOIN runs r ON r.number=e.run JOIN occurrences c ON "
            "c.number=r.occurrence "
            "WHERE e.lineage=? AND e.verb LIKE 'create %' AND e.state='done'",
            (lineage,),
        )
        if made is None:
            made = self._one("SELECT max(made) FROM things WHERE lineage=?", (lineage,))
        went = "SELECT 1 FROM observations WHERE place=? AND subject=? AND state IS NULL AND sequence>? LIMIT 1"
        return made is not None and self._one(went, (place, subject, made)) is not None

    def mark_of(self, place: str, uid: str) -> str:
        return str(
            self._one("SELECT lineage FROM things WHERE place=? AND uid=? AND thing>0 LIMIT 1", (place, uid)) or ""
        )

    def marks_made(self, place: str, prefix: str) -> dict[str, str]:
        rows = self._db.execute(
            "SELECT lineage, uid FROM things WHERE place=? AND lineage>=? AND lineage<? AND thing>0 ORDER BY thing",
            (place, prefix, prefix + "\uffff"),
        )
        return dict(rows.fetchall())

    def count_made(self, place: str, prefix: str) -> int:
        count = (
            "SELECT count(DISTINCT lineage) FROM things WHERE place=? AND lineage>=? AND lineage<? AND version<>'' "
            "AND thing>0"
        )
        return int(self._one(count, (place, prefix, prefix + "\uffff")))

    def begin_save(self, intent: SaveIntent, effects: Sequence[int]) -> int:
        return self._add(
            "INSERT INTO saves (file,before,after,effects,state) VALUES (?,?,?,?,'intent') RETURNING number",
            (intent.file, intent.before, intent.after, encode(list(effects))),
        )

    def end_save(self, number: int, state: str) -> None:
        with self._telling():
            self._db.execute("UPDATE saves SET state=?, effects='[]' WHERE number=?", (state, number))

    def open_saves(self) -> list[tuple[int, SaveIntent, list[int]]]:
        rows = self._db.execute(
            "SELECT number, file, before, after, effects FROM saves WHERE state='intent' ORDER BY number"
        )
        return [
            (number, SaveIntent(file, before, after), json.loads(effects))
            for number, file, before, after, effects in rows
        ]


def _intent_row(effect: Effect) -> tuple[Any, ...]:
    e = effect
    before, after = (None if fields is None else encode(fields) for fields in (e.before, e.after))
    thing = (e.place, e.verb, e.target, e.lineage, e.number, e.version)
    return (*thing, before, after, "\n".join(e.notes), e.kept, "intent", None)
