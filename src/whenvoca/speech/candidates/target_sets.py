"""Events that may be meant together, and how well a text speaks of each."""

from __future__ import annotations

from datetime import datetime

from msgspec import Struct, field

from whenvoca.calendars.event import Event
from whenvoca.speech.chart.piece import Days, Piece
from whenvoca.speech.request import Target


class Occurrence(Struct):
    """One event at one time, with how well the text speaks of it."""

    target: Target
    start: datetime  # on the clock of who asks, without a zone
    end: datetime
    title_share: float = 0.0
    words: int = 0
    is_phrase: bool = False
    has_place: bool = False
    has_person: bool = False

    @property
    def event(self) -> Event:
        """The event itself."""
        return self.target.event


class TargetSet(Struct):
    """Events that may be meant together, and how."""

    members: list[Occurrence]
    scope: str = "this"
    marks: dict[str, float] = field(default_factory=dict)
    used: list[Piece[Days]] = field(default_factory=list)  # pieces that say which one
    words: set[int] = field(default_factory=set)  # tokens that say which one

    @property
    def first(self) -> Occurrence:
        """The first of them."""
        return self.members[0]


def stem(low: str) -> str:
    """A word without what makes it plural or an owner."""
    low = low.removesuffix("'s").removesuffix("'")
    if len(low) > 4 and low.endswith("ies"):
        return f"{low[:-3]}y"
    if len(low) > 3 and low.endswith("s") and not low.endswith("ss"):
        return low[:-1]
    return low


STOP_WORDS = frozenset(
    """
    the a an of for with and at in on to my our your his her its is are be it this that no not off up out by from
    meeting appointment event call visit thing session bit one ones day days time all both mr mrs dr s entry entries
    i me we you he she they
""".split()
)


EVERYTHING = frozenset(
    """
        everything all anything whatever entries engagements appointments events meetings both things stuff each
        every
    """.split()
)
