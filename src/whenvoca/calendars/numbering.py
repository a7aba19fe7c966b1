"""Numbers for events in a row: which each gets, as it is now, or as it has kept it."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence


def closed_numbers(count: int, first: int, step: int) -> list[int]:
    """The numbers of so many events, without a gap."""
    return [first + index * step for index in range(count)]


def kept_numbers(before: Sequence[int | None], first: int, step: int) -> list[int]:
    """The numbers of events that had these before (None: it is new), in their order now.

    Each keeps its own as far as they still rise; what came between takes a number that is free there, else the later
    ones make room. What has these numbers keeps them all.
    """
    steps = [None if own is None or (own - first) % step else (own - first) // step for own in before]
    kept = _longest_rise(steps)
    found, following = [], 0
    for index, own in enumerate(steps):
        if own is not None and index in kept:
            following = max(own, following)
        found.append(first + following * step)
        following += 1
    return found


def _longest_rise(values: Sequence[int | None]) -> set[int]:
    """Where the values stand that rise, as many of them as can be; none below 0."""
    lasts: list[int] = []  # of each length the least last value
    at: list[int] = []  # where it stands
    before: dict[int, int | None] = {}
    for index, value in enumerate(values):
        if value is None or value < 0:
            continue
        length = bisect_left(lasts, value)
        before[index] = at[length - 1] if length else None
        lasts[length:], at[length:] = [value], [index]
    return _chain(at[-1] if at else None, before)


def _chain(last: int | None, before: dict[int, int | None]) -> set[int]:
    found = set()
    while last is not None:
        found.add(last)
        last = before[last]
    return found
