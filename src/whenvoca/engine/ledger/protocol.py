"""The ledger's face: what is asked of the record of observations, occurrences, runs and effects.

The SQLite backing stands in ``ledger_sqlite``; a second one has to pass the same contract suite.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol

from msgspec import Struct, field

from whenvoca.calendars.event import Event
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.schedule import Schedule
from whenvoca.engine.place_protocols import Found, Resource, RowState, SaveIntent
from whenvoca.engine.row_hashes import RowHashes


class StateChange(Struct, frozen=True):
    """What a look found: a subject's state, None if it went. ``given`` is what it was, where it was never observed
    itself but followed from another (an occurrence from its series). ``is_quiet``: it goes without being told."""

    subject: str
    state: RowState | None
    given: RowState | None = None
    is_quiet: bool = False


class CurrentStates(Mapping[str, RowState]):
    """Subjects of a place with their states as last observed."""

    @abstractmethod
    def is_same(self, subject: str, state: RowState) -> bool:
        """Whether the subject stands with that state."""


class ReadPosition(Struct, frozen=True):
    """Up to where a workflow has looked at a place, and what the workflow was then (for a mirror)."""

    sequence: int
    signature: str = ""


class Observation(Struct, frozen=True):
    """One change seen at a place: the subject's state before and after, None where it did not stand."""

    sequence: int
    place: str
    subject: str
    old: RowState | None
    new: RowState | None
    cause_workflow: str = ""  # the workflow that made it, empty for another hand
    chain: tuple[str, ...] = ()  # the workflows that led to it, first to last


class Occurrence(Struct, frozen=True):
    """One firing of a trigger; ``number`` is 0 until the ledger has given one."""

    workflow: str
    place: str
    subject: str
    sequence: int
    at: str  # RFC 3339
    happened: str = "gained"
    chain: tuple[str, ...] = ()
    number: int = 0
    state: str = "waiting"
    run: int = 0
    label: str = ""
    tries: int = 0


class JournalEntry(Struct, frozen=True):
    """An effect of an unfinished run: its key, its number, and its receipt if there is one."""

    number: int
    key: EffectKey
    effect: Effect
    receipt: Receipt | None


class RunRecord(Struct, frozen=True):
    """One run as the history tells it."""

    number: int
    workflow: str
    place: str
    subject: str
    label: str
    started: str
    outcome: str
    reason: str
    milliseconds: int
    kind: str = "run"
    undoes: int | None = None
    undone: int | None = None
    occurrence: int = 0
    effects: tuple[Effect, ...] = ()


class MadeThing(Struct, frozen=True):
    """A thing that we made and know of: the n-th of its lineage, with the version we last wrote."""

    uid: str
    number: int
    version: str
    base: RowState | None = None


class Journal(Struct):
    """What one round of a group commits together: new intents, receipts of the round before, runs that ended."""

    intents: list[tuple[int, int, EffectKey, Effect]] = field(default_factory=list)  # (effect number, run, …)
    receipts: list[tuple[int, Effect, Receipt]] = field(default_factory=list)
    failures: list[tuple[int, str]] = field(default_factory=list)
    ended: list[tuple[Occurrence, str, str, int]] = field(default_factory=list)  # outcome, reason, milliseconds
    # runs whose intents without receipt are of a way they did not take again
    abandoned: list[int] = field(default_factory=list)
    reads: list[tuple[int, str, int, list[Found]]] = field(default_factory=list)  # run, step, ordinal, what was found


class Ledger(Schedule, Protocol):
    """The record. Every method outside ``transaction`` is one of its own."""

    def transaction(self) -> AbstractContextManager[None]:
        """Everything inside is committed together, durably, or not at all."""

    def close(self) -> None:
        """Ends the use of it."""

    def meta(self, name: str) -> str:
        """A remembered word, empty if there is none."""

    def set_meta(self, name: str, value: str) -> None:
        """Remembers a word."""

    def cursor(self, place: str) -> str:
        """Up to where a place was observed, empty if never."""

    def standing(self, place: str, subjects: Sequence[str] | None = None) -> CurrentStates:
        """The subjects of a place as last observed: all, or these."""

    def standing_of_uid(self, place: str, uid: str) -> dict[str, RowState]:
        """The observed components of a UID: its master and changed occurrences, by their keys."""

    def master_of(self, place: str, uid: str) -> Event | None:
        """The master of a UID as last observed."""

    def resources(self, place: str) -> dict[str, Resource]:
        """The pieces of a calendar as last looked at, by name."""

    def keep_resources(self, place: str, fresh: Mapping[str, Resource], gone: Sequence[str] = ()) -> None:
        """Remembers pieces, and forgets those that are gone."""

    def standing_sequences(self, place: str) -> Iterator[tuple[str, int]]:
        """All subjects that stand, in the order they were seen, with the number of the observation."""

    def observe(
        self,
        place: str,
        changes: Iterable[StateChange],
        cursor: str,
        at: str,
        cause: Mapping[str, int] | int = 0,
        prints: RowHashes | None = None,
    ) -> int:
        """Records changes and the place's new cursor; answers how many there were. ``cause`` is a run, or one a
        subject. ``prints`` are those of the rows as they stand now."""

    def prints(self, place: str) -> RowHashes:
        """The prints that were last recorded, those of subjects left out of which something was observed since."""

    def forget(self, place: str) -> None:
        """Forgets what was seen of a place, and how far workflows have looked at it: only on a copy, to rehearse."""

    def last_sequence(self, place: str) -> int:
        """The number of the newest observation of a place, 0 if there is none."""

    def reader(self, workflow: str, place: str) -> ReadPosition | None:
        """Up to which observation a workflow has looked; None if it never did."""

    def readers(self) -> dict[str, set[str]]:
        """The places that each workflow has looked at."""

    def set_reader(self, workflow: str, place: str, sequence: int, signature: str = "") -> None:
        """Remembers up to which observation a workflow has looked."""

    def observations(self, place: str, after: int, but_by: str = "") -> Iterator[Observation]:
        """The observations of a place after a number, in order, those left out that one workflow or an undo made."""

    def observed(self, sequences: Sequence[int]) -> dict[int, Observation]:
        """Observations by number."""

    def failed_writes(self, workflow: str) -> dict[str, list[Effect]]:
        """Subjects whose newest ended run failed or was undone, each with what was done in it."""

    def count_unanswered(self, workflow: str) -> int:
        """How many subjects' newest ended run failed, and was not taken back."""

    def failed_writes_before(self, record: RunRecord) -> list[Effect]:
        """What failed runs about its subject had done when the run began."""

    def rename_subjects(self, place: str, names: Mapping[str, str]) -> None:
        """Calls the subjects of a sheet by other keys, and what was made of them by the lineages that follow from
        these."""

    def add_occurrences(self, occurrences: Iterable[Occurrence], *, once: bool = True, revive: bool = False) -> int:
        """Records occurrences; ``once``: of subjects that have none waiting; ``revive``: known ones that have ended
        wait again. Answers how many."""

    def newest(self, workflow: str, place: str, subject: str) -> int:
        """The number of the newest occurrence of a subject, 0 if there is none."""

    def wake(self, number: int) -> None:
        """Makes an occurrence that has ended wait again, with a run of its own."""

    def copy(self) -> Ledger:
        """A copy in memory, to rehearse on."""

    def occurrence(self, number: int) -> Occurrence | None:
        """An occurrence by its number."""

    def waiting(self, workflow: str, limit: int, after: int = 0) -> list[Occurrence]:
        """Occurrences that are not dealt with, oldest first, whose number is above ``after``."""

    def has_unfinished(self) -> bool:
        """Whether runs were begun and not ended, as after a crash."""

    def count_waiting(self, workflow: str) -> int:
        """How many occurrences are not dealt with."""

    def count_orphaned(self, workflow: str, happened: str = "orphaned") -> int:
        """How many waiting occurrences are of things that a mirror made of subjects it does not know, or lost ones."""

    def begin_runs(self, occurrences: Sequence[Occurrence], at: str) -> list[Occurrence]:
        """Gives each a run, the one it had if it was begun before."""

    def drop(self, occurrence: Occurrence, reason: str) -> None:
        """Ends an occurrence without a run: its subject is gone or left the set."""

    def journal_of(self, run: int) -> list[JournalEntry]:
        """What an unfinished run has done so far."""

    def next_effect(self) -> int:
        """The first free effect number."""

    def commit(self, journal: Journal) -> None:
        """Writes one round of a group."""

    def last_run_of(self, occurrence: Occurrence) -> int:
        """The newest run of an occurrence, 0 if it never ran; its own if it is begun."""

    def reads_of(self, run: int) -> dict[tuple[str, int], list[Found]]:
        """What the look-ups of a run found, by step and ordinal."""

    def hold(self, occurrence: Occurrence, reason: str, tries: int = 0) -> None:
        """Notes why a begun run cannot go on now, and how often it was tried; it stays waiting."""

    def begin_undo(self, record: RunRecord, at: str) -> int:
        """Begins the run that takes back another one; answers its number."""

    def verbs_since(self, workflow: str, since: str) -> dict[str, int]:
        """How many effects of each verb runs of a workflow have had that began since then."""

    def newest_number(self) -> int:
        """The number of the newest occurrence, 0 if there is none."""

    def begin_manual_run(
        self, workflow: str, place: str, person: str, at: str, kind: str = "presence", label: str = ""
    ) -> int:
        """Begins a run that no occurrence sets off: a presence comes back, or somebody asks in words (kind "request",
        the words in place of the person); answers its number."""

    def end_manual_run(self, number: int, outcome: str, reason: str) -> None:
        """Ends it."""

    def end_undo(self, number: int, record: RunRecord, outcome: str, reason: str) -> None:
        """Ends it: the run is marked as undone, and its subject held until a person changes it."""

    def note_undone(self, number: int, record: RunRecord) -> None:
        """Marks a run as undone by another one, and holds its subject until a person changes it."""

    def forget_messages(self, place: str, before: str) -> None:
        """Forgets what was heard at a chat before then."""

    def has_made(self, place: str) -> bool:
        """Whether we know of anything that was made at a place."""

    def made(self, place: str, lineage: str) -> MadeThing | None:
        """The newest thing of a lineage that we know of."""

    def was_lost_since_made(self, place: str, subject: str, lineage: str, making: Sequence[str]) -> bool:
        """Whether a subject went after the newest thing of that lineage was made of it, by an effect of these verbs."""

    def mark_of(self, place: str, uid: str) -> str:
        """The lineage of the thing of that UID as the ledger knows it, empty if it does not."""

    def marks_made(self, place: str, prefix: str) -> dict[str, str]:
        """The lineages that begin so of which we know a thing at the place, each with the newest thing's UID."""

    def begin_save(self, intent: SaveIntent, effects: Sequence[int]) -> int:
        """Commits that a file is about to be replaced."""

    def end_save(self, number: int, state: str) -> None:
        """Notes what became of it."""

    def open_saves(self) -> list[tuple[int, SaveIntent, list[int]]]:
        """Saves whose end was never noted."""

    def effects(self, numbers: Sequence[int]) -> dict[int, tuple[int, Effect]]:
        """Effects by number, each with its run."""

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

    def runs_set_off(self, run: int) -> list[int]:
        """The runs that what a run wrote has set off, newest first."""

    def effects_done(self, run: int) -> list[JournalEntry]:
        """What a run did, with receipts, in order."""

    def counts(self) -> dict[str, Any]:
        """How much it holds, for people."""
