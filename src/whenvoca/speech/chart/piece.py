"""One typed piece of a text: which words it takes, what they may mean, and by which form they were read."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import date, timedelta
from functools import lru_cache
from typing import Any, Generic, TypeVar

from msgspec import Struct

from whenvoca.speech.chart.tokens import Text

DAY = timedelta(days=1)


V = TypeVar("V", covariant=True)


class Piece(Struct, Generic[V], frozen=True):
    """A reading of the tokens from ``begin`` to ``end``; ``form`` names the pattern, for the judge and for a reader."""

    begin: int
    end: int
    value: V
    form: str

    def overlaps(self, other: Piece[Any]) -> bool:
        """Whether both take a token."""
        return self.begin < other.end and other.begin < self.end


class Days(Struct, frozen=True):
    """Days that are named, the last one counted in. ``doubt``: what has to be asked about them."""

    first: date
    last: date
    is_period: bool = False  # a week, a month: a stretch to look at, rarely a length of an event
    part: str = ""  # tonight, tomorrow morning
    doubt: str = ""
    is_past: bool = False


Forms = Mapping[str, tuple[str, Callable[[re.Match[str]], V | None]]]


@lru_cache(maxsize=512)
def _whole(pattern: str) -> re.Pattern[str]:
    """The pattern where it takes whole words; compiled when it is first wanted, which keeps the import short."""
    return re.compile(rf"(?<![a-z0-9])(?:{pattern})(?![a-z0-9])")


LOOSE = ("weekday number", "day number", "week number")  # may as well be something shorter


def longest(pieces: Iterable[Piece[V]]) -> list[Piece[V]]:
    """The pieces that do not lie within a longer one which is surely meant."""
    found = sorted(pieces, key=lambda each: (each.begin, -each.end))
    kept: list[Piece[V]] = []
    for each in found:
        if not any(_holds(k, each) for k in kept if k.form not in LOOSE) and not any(
            k.begin == each.begin and k.end == each.end and k.value == each.value for k in kept
        ):
            kept.append(each)
    return kept


def _holds(long: Piece[V], short: Piece[V]) -> bool:
    is_longer = (long.end - long.begin) > (short.end - short.begin)
    return is_longer and long.begin <= short.begin and short.end <= long.end


def read_forms(text: Text, forms: Forms[V]) -> Iterator[Piece[V]]:
    """Every piece that one of the forms reads."""
    for name, (pattern, build) in forms.items():
        for begin, end, match in text.find(_whole(pattern)):
            value = build(match)
            if value is not None:
                yield Piece(begin, end, value, name)
