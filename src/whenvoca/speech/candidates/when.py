"""When an event is, as one candidate reads it."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from msgspec import Struct, field

from whenvoca.speech.chart.piece import Piece


class When(Struct):
    """When an event is: wall times or dates, the end exclusive; ``used`` are the pieces it was read from."""

    start: datetime | date
    end: datetime | date
    repeat: str = ""
    reminder: int | None = None
    used: list[Piece[Any]] = field(default_factory=list)
    marks: dict[str, float] = field(default_factory=dict)  # what the judge looks at
    length_said: bool = True
    left_out: tuple[datetime | date, ...] = ()  # starts that a repetition leaves out

    @property
    def is_whole(self) -> bool:
        """Whether it takes whole days."""
        return not isinstance(self.start, datetime)

    @property
    def key(self) -> tuple[Any, ...]:
        """What tells it from other readings."""
        return self.start, self.end, self.repeat, self.reminder, self.left_out
