"""What the ledger keeps, as plain data: observations, occurrences, runs, effects with receipts, claims and jobs."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping

from msgspec import Struct, field

from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.place_protocols import Found, RowState


class StateChange(Struct, frozen=True):
    """What a look found: a subject's state, None if it went. ``given`` is what it was, where it was never observed
    itself but followed from another (an occurrence from its series). ``is_quiet``: it goes without being told."""

    subject: str
    state: RowState | None
    given: RowState | None = None
    is_quiet: bool = False


class KeptEntry(Struct, frozen=True):
    """What an entry of a form, or what web calls are about, says now; ``state`` is None where it was withdrawn. ``at``
    is RFC 3339."""

    subject: str
    number: int
    at: str
    state: RowState | None
    is_refused: bool = False


class Sample(Struct, frozen=True):
    """What came in last at a form or a hook, as it was sent: its content type and its body. ``at`` is RFC 3339."""

    at: str
    kind: str
    body: str


class Arrival(Struct, frozen=True):
    """One change of an entry, as it came in."""

    sequence: int
    subject: str
    at: str
    state: RowState | None


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
    refused: list[tuple[str, str]] = field(default_factory=list)  # subjects to which a workflow said no
    ended: list[tuple[Occurrence, str, str, int]] = field(default_factory=list)  # outcome, reason, milliseconds
    # runs whose intents without receipt are of a way they did not take again
    abandoned: list[int] = field(default_factory=list)
    reads: list[tuple[int, str, int, list[Found]]] = field(default_factory=list)  # run, step, ordinal, what was found


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
