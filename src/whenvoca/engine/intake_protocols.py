"""The protocol of places that things come in by, from outside: forms and hooks."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Protocol

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import Place


def _nobody() -> None:
    """Nobody listens yet."""


class IntakePlace(Place, Protocol):
    """A form or a hook: what comes in by it stands in the ledger before anybody looks."""

    _wake: Callable[[], None] = staticmethod(_nobody)

    def listen(self, wake: Callable[[], None]) -> None:
        """From now on ``wake`` is called, from another thread, when something has come in."""
        self._wake = wake

    def wake(self) -> None:
        """Something has come in."""
        self._wake()

    def put_sample(self, ledger: Ledger, path: Path, now: datetime) -> None:
        """Puts what the file holds into a ledger, a copy, as if it had come in. Raises RequestFault."""

    def close(self) -> None:
        """Nothing is kept open."""
        return
