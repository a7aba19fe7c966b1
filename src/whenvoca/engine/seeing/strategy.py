"""How triggers find what is new: what each way of waiting can do, and what it is given."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Protocol
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.engine.acting.program import Program
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.place_protocols import Source
from whenvoca.engine.seeing.clock_moments import to_span
from whenvoca.language.definitions import Strategy

JUST_BEFORE = timedelta(microseconds=1)  # a workflow that looks for the first time begins this long before now
_HOUR = timedelta(hours=1)  # how late a start or a moment of the clock may still run, unless `missed` says otherwise


class Search(Struct, frozen=True):
    """One look of a workflow for what is new to it at a place. ``zone`` is the one in which it says its times."""

    ledger: Ledger
    program: Program
    source: Source
    now: datetime
    zone: ZoneInfo
    written: Sequence[str] = ()  # columns that the workflow writes there itself
    made: Callable[[], Mapping[str, str]] = dict  # what stands of its mirrors, by subject

    @property
    def identity(self) -> str:
        """The workflow's."""
        return self.program.workflow.identity


class TakenUp(Struct):
    """What was new: how many occurrences, those that come too late to run, and what must be told: circles that were
    stopped."""

    new: int = 0
    faults: list[str] = field(default_factory=list)
    missed: list[Occurrence] = field(default_factory=list)


class TriggerStrategy(Strategy, Protocol):
    """A way of waiting."""

    def take_up(self, search: Search) -> TakenUp:
        """Enters the occurrences among what the workflow has not looked at yet."""

    def next_due(self, ledger: Ledger, program: Program, now: datetime, zone: ZoneInfo) -> datetime | None:
        """When the workflow has to look again by itself, None if nothing is known to come."""


class ByHand(TriggerStrategy):
    """Somebody starts it: nothing is ever new by itself."""

    is_timed, is_by_hand = False, True

    def take_up(self, search: Search) -> TakenUp:
        return TakenUp()

    def next_due(self, ledger: Ledger, program: Program, now: datetime, zone: ZoneInfo) -> datetime | None:
        return None


BY_HAND = ByHand()


def missed_after(program: Program) -> timedelta:
    """How late the workflow may still run."""
    node = program.workflow.settings.missed
    return _HOUR if node is None else to_span(node).to_timedelta()


def to_mark(moment: datetime) -> str:
    """A moment as the ledger keeps it: UTC, in an order that texts have too."""
    return moment.astimezone(UTC).isoformat(timespec="microseconds")
