"""Days in a trigger by the clock: weekdays, names of days, days of the month, the n-th such weekday of the month."""

from __future__ import annotations

import re
from datetime import date, timedelta

from whenvoca.language.faults import Spot
from whenvoca.language.tree import Days
from whenvoca.values.weekdays import NAMES

_GROUPS = {"weekdays": (0, 1, 2, 3, 4), "weekends": (5, 6), "weekend": (5, 6), "every day": tuple(range(7))}
_NTHS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}
_SPLIT = re.compile(r"\s*(?:,|\band\b|\bor\b)\s*", re.IGNORECASE)
_TAIL = re.compile(r"\s+of (?:the|each|every) month\Z")


class NoDays(ValueError):
    """A text that names no days."""


def parse_days(text: str, spot: Spot) -> Days:
    """The days that a text names. Raises NoDays with a sentence on what is wrong."""
    weekdays: list[int] = []
    days: list[int] = []
    nths: list[tuple[int, int]] = []
    for piece in filter(None, _SPLIT.split(" ".join(text.lower().split()))):
        said = _TAIL.sub("", piece).removeprefix("the ")
        first, _, rest = said.partition(" ")
        number = re.fullmatch(r"(?:day )?(\d{1,2})(?:st|nd|rd|th)?", said)
        if said in _GROUPS:
            weekdays += _GROUPS[said]
        elif said.removesuffix("s") in NAMES:
            weekdays.append(NAMES.index(said.removesuffix("s")))
        elif number and 1 <= int(number[1]) <= 31:
            days.append(int(number[1]))
        elif said == "last day":
            days.append(-1)
        elif first in _NTHS and rest in NAMES:
            nths.append((_NTHS[first], NAMES.index(rest)))
        else:
            raise NoDays(f'"{piece}" is no day')
    if not (weekdays or days or nths):
        raise NoDays("no day is named")
    return Days(spot, tuple(dict.fromkeys(weekdays)), tuple(dict.fromkeys(days)), tuple(dict.fromkeys(nths)))


def is_among(days: Days, day: date) -> bool:
    """Whether a day is one of those named."""
    if day.weekday() in days.weekdays or day.day in days.days:
        return True
    is_last = (day + timedelta(days=1)).month != day.month
    if is_last and -1 in days.days:
        return True
    nth = (day.day - 1) // 7 + 1
    is_last_such = (day + timedelta(days=7)).month != day.month
    return (nth, day.weekday()) in days.nths or (is_last_such and (-1, day.weekday()) in days.nths)
