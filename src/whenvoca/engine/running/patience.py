"""When a run that waits for a place is tried again: with growing pauses, so that a server that comes back is not run
down."""

from __future__ import annotations

from collections.abc import Callable

_FIRST, _LONGEST = 1.0, 300.0  # seconds


class Patience:
    """Keeps in mind, as long as a process lives, when each run is due again. ``tick`` is a clock that only goes on."""

    def __init__(self, tick: Callable[[], float]) -> None:
        self._tick = tick
        self._due: dict[int, float] = {}

    def put_off(self, occurrence: int, tries: int) -> None:
        """Its try number ``tries`` came to nothing."""
        self._due[occurrence] = self._tick() + min(_FIRST * 2 ** min(tries - 1, 20), _LONGEST)

    def is_due(self, occurrence: int) -> bool:
        """Whether it may be tried now."""
        return self._due.get(occurrence, 0.0) <= self._tick()

    def seconds(self) -> float | None:
        """How long until the next one is due; None where none waits. Those that are due are forgotten."""
        now = self._tick()
        self._due = {occurrence: due for occurrence, due in self._due.items() if due > now}
        return min(self._due.values()) - now if self._due else None
