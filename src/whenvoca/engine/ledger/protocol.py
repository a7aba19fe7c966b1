"""The ledger's protocol, by who asks: the log of observations, the book of runs, that of effects, and the schedule.

The SQLite store stands in ``sqlite``; a second one has to pass the same contract suite.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol

from whenvoca.calendars.event import Event
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.records import (
    Arrival,
    Claim,
    CurrentStates,
    Job,
    Journal,
    JournalEntry,
    KeptEntry,
    MadeThing,
    Observation,
    Occurrence,
    ReadPosition,
    RunRecord,
    Sample,
    StateChange,
)
from whenvoca.engine.place_protocols import Found, Resource, RowState, SaveIntent
from whenvoca.engine.row_hashes import RowHashes
from whenvoca.reports.runs import RunEnd


class Transactions(Protocol):
    """What every part of the ledger shares. Raises PlaceTrouble where it cannot be kept."""

    def transaction(self) -> AbstractContextManager[None]:
        """Everything inside is committed together, durably, or not at all."""

    def close(self) -> None:
        """Ends the use of it."""

    def meta(self, name: str) -> str:
        """A remembered word, empty if there is none."""

    def set_meta(self, name: str, value: str) -> None:
        """Remembers a word."""

    def prune(self, before: str) -> int:
        """Forgets what is older than that moment (RFC 3339, UTC) and not needed any more; answers how many runs."""


class ObservationLog(Transactions, Protocol):
    """What was seen of places, in order, and how far workflows have looked."""

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

    def forget_messages(self, place: str, before: str) -> None:
        """Forgets what was heard at a chat before then."""

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

    def places(self) -> set[str]:
        """The names of all places that it knows something of."""

    def rename_place(self, old: str, new: str) -> None:
        """Calls a place otherwise in everything that is known of it."""

    def rename_subjects(self, place: str, names: Mapping[str, str]) -> None:
        """Calls the subjects of a sheet by other keys, and what was made of them by the lineages that follow."""


class RunBook(Transactions, Protocol):
    """Occurrences, and the runs that they made."""

    def add_occurrences(self, occurrences: Iterable[Occurrence], *, once: bool = True, revive: bool = False) -> int:
        """Records occurrences; ``once``: of subjects that have none waiting; ``revive``: known ones that have ended
        wait again. Answers how many."""

    def newest(self, workflow: str, place: str, subject: str) -> int:
        """The number of the newest occurrence of a subject, 0 if there is none."""

    def wake(self, number: int) -> None:
        """Makes an occurrence that has ended wait again, with a run of its own."""

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

    def hold(self, occurrence: Occurrence, reason: str, tries: int = 0) -> None:
        """Notes why a begun run cannot go on now, and how often it was tried; it stays waiting."""

    def newest_number(self) -> int:
        """The number of the newest occurrence, 0 if there is none."""

    def last_run_of(self, occurrence: Occurrence) -> int:
        """The newest run of an occurrence, 0 if it never ran; its own if it is begun."""

    def begin_undo(self, record: RunRecord, at: str) -> int:
        """Begins the run that takes back another one; answers its number."""

    def end_undo(self, number: int, record: RunRecord, outcome: str, reason: str) -> None:
        """Ends it: the run is marked as undone, and its subject held until a person changes it."""

    def note_undone(self, number: int, record: RunRecord) -> None:
        """Marks a run as undone by another one, and holds its subject until a person changes it."""

    def begin_manual_run(
        self, workflow: str, place: str, person: str, at: str, kind: str = "presence", label: str = ""
    ) -> int:
        """Begins a run that no occurrence sets off: a presence comes back, or somebody asks in words (kind "request",
        the words in place of the person); answers its number."""

    def end_manual_run(self, number: int, outcome: str, reason: str) -> None:
        """Ends it."""

    def begun_runs(self, kind: str) -> list[RunRecord]:
        """The runs of a kind that were begun and did not end: the program was killed."""

    def failed_writes(self, workflow: str) -> dict[str, list[Effect]]:
        """Subjects whose newest ended run failed or was undone, each with what was done in it."""

    def failed_writes_before(self, record: RunRecord) -> list[Effect]:
        """What failed runs about its subject had done when the run began."""

    def undone_subjects(self, workflow: str) -> list[str]:
        """Subjects whose newest ended run was taken back, so that they are held until a person changes them."""

    def count_unanswered(self, workflow: str) -> int:
        """How many subjects' newest ended run failed, and was not taken back."""

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

    def run_ends(self, begin: str, end: str) -> Iterator[RunEnd]:
        """How the runs that began between two moments (RFC 3339, in UTC) ended, undoing left out; in order."""

    def runs_set_off(self, run: int) -> list[int]:
        """The runs that what a run wrote has set off, newest first."""


class EffectBook(Transactions, Protocol):
    """Effects with their receipts, what they made, and the saves of files behind them."""

    def next_effect(self) -> int:
        """The first free effect number."""

    def commit(self, journal: Journal) -> None:
        """Writes one round of a group."""

    def journal_of(self, run: int) -> list[JournalEntry]:
        """What an unfinished run has done so far."""

    def effects_done(self, run: int) -> list[JournalEntry]:
        """What a run did, with receipts, in order."""

    def was_told(self, run: int, place: str, target: str) -> bool:
        """Whether an earlier run of the same occurrence has done that effect."""

    def written(self, workflow: str, subject: str, place: str, target: str) -> dict[str, Any]:
        """The fields of a thing that runs of a workflow about a subject made, as they last wrote them, or meant to
        make it where no answer came; empty if they did not make it."""

    def effects(self, numbers: Sequence[int]) -> dict[int, tuple[int, Effect]]:
        """Effects by number, each with its run."""

    def reads_of(self, run: int) -> dict[tuple[str, int], list[Found]]:
        """What the look-ups of a run found, by step and ordinal."""

    def verbs_since(self, workflow: str, since: str) -> dict[str, int]:
        """How many effects of each verb runs of a workflow have had that began since then."""

    def has_made(self, place: str) -> bool:
        """Whether we know of anything that was made at a place."""

    def made(self, place: str, lineage: str) -> MadeThing | None:
        """The newest thing of a lineage that we know of."""

    def was_lost_since_made(self, place: str, subject: str, lineage: str) -> bool:
        """Whether a subject went after the newest thing of that lineage was made of it."""

    def mark_of(self, place: str, uid: str) -> str:
        """The lineage of the thing of that UID as the ledger knows it, empty if it does not."""

    def marks_made(self, place: str, prefix: str) -> dict[str, str]:
        """The lineages that begin so of which we know a thing at the place, each with the newest thing's UID."""

    def count_made(self, place: str, prefix: str) -> int:
        """How many lineages that begin so have a thing at the place that we have not taken away again."""

    def begin_save(self, intent: SaveIntent, effects: Sequence[int]) -> int:
        """Commits that a file is about to be replaced."""

    def end_save(self, number: int, state: str) -> None:
        """Notes what became of it."""

    def open_saves(self) -> list[tuple[int, SaveIntent, list[int]]]:
        """Saves whose end was never noted."""


class Schedule(Transactions, Protocol):
    """What every ledger keeps of time."""

    def high_water(self, workflow: str, place: str) -> str | None:
        """Up to which moment a workflow has looked for starts at a place, or at the clock; None if never."""

    def set_high_water(self, workflow: str, place: str, at: str) -> None:
        """Moves it on; it never goes back."""

    def due_starts(self, workflow: str, place: str, now: str) -> list[str]:
        """The UIDs of events whose next moment has come."""

    def keep_starts(self, workflow: str, place: str, nexts: Mapping[str, str]) -> None:
        """The next moment of each of these UIDs; empty: there is none."""

    def next_start(self, workflow: str) -> str:
        """The next moment that a workflow waits for, empty if there is none."""

    def add_missed(self, occurrences: Iterable[Occurrence], at: str) -> list[Occurrence]:
        """Records occurrences that come too late to run, each with a run that says so; answers those that are new."""

    def restart_times(self, workflow: str, at: str) -> None:
        """Lets a workflow look for moments from then on, as if for the first time: only on a copy, to play a period."""

    def forget_time(self) -> None:
        """Forgets moments that were played: nothing of that time is late, or claimed."""

    def claims(self, place: str = "", person: str = "") -> list[Claim]:
        """The claims that have not ended, oldest first."""

    def add_claim(self, claim: Claim) -> None:
        """Records a claim under its number: that of its effect, so that it is never there twice."""

    def move_claim(self, number: int, until: str) -> None:
        """The end that a claim follows has moved."""

    def end_claims(self, numbers: Iterable[int]) -> None:
        """These are over."""

    def presence(self, place: str, person: str) -> tuple[dict[str, str], dict[str, str]] | None:
        """What somebody's presence was before the first claim on it, and what we last wrote; None without a claim."""

    def keep_presence(self, place: str, person: str, before: Mapping[str, str], shown: Mapping[str, str]) -> None:
        """Remembers both."""

    def forget_presence(self, place: str, person: str) -> None:
        """No claim holds any more."""

    def pauses(self) -> dict[str, str]:
        """The workflows that are paused, by identity, each with the moment since when."""

    def pause(self, workflow: str, since: str) -> None:
        """Turns a workflow off."""

    def resume(self, workflow: str) -> None:
        """Turns it on."""

    def add_job(self, arguments: Iterable[str]) -> int:
        """Hands a command over; answers its number."""

    def next_job(self) -> Job | None:
        """The oldest command that nobody has begun; it is begun now."""

    def end_job(self, number: int, code: int, out: str, err: str) -> None:
        """What came of it."""

    def job(self, number: int) -> Job | None:
        """A job by its number."""

    def drop_job(self, number: int) -> None:
        """Forgets a job that was told, or that nobody waits for any more."""

    def drop_jobs(self) -> None:
        """Forgets all: the process that would have done them is gone."""


class IntakeBook(Transactions, Protocol):
    """What came in by forms and web calls: kept before it is answered, and looked at afterwards."""

    def next_number(self, place: str) -> int:
        """A number that the place never gave before."""

    def taken_before(self, place: str, once: str) -> str | None:
        """What is known of what came in with that word before, such as its subject; None for a word that is new."""

    def remember_once(self, place: str, once: str, word: str, at: str) -> None:
        """Remembers what came in with that word, unless the word is empty or known."""

    def put_entry(self, place: str, entry: KeptEntry, once: str = "") -> int:
        """Keeps what an entry says now; answers the number of that change. ``once`` is the word by which a repetition
        is known."""

    def entry(self, place: str, subject: str) -> KeptEntry | None:
        """An entry as it is now."""

    def newest_entry(self, place: str) -> KeptEntry | None:
        """The one that came in, or changed, last."""

    def count_entries(self, place: str) -> int:
        """How many there are that are neither withdrawn nor refused."""

    def last_arrival(self, place: str) -> int:
        """The number of the newest change at a place, 0 if there is none."""

    def arrivals(self, place: str, after: int) -> list[Arrival]:
        """The changes at a place after that one, in order."""

    def put_sample(self, place: str, sample: Sample) -> None:
        """Keeps what came in, as it was sent, instead of what came in before."""

    def sample(self, place: str) -> Sample | None:
        """What came in last, as it was sent."""

    def states_of_occurrences(self, place: str, subject: str) -> list[tuple[str, int]]:
        """Of each workflow that the newest change of the subject has started: the state of the occurrence, and its
        run."""


class Ledger(ObservationLog, EffectBook, RunBook, Schedule, IntakeBook, Protocol):
    """The whole record. Every method outside ``transaction`` is one of its own."""

    def copy(self) -> Ledger:
        """A copy in memory, to rehearse on."""
