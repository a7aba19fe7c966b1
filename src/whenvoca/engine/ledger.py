"""The ledger's face: what is asked of the record of observations, occurrences, runs and effects.

The SQLite backing stands in ``ledger_sqlite``; a second one has to pass the same contract suite.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any, Protocol

from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.faces import RowState, SaveIntent


@dataclass(frozen=True, slots=True)
class Observation:
    """One change seen at a place: the subject's state before and after, None where it did not stand."""

    sequence: int
    place: str
    subject: str
    old: RowState | None
    new: RowState | None
    cause_workflow: str = ""  # the workflow that made it, empty for another hand
    chain: tuple[str, ...] = ()  # the workflows that led to it, first to last


@dataclass(frozen=True, slots=True)
class Occurrence:
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


@dataclass(frozen=True, slots=True)
class JournalEntry:
    """An effect of an unfinished run: its key, its number, and its receipt if there is one."""

    number: int
    key: EffectKey
    effect: Effect
    receipt: Receipt | None


@dataclass(frozen=True, slots=True)
class RunRecord:
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
    effects: tuple[Effect, ...] = ()


@dataclass(frozen=True, slots=True)
class MadeThing:
    """A thing that we made and know of: the n-th of its lineage, with the version we last wrote."""

    uid: str
    number: int
    version: str


@dataclass(slots=True)
class Journal:
    """What one round of a group commits together: new intents, receipts of the round before, runs that ended."""

    intents: list[tuple[int, int, EffectKey, Effect]] = field(default_factory=list)  # (effect number, run, …)
    receipts: list[tuple[int, Effect, Receipt]] = field(default_factory=list)
    failures: list[tuple[int, str]] = field(default_factory=list)
    ended: list[tuple[Occurrence, str, str, int]] = field(default_factory=list)  # outcome, reason, milliseconds


class Ledger(Protocol):
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

    def standing(self, place: str) -> dict[str, RowState]:
        """The subjects of a place as last observed."""

    def standing_sequences(self, place: str) -> Iterator[tuple[str, int]]:
        """All subjects that stand, in the order they were seen, with the number of the observation."""

    def observe(
        self,
        place: str,
        changes: Iterable[tuple[str, RowState | None]],
        cursor: str,
        at: str,
        cause: Mapping[str, int] | int = 0,
    ) -> int:
        """Records changes and the place's new cursor; answers how many there were. ``cause`` is a run, or one a subject."""  # fmt: skip

    def last_sequence(self, place: str) -> int:
        """The number of the newest observation of a place, 0 if there is none."""

    def reader(self, workflow: str, place: str) -> int | None:
        """Up to which observation a workflow has looked; None if it never did."""

    def set_reader(self, workflow: str, place: str, sequence: int) -> None:
        """Remembers up to which observation a workflow has looked."""

    def observations(self, place: str, after: int, but_by: str = "") -> Iterator[Observation]:
        """The observations of a place after a number, in order, those left out that one workflow made itself."""

    def failed_writes(self, workflow: str) -> dict[str, list[Effect]]:
        """Subjects whose newest ended run failed, each with the row effects of that run."""

    def add_occurrences(self, occurrences: Iterable[Occurrence]) -> int:
        """Records occurrences that are not known yet, of subjects that have none waiting; answers how many were new."""

    def waiting(self, workflow: str, limit: int, after: int = 0) -> list[Occurrence]:
        """Occurrences that are not dealt with, oldest first, whose number is above ``after``."""

    def has_unfinished(self) -> bool:
        """Whether runs were begun and not ended, as after a crash."""

    def count_waiting(self, workflow: str) -> int:
        """How many occurrences are not dealt with."""

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

    def hold(self, occurrence: Occurrence, reason: str) -> None:
        """Notes why a begun run cannot go on now; it stays waiting."""

    def has_made(self, place: str) -> bool:
        """Whether we know of anything that was made at a place."""

    def made(self, place: str, lineage: str) -> MadeThing | None:
        """The newest thing of a lineage that we know of."""

    def begin_save(self, intent: SaveIntent, effects: Sequence[int]) -> int:
        """Commits that a file is about to be replaced."""

    def end_save(self, number: int, state: str) -> None:
        """Notes what became of it."""

    def open_saves(self) -> list[tuple[int, SaveIntent, list[int]]]:
        """Saves whose end was never noted."""

    def effects(self, numbers: Sequence[int]) -> dict[int, tuple[int, Effect]]:
        """Effects by number, each with its run."""

    def runs(self, *, workflow: str = "", failed: bool = False, since: str = "", limit: int = 50) -> list[RunRecord]:
        """The history, newest first."""

    def counts(self) -> dict[str, Any]:
        """How much it holds, for people."""
