"""What changed at a place since a workflow last looked, and what of it is an occurrence for that workflow."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import datetime
from zoneinfo import ZoneInfo

from whenvoca.engine.acting.program import Program
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Observation, Occurrence
from whenvoca.engine.place_protocols import RowState
from whenvoca.engine.seeing.strategy import Search, TakenUp, TriggerStrategy
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Scope
from whenvoca.language.names import fold_name


class Changes(TriggerStrategy):
    """Waits for subjects that come, change or go."""

    is_timed = is_by_hand = False

    def take_up(self, search: Search) -> TakenUp:
        ledger, program, source = search.ledger, search.program, search.source
        trigger = program.workflow.trigger
        reader = ledger.reader(search.identity, source.name)
        last = ledger.last_sequence(source.name)
        signature = _signature(program) if program.is_mirror else ""
        taken = TakenUp()
        if reader is not None and reader.sequence >= last and reader.signature == signature:
            return taken
        source.prepare()
        judge = _Judge(search)
        with ledger.transaction():
            found: Iterator[Occurrence]
            if reader is None:
                existing = trigger.definition.existing_by_default if trigger.existing is None else trigger.existing
                found = judge.of_standing(set(search.made())) if existing or program.is_mirror else iter(())
            elif reader.signature != signature:
                found = judge.of_standing(set(search.made()))
            else:
                found = judge.of_observations(reader.sequence, taken)
            is_other = reader is not None and reader.signature != signature
            taken.new = ledger.add_occurrences(found, once=trigger.is_set or program.is_mirror, revive=is_other)
            ledger.set_reader(search.identity, source.name, last, signature)
        return taken

    def next_due(self, ledger: Ledger, program: Program, now: datetime, zone: ZoneInfo) -> datetime | None:
        return None


CHANGES = Changes()


def _signature(program: Program) -> str:
    """What a mirror is: another one looks at all its subjects anew."""
    return hashlib.sha256(program.workflow.text.encode()).hexdigest()[:16]


class _Judge:
    """Judges what an observation is for one workflow."""

    def __init__(self, search: Search) -> None:
        trigger = search.program.workflow.trigger
        self._ledger, self._source, self._identity = search.ledger, search.source, search.identity
        self._happenings = trigger.happenings
        self._fields = {fold_name(each.word) for each in trigger.fields}
        self._written = {fold_name(word) for word in search.written}
        self._where = search.program.where
        self._word = trigger.definition.subject
        self._has_more = bool(trigger.definition.given)
        self._now, self._zone, self._at = search.now, search.zone, search.now.isoformat()

    def is_in(self, subject: str, state: RowState | None, *, doubtful: bool = True) -> bool:
        """Whether it is in the set; ``doubtful`` where a cell gives no answer, so that its run tells why."""
        if state is None:
            return False
        try:
            thing = self._source.thing(subject, state)
            given = dict(self._source.given(subject, state)) if self._has_more else {}
            return self._where(Scope(thing, self._word, self._now, self._zone, given))
        except RowFault:
            return doubtful

    def of_standing(self, made: set[str]) -> Iterator[Occurrence]:
        """What was there before the workflow's first run; for a mirror also what it made of subjects that are gone."""
        for subject, sequence in self._ledger.standing_sequences(self._source.name):
            state = self._source.current(subject)
            if self.is_in(subject, state):
                made.discard(subject)
                if "gained" in self._happenings:
                    yield self._occurrence(subject, sequence, "gained", state)
        for subject in sorted(made):
            yield self._occurrence(subject, self._ledger.last_sequence(self._source.name), "orphaned", None)

    def of_observations(self, reader: int, taken: TakenUp) -> Iterator[Occurrence]:
        """What happened since the workflow last looked."""
        failed = self._ledger.failed_writes(self._identity)
        for seen in self._ledger.observations(self._source.name, reader, but_by=self._identity):
            happened = self._what_happened(seen, failed.get(seen.subject))
            if happened not in self._happenings:
                continue
            chain = (*seen.chain, seen.cause_workflow) if seen.cause_workflow else ()
            if self._identity in chain:
                said = " → ".join([*chain[chain.index(self._identity) :], self._identity])
                label = self._source.label(seen.subject, seen.new or seen.old)
                taken.faults.append(f"{label}: {said} would go round without end; stopped here")
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
            old = None if old is None else self._source.unwritten(seen.subject, old, failed)
            new = None if new is None else self._source.unwritten(seen.subject, new, failed)
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
        """Whether a change counts: in a field that `fields` names, else in any that the workflow does not write."""
        if "changed" not in self._happenings:
            return False
        fields = {fold_name(change.word) for change in self._source.changes(old, new)}
        return bool(fields & self._fields if self._fields else fields - self._written)
