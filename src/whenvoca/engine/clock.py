"""The one place that time comes from. Everything else is given a clock."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from typing import Protocol


class Clock(Protocol):
    """The moment for workflows, and waiting in real time."""

    is_played: bool  # it stands where somebody put it

    def now(self) -> datetime:
        """The current moment, aware, in UTC."""

    def wall_seconds(self) -> float:
        """Real seconds since the epoch, to compare with the times of files; never a workflow's moment."""

    def tick(self) -> float:
        """Seconds of a clock that only goes forward, for measuring."""

    def wait(self, seconds: float) -> None:
        """Lets real time pass."""


class RealClock(Clock):
    """The clock of the machine."""

    is_played = False

    def now(self) -> datetime:
        return datetime.now(UTC)

    def wall_seconds(self) -> float:
        return time.time()

    def tick(self) -> float:
        """A monotonic reading in seconds."""
        return time.perf_counter()

    def wait(self, seconds: float) -> None:
        time.sleep(seconds)


class PlayedClock(RealClock):
    """A clock that stands at a given moment (``--now``) until it is moved on; waiting still takes real time."""

    is_played = True

    def __init__(self, moment: datetime) -> None:
        self._moment = moment.astimezone(UTC)

    def move_to(self, moment: datetime) -> None:
        """Moves on; never back."""
        self._moment = max(self._moment, moment.astimezone(UTC))

    def now(self) -> datetime:
        """The moment it stands at."""
        return self._moment
