"""Times of day and lengths in a request, each read from a place among its words.

Every reader answers what it found and behind which word it ends, or None. The rules are written in docs/speech.md.
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Sequence
from datetime import datetime, time, timedelta

from msgspec import Struct

from whenvoca.speech.words import UNITS, Word, number_of

_CLOCK = re.compile(r"(\d{1,2})[:.](\d{2})\Z")
_PARTS = {
    "morning": (6, 12),
    "afternoon": (12, 18),
    "evening": (18, 22),
    "night": (18, 24),
    "lunch": (12, 13),
    "lunchtime": (12, 13),
}


class Clock(Struct, frozen=True):
    """A time of day. ``is_open``: an hour without am or pm, so that the part of the day may still decide."""

    at: time
    is_open: bool = False
    is_marked: bool = False  # am or pm stands behind it


class Span(Struct, frozen=True):
    """A length: whole days on the calendar, minutes on the clock."""

    minutes: int = 0
    days: int = 0
    months: int = 0

    def told(self) -> str:
        """As it is shown: 1 month 2 days 30 min."""
        parts = ((self.months, "months"), (self.days, "days"), (self.minutes, "min"))
        return " ".join(f"{number} {unit}" for number, unit in parts if number) or "nothing"

    def added_to(self, moment: datetime) -> datetime:
        """The moment so much later."""
        month = moment.month - 1 + self.months
        year, month = moment.year + month // 12, month % 12 + 1
        day = min(moment.day, calendar.monthrange(year, month)[1])
        return moment.replace(year=year, month=month, day=day) + timedelta(days=self.days, minutes=self.minutes)


class ClockReader(Struct):
    """Reads words as times of day and lengths, seen from ``now`` (a wall time)."""

    words: Sequence[Word]
    now: datetime

    def low(self, i: int) -> str:
        """The word at a place, empty behind the end."""
        return self.words[i].low if 0 <= i < len(self.words) else ""

    # --- clock times

    def clock(self, i: int, *, bare: bool = False) -> tuple[int, Clock] | None:
        """A time of day; ``bare``: a number alone may be one."""
        low = self.low(i)
        if low in ("noon", "midday"):
            return i + 1, Clock(time(12))
        if low == "midnight":
            return i + 1, Clock(time(0))
        if low in ("half", "quarter", "ten", "five", "twenty") and self.low(i + 1) in ("past", "to", "after"):
            return self._spoken(i, i + 1)
        if low == "half" and i + 1 < len(self.words) and self.low(i + 1) not in ("a", "an", "past", "to"):
            hour = number_of(self.words[i + 1])
            # half nine is half past nine
            if hour is not None and 1 <= hour <= 12 and hour == int(hour) and self.low(i + 2) not in UNITS:
                return self._with_mark(i + 2, int(hour), 30)
        if low in ("a",) and self.low(i + 1) == "quarter":
            return self.clock(i + 1)
        if (
            low in ("10", "5", "20", "25")
            and self.low(i + 1) in ("minutes", "min")
            and self.low(i + 2) in ("past", "to")
        ):
            return self._spoken(i, i + 2)
        if low.isdecimal() and int(low) < 30 and self.low(i + 1) == "past":
            return self._spoken(i, i + 1)
        if found := _CLOCK.match(low):
            read = self._with_mark(i + 1, int(found[1]), int(found[2]), is_long=True)
            if read is not None and low.startswith("0"):  # a nought in front is of the 24-hour clock
                return read[0], Clock(read[1].at)
            return read
        if low.isdecimal():
            return self._digits(i, low, bare=bare)
        number = number_of(self.words[i]) if i < len(self.words) and low not in ("a", "an", "couple", "few") else None
        minute = number_of(self.words[i + 1]) if i + 1 < len(self.words) and self.low(i + 1).isalpha() else None
        is_minute = minute is not None and 10 <= minute < 60 and self.low(i + 2) not in UNITS
        if number is not None and number <= 23 and number == int(number) and bare and is_minute and minute is not None:
            return self._with_mark(i + 2, int(number), int(minute))
        if number is not None and number <= 12 and (bare or self.low(i + 1) in ("o'clock", "am", "pm", "oclock")):
            return self._with_mark(i + 1, int(number), 0)
        return None

    def _spoken(self, i: int, at: int) -> tuple[int, Clock] | None:
        minutes = {"half": 30, "quarter": 15}.get(self.low(i)) or int(number_of(self.words[i]) or 0)
        rest = self.clock(at + 1, bare=True)
        if rest is None:
            return None
        end, clock = rest
        moment = datetime.combine(self.now.date(), clock.at) + timedelta(
            minutes=-minutes if self.low(at) == "to" else minutes
        )
        return end, Clock(moment.time(), clock.is_open)

    def _digits(self, i: int, low: str, *, bare: bool) -> tuple[int, Clock] | None:
        after = self.low(i + 1)
        joined = i + 1 < len(self.words) and self.words[i + 1].begin == self.words[i].end
        is_length = int(low) <= 6 and self.low(i - 1) not in (
            "at",
            "from",
            "until",
            "till",
            "to",
            "by",
            "before",
            "after",
            "-",
        )
        is_length = is_length and (not self.low(i + 2).isdecimal() or self.low(i - 1) in (",", "(", "for"))
        if after == "h" and joined and len(low) <= 2 and not is_length:
            minutes = self.low(i + 2)
            if minutes.isdecimal() and len(minutes) == 2 and self.words[i + 2].begin == self.words[i + 1].end:
                return (i + 3, Clock(time(int(low), int(minutes)))) if int(low) < 24 and int(minutes) < 60 else None
            return self._with_mark(i + 2, int(low), 0, is_long=True)
        if len(low) == 4 and int(low[:2]) < 24 and int(low[2:]) < 60 and (bare or after in ("am", "pm", "hrs", "-")):
            read = self._with_mark(i + 1 + (after == "hrs"), int(low[:2]), int(low[2:]), is_long=True)
            return (read[0], Clock(read[1].at)) if read is not None and low.startswith("0") else read
        if low in ("0", "00") and after not in ("am", "pm"):
            return None
        if len(low) <= 2 and (bare or after in ("am", "pm", "o'clock", "oclock", "a", "p")):
            if after in UNITS and after != "h":
                return None
            return self._with_mark(i + 1, int(low), 0)
        return None

    def _with_mark(self, i: int, hour: int, minute: int, *, is_long: bool = False) -> tuple[int, Clock] | None:
        """The time with am or pm behind it, or what stands for them."""
        if self.low(i) in ("o'clock", "oclock", "ish", "sharp") or (
            self.low(i) == "h" and is_long and i and self.words[i].begin == self.words[i - 1].end
        ):
            i += 1
        mark = self.low(i)
        if mark in ("a", "p") and self.low(i + 1) == "m":
            mark, i = mark + "m", i + 1 + (self.low(i + 2) == "." and i + 3 < len(self.words))
        if mark in ("am", "pm"):
            if not 1 <= hour <= 12:
                return None
            return i + 1, Clock(time(hour % 12 + 12 * (mark == "pm"), minute), is_marked=True)
        if hour > 23 or minute > 59:
            return None
        is_open = hour <= 12 and not (is_long and hour >= 8) and hour != 0
        return i, Clock(time(hour, minute), is_open)

    def settle(self, clock: Clock, part: str = "") -> time:
        """An open hour by the part of the day, else 1 to 7 in the afternoon, 8 to 12 as they stand."""
        at = clock.at
        if not clock.is_open:
            return at
        if part == "morning":
            return at.replace(hour=0) if at.hour == 12 else at
        if part in ("afternoon", "evening", "night"):
            if at.hour == 12:
                return at.replace(hour=0) if part in ("evening", "night") else at
            return at.replace(hour=at.hour + 12) if not (part == "night" and at.hour < 5) else at
        return at.replace(hour=at.hour + 12) if 1 <= at.hour <= 7 else at

    def part(self, i: int) -> tuple[int, str] | None:
        """A part of the day: in the morning, this evening, at night."""
        j = i + (self.low(i) in ("in", "this", "at", "during", "over", "for", "my"))
        j += self.low(j) == "the"
        word = self.low(j).rstrip("s") if self.low(j) != "" else ""
        if word in ("lunch", "lunchtime") and j == i:
            return None
        return (j + 1, word) if word in _PARTS else None

    # --- lengths

    def length(self, i: int) -> tuple[int, Span] | None:
        """A length of ten years at most."""
        found = self._any_length(i)
        if found is None or found[1].days + 31 * found[1].months + found[1].minutes // 1440 > 3660:
            return None
        return found

    def _any_length(self, i: int) -> tuple[int, Span] | None:
        """A length: 45 minutes, two hours, an hour and a half, 1h30, half an hour, 2 days."""
        low = self.low(i)
        if low == "three" and self.low(i + 1) == "quarters" and "hour" in (self.low(i + 3), self.low(i + 4)):
            return i + 4 + (self.low(i + 4) == "hour"), Span(45)
        if low == "half" and self.low(i + 1) in ("an", "a") and self.low(i + 2) == "hour":
            return i + 3, Span(30)
        if low == "half" and self.low(i + 1) == "hour":
            return i + 2, Span(30)
        if (
            low in ("quarter", "a")
            and "quarter" in (low, self.low(i + 1))
            and "hour" in (self.low(i + 2), self.low(i + 3), self.low(i + 4))
        ):
            j = next(k for k in range(i, i + 5) if self.low(k) == "hour")
            return j + 1, Span(15)
        if (
            low in ("the", "another")
            and UNITS.get(self.low(i + 1)) in ("day", "week", "hour")
            and self.low(i + 2) not in ("after", "of")
        ):
            return i + 2, _span(1, UNITS[self.low(i + 1)])
        if low == "another":
            return self._any_length(i + 1)
        if i >= len(self.words) or (number := number_of(self.words[i])) is None:
            return None
        j = i + 1
        if low == "a" and self.low(j) in ("couple", "few"):
            number, j = {"couple": 2, "few": 3}[self.low(j)], j + 1
            j += self.low(j) == "of"
        if self.low(j) == "and" and self.low(j + 1) == "a" and self.low(j + 2) == "half":
            number, j = number + 0.5, j + 3
        if self.low(j) == "more" or (self.low(j) == "-" and UNITS.get(self.low(j + 1))):
            j += 1
        unit = UNITS.get(self.low(j))
        if unit is None:
            return None
        span, j = _span(number, unit), j + 1
        if self.low(j) == "and" and self.low(j + 1) == "a" and self.low(j + 2) == "half":
            return j + 3, _span(number + 0.5, unit)
        k = j + (self.low(j) == "and")
        if unit == "hour" and k < len(self.words) and (more := number_of(self.words[k])) is not None:
            if UNITS.get(self.low(k + 1)) == "minute":
                return k + 2, Span(span.minutes + int(more))
            if self.words[k].begin == self.words[j - 1].end and self.low(k).isdecimal():
                return k + 1, Span(span.minutes + int(more))
        return j, span


def _span(number: float, unit: str) -> Span:
    match unit:
        case "minute":
            return Span(round(number))
        case "hour":
            return Span(round(number * 60))
        case "day":
            return Span(days=int(number)) if number == int(number) else Span(round(number * 1440))
        case "week":
            return Span(days=round(number * 7))
        case "fortnight":
            return Span(days=round(number * 14))
        case "year":
            return Span(months=round(number * 12))
    return Span(months=round(number))
