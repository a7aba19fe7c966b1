"""Everything that was recognised in a text, side by side: the material of which readings are made."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from functools import cached_property
from typing import Any

from msgspec import Struct, field

from whenvoca.speech.chart.clocks import (
    Clock,
    Length,
    Stretch,
    read_clocks,
    read_lengths,
    read_parts,
    read_relatives,
    read_stretches,
)
from whenvoca.speech.chart.days import DayReader
from whenvoca.speech.chart.piece import LOOSE, Days, Piece
from whenvoca.speech.chart.reminders import read_reminders
from whenvoca.speech.chart.repeats import Limit, Repetition, read_limits, read_repetitions
from whenvoca.speech.chart.tokens import Text, read_tokens
from whenvoca.speech.chart.zones import Zone, read_zones

CORRECTING = frozenset("no sorry actually wait scratch rather oops correction hang meant mean instead".split())
_COMMANDING = frozenset(["make", "call"])


class Chart(Struct, dict=True):
    """The pieces of one text, seen from a wall time. ``names`` are the people who may be named, in lower case."""

    text: Text
    now: datetime  # as the clocks of the zone show it
    order: str
    names: Mapping[str, str]
    beside: list[Piece[tuple[str, datetime, str]]] = field(default_factory=list)  # after or before which event

    @cached_property
    def days(self) -> list[Piece[Days]]:
        """Days, and stretches of them."""
        return DayReader(self.now.date(), self.order).read(self.text)

    @cached_property
    def clocks(self) -> list[Piece[Clock]]:
        """Times of day."""
        return [
            each
            for each in read_clocks(self.text)
            if not any(_is_within(each, day) for day in self.days if day.form not in LOOSE)
            or each.form in ("hour and minutes", "digits")
        ]

    @cached_property
    def stretches(self) -> list[Piece[Stretch]]:
        """From one time of day to another."""
        return read_stretches(self.text, self.clocks)

    @cached_property
    def relatives(self) -> list[Piece[int]]:
        """Minutes from now on."""
        return read_relatives(self.text)

    @cached_property
    def lengths(self) -> list[Piece[Length]]:
        """Lengths."""
        return read_lengths(self.text)

    @cached_property
    def parts(self) -> list[Piece[str]]:
        """Parts of the day by themselves."""
        return [each for each in read_parts(self.text) if not any(_is_within(each, day) for day in self.days)]

    @cached_property
    def repetitions(self) -> list[Piece[Repetition]]:
        """How often."""
        return read_repetitions(self.text)

    @cached_property
    def limits(self) -> list[Piece[Limit]]:
        """How many times."""
        return read_limits(self.text)

    @cached_property
    def reminders(self) -> list[Piece[int]]:
        """Reminders, in minutes before."""
        return read_reminders(self.text, self.lengths)

    @cached_property
    def zones(self) -> list[Piece[Zone]]:
        """Zones that times are said in."""
        times: list[Piece[Any]] = [*self.clocks, *self.stretches, *self.lengths]
        return read_zones(self.text, frozenset(each.end for each in times))

    @cached_property
    def people(self) -> list[Piece[str]]:
        """People who are named, and addresses."""
        found = []
        for i, low in enumerate(self.text.lows):
            name = low.removesuffix("'s")
            dated = any(day.begin <= i < day.end and day.end - day.begin > 1 for day in self.days)
            if name in self.names and self.text.tokens[i].is_word and not dated:
                found.append(Piece(i, i + 1, self.names[name], "owner" if low.endswith("'s") else "name"))
            elif "@" in low and "." in low:
                found.append(Piece(i, i + 1, low, "address"))
        return found

    @cached_property
    def corrections(self) -> list[int]:
        """The tokens that take back what stands before them."""
        lows = self.text.lows
        return [
            i
            for i, low in enumerate(lows)
            if (low in CORRECTING and i > 0)
            or (low in _COMMANDING and lows[i + 1 : i + 2] in (["that"], ["it"]) and i > 2)
        ]


def _is_within(piece: Piece[Clock] | Piece[str], day: Piece[Days]) -> bool:
    return day.begin <= piece.begin and piece.end <= day.end


def read_chart(raw: str, now: datetime, order: str, names: Mapping[str, str]) -> Chart:
    """The pieces of a text."""
    return Chart(read_tokens(raw), now, order, names)
