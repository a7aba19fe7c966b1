"""One candidate for a change of events that stand."""

from __future__ import annotations

from typing import Any

from msgspec import Struct, field

from whenvoca.speech.candidates.spans import Span
from whenvoca.speech.candidates.target_sets import TargetSet
from whenvoca.speech.chart.piece import Piece


class Change(Struct):
    """One candidate: the changes by name, for each member of a set its own, and what the judge looks at."""

    targets: TargetSet
    changes: dict[str, Any]
    each: list[dict[str, Any]] = field(default_factory=list)  # for several members
    marks: dict[str, float] = field(default_factory=dict)
    used: list[Piece[Any]] = field(default_factory=list)
    spans: list[Span] = field(default_factory=list)
