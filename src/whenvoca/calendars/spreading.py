"""Jobs laid one after the other over free time: by weights, so that the last one ends with it, or by their lengths.

All is reckoned in seconds along the free time put end to end; boundaries are whole minutes, but for the very last.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from itertools import accumulate

from whenvoca.calendars.free_time import Span, free_spans, joined

_MINUTE = 60


class NoRoom(Exception):
    """The free time does not hold what is laid over it."""


class FreeLine:
    """Free stretches put end to end: ``length`` in seconds. Those shorter than ``least`` are left out."""

    def __init__(self, windows: Sequence[Span], busy: Sequence[Span], least: int = 0) -> None:
        last = windows[-1][1] if windows else None
        found = [span for window in windows for span in free_spans(window, joined(busy))]
        whole = ((_up(begin), end if end == last else _down(end)) for begin, end in found)
        self.spans = [(a, b) for a, b in whole if a < b and _seconds(a, b) >= least]
        self._ends = list(accumulate(_seconds(a, b) for a, b in self.spans))

    @property
    def length(self) -> int:
        """All the free time."""
        return self._ends[-1] if self._ends else 0

    def pieces(self, begin: int, end: int) -> list[Span]:
        """The moments between two points of the line, cut where it is."""
        found = []
        index = bisect_right(self._ends, begin)
        while index < len(self.spans) and begin < end:
            first = self._ends[index - 1] if index else 0
            upto = min(end, self._ends[index])
            start = self.spans[index][0]
            found.append((start + timedelta(seconds=begin - first), start + timedelta(seconds=upto - first)))
            begin, index = upto, index + 1
        return found

    def stretch_end(self, at: int) -> int:
        """Where the stretch that holds a point ends."""
        return self._ends[min(bisect_right(self._ends, at), len(self._ends) - 1)]

    def joins(self) -> Sequence[int]:
        """Where stretches meet."""
        return self._ends[:-1]


def lay_by_weights(line: FreeLine, weights: Sequence[Fraction], pause: int, least: int) -> list[list[Span]]:
    """The pieces of each job, their lengths as the weights, with pauses between them. Raises NoRoom."""
    pauses, count = pause * (len(weights) - 1), len(weights)
    shared = line.length - pauses
    if shared < max(least, _MINUTE) * count:
        raise NoRoom
    total = sum(weights)
    ends = [_rounded(shared * part / total) + pause * index for index, part in enumerate(accumulate(weights))]
    ends[-1] = line.length
    begins = [0, *(_rounded(Fraction(end + pause)) for end in ends[:-1])]
    _mend_slivers(begins, ends, line.joins(), least)
    if any(end - begin < max(least, 1) for begin, end in zip(begins, ends, strict=True)):
        raise NoRoom
    return [line.pieces(begin, end) for begin, end in zip(begins, ends, strict=True)]


def _mend_slivers(begins: list[int], ends: list[int], joins: Sequence[int], least: int) -> None:
    """Moves boundaries to where stretches meet, where a piece shorter than ``least`` would be cut off there."""
    for index in range(len(ends) - 1):
        for at in (begins[index + 1], ends[index]):
            near = _nearest(joins, at)
            if near is not None and 0 < abs(near - at) < least:
                begins[index + 1] += near - at
                ends[index] += near - at
                break


def _nearest(joins: Sequence[int], at: int) -> int | None:
    around = joins[max(0, bisect_left(joins, at) - 1) : bisect_left(joins, at) + 1]
    return min(around, key=lambda join: abs(join - at), default=None)


def lay_by_lengths(line: FreeLine, lengths: Sequence[int], pause: int, least: int) -> list[list[Span] | None]:
    """The pieces of each job, with pauses between them; None for one that does not fit any more."""
    found: list[list[Span] | None] = []
    at = 0
    for length in lengths:
        placed = _placed(line, at, length, least)
        found.append(None if placed is None else [span for begin, end in placed for span in line.pieces(begin, end)])
        if placed is not None:
            at = placed[-1][1] + pause
    return found


def _placed(line: FreeLine, at: int, length: int, least: int) -> list[tuple[int, int]] | None:
    """Where on the line a job goes that is cut at the ends of stretches, into pieces that are long enough."""
    parts: list[tuple[int, int]] = []
    left = length
    while left:
        if at >= line.length:
            return None
        room = line.stretch_end(at) - at
        part = min(room, left)
        if 0 < left - part < least:
            part = left - least  # so that the rest is long enough
        if part < min(least, left):
            at += room
            continue
        parts.append((at, at + part))
        left -= part
        at += room if left else part
    return parts


def _seconds(begin: datetime, end: datetime) -> int:
    return round((end - begin).total_seconds())


def _rounded(seconds: Fraction) -> int:
    return round(seconds / _MINUTE) * _MINUTE


def _down(moment: datetime) -> datetime:
    return moment.astimezone(UTC).replace(second=0, microsecond=0)


def _up(moment: datetime) -> datetime:
    down = _down(moment)
    return down if down == moment else down + timedelta(minutes=1)
