"""Typed pieces of a request, as they were found among its words."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from itertools import pairwise

from msgspec import Struct, field

from whenvoca.speech.clocks import Clock, Span
from whenvoca.speech.request import Because
from whenvoca.speech.times import Days
from whenvoca.speech.words import Word


class When(Struct):
    """One stretch of time that a text names: days, a time of day, an end or a length; ``begin`` and ``end`` are its
    words."""

    begin: int
    end: int
    days: Days | None = None
    from_: Clock | None = None
    until: Clock | None = None
    until_days: Days | None = None
    length: Span | None = None
    part: str = ""
    relative: datetime | None = None  # in 20 minutes
    open_end: str = ""  # "after" or "before" a time of day
    is_led: bool = False  # at, from or the like stands before the time of day

    @property
    def is_clock_only(self) -> bool:
        """Whether a time of day was said and no day: my 3pm."""
        return (
            self.days is None
            and self.relative is None
            and self.from_ is not None
            and self.until is None
            and not self.open_end
        )


class Pieces(Struct):
    """Everything that was found, and which words it claims."""

    words: Sequence[Word]
    whens: list[When] = field(default_factory=list)
    length: Span | None = None
    repeat: str = ""
    repeat_until: date | None = None
    reminder: int | None = None
    people: list[str] = field(default_factory=list)
    claimed: set[int] = field(default_factory=set)
    because: list[Because] = field(default_factory=list)

    def claim(self, begin: int, end: int, read_as: str) -> None:
        """These words are read as that."""
        self.claimed |= set(range(begin, end))
        while begin < end and self.words[begin].low in (",", ";", "-"):
            begin += 1
        if end > begin:
            first, last = self.words[begin], self.words[end - 1]
            said = first.text
            for before, word in pairwise(self.words[begin:end]):
                said += word.text if word.begin == before.end else f" {word.text}"
            self.because.append(Because(said, (first.begin, last.end), read_as))


def said_as(when: When) -> str:
    """A stretch as it is told: 2027-03-18 10:40."""
    parts = []
    if when.days is not None:
        parts.append(
            str(when.days.first) if when.days.first == when.days.last else f"{when.days.first} to {when.days.last}"
        )
    if when.from_ is not None:
        parts.append(f"{when.from_.at:%H:%M}")
    if when.until is not None:
        parts.append(f"to {when.until.at:%H:%M}")
    if when.part:
        parts.append(when.part)
    return " ".join(parts)
