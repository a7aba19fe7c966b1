"""The ledger's face for time: how far triggers have looked, the next starts, claims on presence, pauses and jobs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Protocol

from msgspec import Struct

if TYPE_CHECKING:
    from whenvoca.engine.ledger.protocol import Occurrence


class Claim(Struct, frozen=True):
    """One claim on what somebody's presence shows. ``until`` is RFC 3339 in UTC, empty where it has no end of its own.

    ``event_field`` (start or end) of the event ``event_key`` in ``event_place`` is what the end follows, where it names
    one.
    """

    number: int
    place: str
    person: str
    run: int
    workflow: str
    shown: Mapping[str, str]
    until: str = ""
    event_place: str = ""
    event_key: str = ""
    event_field: str = ""


class Job(Struct, frozen=True):
    """A command that another process hands to the one that watches, and what came of it."""

    number: int
    arguments: tuple[str, ...]
    state: str = "waiting"  # waiting, begun, done
    code: int = 0
    out: str = ""
    err: str = ""


class Schedule(Protocol):
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
        """Lets a workflow look for its moments from then on, as if for the first time: only on a copy, to play a
        period."""

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
