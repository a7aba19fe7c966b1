"""Clock times, durations and days in a request, each read from a place among its words.

Every reader answers what it found and behind which word it ends, or None. The rules are written in docs/speech.md.
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable, Sequence
from datetime import date, datetime, time, timedelta

from msgspec import Struct, field

from whenvoca.speech.words import (
    MONTHS,
    ORDINALS,
    UNITS,
    WEEKDAYS,
    Word,
    is_one_off,
    is_word_of_its_own,
    look_up,
    number_of,
)

_CLOCK = re.compile(r"(\d{1,2})[:.](\d{2})\Z")
_PARTS = {
    "morning": (6, 12),
    "afternoon": (12, 18),
    "evening": (18, 22),
    "night": (18, 24),
    "lunch": (12, 13),
    "lunchtime": (12, 13),
}
_DAY = timedelta(days=1)


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


class Days(Struct):
    """One day, or several. ``doubt`` is what has to be asked: a day that is none, or two readings."""

    first: date
    last: date
    doubt: str = ""
    said: str = ""
    part: str = ""  # morning, afternoon, evening, night
    is_period: bool = False  # a week, a month: more than a day was named


Found = tuple[int, object]
_YEARS = (1970, 2200)  # what is written outside of them is asked about


class TimeReader(Struct):
    """Reads words as times, seen from ``now`` (a wall time). ``order``: day first, month first, or nothing."""

    words: Sequence[Word]
    now: datetime
    order: str = ""
    notes: list[str] = field(default_factory=list)

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
        if low in ("half", "quarter", "ten", "five", "twenty") and self.low(i + 1) in (
            "past",
            "to",
            "after",
        ):
            return self._spoken(i, i + 1)
        if low == "half" and i + 1 < len(self.words) and self.low(i + 1) not in ("a", "an", "past", "to"):
            hour = number_of(self.words[i + 1])
            if (
                hour is not None and 1 <= hour <= 12 and hour == int(hour) and self.low(i + 2) not in UNITS
            ):  # half nine is half past nine
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

    # --- days

    def days(self, i: int) -> tuple[int, Days] | None:
        """A day, or several: the longest reading that begins here."""
        j = i + (
            self.low(i)
            in ("on", "for", "by", "from", "at", "in", "over", "during", "of", "starting", "beginning", "since")
        )
        readers: tuple[Callable[[int], tuple[int, Days] | None], ...] = (
            self._named, self._month_range, self._iso, self._numeric, self._nth_weekday, self._month_day, self._ordinal_day,
            self._distance, self._weekday, self._period,
        )  # fmt: skip
        found = [each for start in {i, j} for reader in readers if (each := reader(start)) is not None]
        return max(found, key=lambda each: each[0], default=None)

    def _one(self, day: date) -> Days:
        return Days(day, day)

    @property
    def today(self) -> date:
        """The day it is."""
        return self.now.date()

    def _named(self, i: int) -> tuple[int, Days] | None:
        if self.low(i) == "later" and self.low(i + 1) in ("today", "tonight", "tomorrow"):
            return self._named(i + 1)
        j = i + (self.low(i) == "the")
        if [self.low(j + k) for k in range(3)] == ["day", "after", "tomorrow"]:
            return j + 3, self._one(self.today + 2 * _DAY)
        if [self.low(j + k) for k in range(3)] == ["day", "before", "yesterday"]:
            return j + 3, self._one(self.today - 2 * _DAY)
        word = {"today": 0, "tonight": 0, "tomorrow": 1, "yesterday": -1}
        if i >= len(self.words) or (shift := look_up(self.words[i], word)) is None:
            return None
        if self.low(i + 1) == "week":  # tomorrow week
            return i + 2, self._one(self.today + (shift + 7) * _DAY)
        days = self._one(self.today + shift * _DAY)
        days.part = "night" if self.low(i).startswith("tonig") else ""
        return i + 1, days

    def _iso(self, i: int) -> tuple[int, Days] | None:
        found = re.fullmatch(r"(\d{4})[-/](\d{1,2})[-/](\d{1,2})", self.low(i).partition("t")[0])
        return (i + 1, self._dated(int(found[3]), int(found[2]), int(found[1]))) if found else None

    def _dated(self, day: int, month: int, year: int | None) -> Days:
        """A day of a month; without a year the coming one. One that is none is asked about."""
        if year is not None and not _YEARS[0] <= year <= _YEARS[1]:
            return Days(self.today, self.today, f"The year {year} is out of reach; which day is meant?")
        for candidate in (year,) if year else range(self.today.year, self.today.year + 9):
            assert candidate is not None
            try:
                found = date(candidate, month, day)
            except ValueError:
                if year or not (month == 2 and day == 29):
                    last = calendar.monthrange(candidate, month)[1] if 1 <= month <= 12 else 0
                    name = calendar.month_name[month] if 1 <= month <= 12 else f"month {month}"
                    doubt = (
                        f"{name if month != 2 else f'{name} {candidate}'} has only {last} days; which day is meant?"
                        if last
                        else f"There is no {name}; which day is meant?"
                    )
                    return Days(self.today, self.today, doubt)
                continue
            if year or found >= self.today:
                return self._one(found)
        return self._one(self.today)

    def _numeric(self, i: int) -> tuple[int, Days] | None:
        found = re.fullmatch(r"(\d{1,2})[-/.](\d{1,2})(?:[-/.](\d{2,4}))?", self.low(i))
        is_dotted = found is not None and found[3] is None and "." in self.low(i)
        is_closed = self.low(i + 1) == "." and self.words[i + 1].begin == self.words[i].end
        if not found or (
            is_dotted and not is_closed and self.low(i - 1) not in ("on", "from", "until", "the", "for", "to", "-")
        ):
            return None
        one, two = int(found[1]), int(found[2])
        year = None if found[3] is None else int(found[3]) + (2000 if len(found[3]) == 2 else 0)
        if one > 31 or two > 31 or (one > 12 and two > 12):
            return None
        if one > 12 or (self.order == "day first" and two <= 12):
            return i + 1, self._dated(one, two, year)
        if two > 12 or self.order == "month first":
            return i + 1, self._dated(two, one, year)
        if one == two:
            return i + 1, self._dated(one, two, year)
        days = self._dated(one, two, year)
        days.doubt = (
            f"Is {self.words[i].text} the {one} {calendar.month_name[two]} or the {two} {calendar.month_name[one]}?"
        )
        return i + 1, days

    def _month_day(self, i: int) -> tuple[int, Days] | None:
        j = i + (self.low(i) == "the")
        day = _day_number(self.low(j))
        if day:
            k = j + 1 + (self.low(j + 1) == "of")
            month = _month_beside(self.low(k)) if k < len(self.words) else None
            if month:
                return self._with_year(k + 1, day, month)
        month = look_up(self.words[i], MONTHS) if i < len(self.words) and len(self.low(i)) > 2 else None
        if month is None and re.fullmatch(r"\d{1,2}(?:st|nd|rd|th)", self.low(i + 1)):
            month = _month_beside(self.low(i)) or None
        if month is None or (self.low(i) == "may" and not _day_number(self.low(i + 1)) and self.low(i + 1) != "the"):
            return None
        k = i + 1 + (self.low(i + 1) == "the")
        day = _day_number(self.low(k))
        return self._with_year(k + 1, day, month) if day else None

    def _month_range(self, i: int) -> tuple[int, Days] | None:
        """5 to 9 april, 12-14 april, april 12 to 14."""
        joins: tuple[str, ...] = ("to", "-", "until", "till", "through")
        j = i + (self.low(i) == "the")
        first = _day_number(self.low(j))
        k = j + 2 + (self.low(j + 2) == "the")
        if self.low(i - 1) == "between":
            joins = ("and",)
        if first and self.low(j + 1) in joins and (last := _day_number(self.low(k))):
            m = k + 1 + (self.low(k + 1) == "of")
            month = look_up(self.words[m], MONTHS) if m < len(self.words) and len(self.low(m)) > 2 else None
            return self._stretch(m + 1, first, last, month) if month is not None else None
        month = look_up(self.words[i], MONTHS) if i < len(self.words) and len(self.low(i)) > 2 else None
        if month is None:
            return None
        first = _day_number(self.low(i + 1))
        if (
            first
            and self.low(i + 2) in joins
            and (last := _day_number(self.low(i + 3)))
            and last > first
            and self.low(i + 4) not in ("am", "pm", ":")
        ):
            return self._stretch(i + 4, first, last, month)
        return None

    def _stretch(self, end: int, first: int, last: int, month: int) -> tuple[int, Days]:
        end, days = self._with_year(end, first, month)
        if days.doubt:
            return end, days
        closing = self._dated(last, month, days.first.year)
        if closing.doubt or closing.first < days.first:
            return end, Days(
                days.first, days.first, closing.doubt or "It would end before it begins. Which days are meant?"
            )
        return end, Days(days.first, closing.first, is_period=True)

    def _with_year(self, j: int, day: int, month: int) -> tuple[int, Days]:
        k = j + (self.low(j) == ",")
        low = self.low(k)
        if low.isdecimal() and len(low) == 4 and 1990 <= int(low) <= 2100:
            return k + 1, self._dated(day, month, int(low))
        return j, self._dated(day, month, None)

    def _ordinal_day(self, i: int) -> tuple[int, Days] | None:
        j = i + (self.low(i) == "the")
        is_spelled = self.low(j) in _SPELLED and j > i
        if not is_spelled and not re.fullmatch(r"\d+(st|nd|rd|th)", self.low(j)):
            return None
        day = _day_number(self.low(j))
        if not day:
            return j + 1, Days(self.today, self.today, f"There is no {self.low(j)} in a month; which day is meant?")
        end = j + 1
        shift = 0
        if [self.low(end), self.low(end + 1), self.low(end + 2)] == ["of", "next", "month"]:
            end, shift = end + 3, 1
        elif [self.low(end), self.low(end + 1), self.low(end + 2)] == ["of", "this", "month"]:
            end += 3
        month, year = self.today.month + shift, self.today.year
        for _ in range(13):
            year, month = year + (month - 1) // 12, (month - 1) % 12 + 1
            if day <= calendar.monthrange(year, month)[1] and date(year, month, day) >= self.today:
                return end, self._one(date(year, month, day))
            month += 1
        return None

    def _weekday(self, i: int) -> tuple[int, Days] | None:
        j, which = i, ""
        if self.low(i) == "coming" and self.low(i - 1) not in ("this", "the", "", "on", "for"):
            return None
        while self.low(j) in ("this", "next", "coming", "the", "last", "following"):
            if which == "next" and self.low(j) == "next":
                return None
            which = self.low(j) if self.low(j) != "the" else which
            j += 1
        weekday = look_up(self.words[j], WEEKDAYS) if j < len(self.words) and self.low(j - 1) != "good" else None
        if weekday is None or (self.low(j).endswith("days") and self.low(j)[:-1] in WEEKDAYS):
            return None
        end = j + 1
        ahead = (weekday - self.today.weekday()) % 7 or 7
        day = self.today + ahead * _DAY
        monday = self.today - self.today.weekday() * _DAY
        if which == "next":
            day = monday + (7 + weekday) * _DAY
        elif which == "last":
            day = self.today - ((self.today.weekday() - weekday) % 7 or 7) * _DAY
        elif which == "this":
            day = monday + weekday * _DAY if weekday >= self.today.weekday() else day
        if [self.low(end), self.low(end + 1)] == ["next", "week"]:
            day, end = monday + (7 + weekday) * _DAY, end + 2
        elif [self.low(end), self.low(end + 1)] == ["this", "week"]:
            day, end = monday + weekday * _DAY, end + 2
        elif self.low(end) == "week" and which == "":
            day, end = day + 7 * _DAY, end + 1
        if self.low(end) == "in" and self.low(end + 2) in ("week", "weeks") and end + 1 < len(self.words):
            weeks = number_of(self.words[end + 1])
            if weeks:
                day, end = day + 7 * int(weeks) * _DAY, end + 3
        k = end + (self.low(end) == ",")
        dated = (
            self._month_day(k) or (self._ordinal_day(k) if which == "" else None) or self._iso(k) or self._numeric(k)
        )
        if dated is not None and which in ("", "this"):
            stop, days = dated
            if not days.doubt and days.first.weekday() != weekday:
                fits = (
                    self._of_weekday(days.first, weekday)
                    if re.fullmatch(r"\d+(st|nd|rd|th)", self.low(stop - 1))
                    else None
                )
                if fits is not None:
                    return stop, self._one(fits)
                said = f"{days.first.day} {days.first:%B} is a {days.first:%A}"
                days.doubt = f"{said}, not a {calendar.day_name[weekday]}; which day is meant?"
            return stop, days
        return end, self._one(day)

    def _of_weekday(self, day: date, weekday: int) -> date | None:
        """The coming day of that number in a month which is such a weekday, within two months."""
        year, month = day.year, day.month
        for _ in range(2):
            month += 1
            year, month = year + (month - 1) // 12, (month - 1) % 12 + 1
            if day.day <= calendar.monthrange(year, month)[1] and date(year, month, day.day).weekday() == weekday:
                return None
        return None

    def _nth_weekday(self, i: int) -> tuple[int, Days] | None:
        j = i + (self.low(i) == "the")
        nth = ORDINALS.get(self.low(j))
        if nth is None or j + 1 >= len(self.words):
            return None
        low = self.low(j + 1)
        weekday = look_up(self.words[j + 1], WEEKDAYS)
        if (weekday is None and low not in ("weekday", "day")) or self.low(j + 2) not in ("of", "in"):
            return None
        k = j + 3 + (self.low(j + 3) == "the")
        if self.low(k) in ("month", "this") or [self.low(k), self.low(k + 1)] == ["next", "month"]:
            shift = 1 if self.low(k) == "next" else 0
            end = k + 1 + (self.low(k) in ("this", "next"))
            months = [self.today.month + shift, self.today.month + 1]
        else:
            month = look_up(self.words[k], MONTHS) if k < len(self.words) else None
            if month is None:
                return None
            end, months = k + 1, [month, month + 12]
        for month in months:
            year, number = self.today.year + (month - 1) // 12, (month - 1) % 12 + 1
            count = calendar.monthrange(year, number)[1]
            all_days = [date(year, number, n) for n in range(1, count + 1)]
            fit = [
                each
                for each in all_days
                if (each.weekday() == weekday if weekday is not None else low == "day" or each.weekday() < 5)
            ]
            if (nth > 0 and len(fit) >= nth) or nth < 0:
                day = fit[nth - 1] if nth > 0 else fit[-1]
                if day >= self.today:
                    return end, self._one(day)
        return None

    def _distance(self, i: int) -> tuple[int, Days] | None:
        j = i + (self.low(i) == "in")
        weeks = number_of(self.words[j]) if j < len(self.words) else None
        if weeks and self.low(j + 1) in ("week", "weeks") and self.low(j + 2) == "on":
            weekday = self._weekday(j + 3)
            return (weekday[0], self._one(weekday[1].first + 7 * int(weeks) * _DAY)) if weekday else None
        if [self.low(j + 1), self.low(j + 2)] in (["business", "days"], ["working", "days"]) and (
            count := number_of(self.words[j])
        ):
            day = self.today
            for _ in range(int(count)):
                day += _DAY
                while day.weekday() > 4:
                    day += _DAY
            return j + 3, self._one(day)
        found = self.length(j)
        if found is None:
            return None
        end, span = found
        if not (span.days or span.months):
            return None
        base = self.today
        if self.low(end) in ("from", "after"):
            rest = self.days(end + 1) if self.low(end + 1) != "now" else (end + 2, self._one(base))
            if rest is None:
                return None
            end, base = rest[0], rest[1].first
        elif self.low(end) == "ago":
            moment = Span(0, -span.days, -span.months).added_to(datetime.combine(base, time()))
            return end + 1, self._one(moment.date())
        elif self.low(i) != "in":
            return None
        return end, self._one(span.added_to(datetime.combine(base, time())).date())

    def _period(self, i: int) -> tuple[int, Days] | None:
        if self.low(i) in ("the", "all", "whole", "entire") and {self.low(i), self.low(i + 1)} & {
            "whole",
            "entire",
            "all",
        }:
            k = i + 1 + (self.low(i + 1) in ("whole", "entire", "of"))
            k += self.low(k) == "of"
            return self._period(k) if k < len(self.words) and self.low(k) not in ("all", "whole", "entire") else None
        j, shift = i, 0
        if [self.low(j), self.low(j + 1)] in (["my", "day"], ["our", "day"]):
            return j + 2, self._one(self.today)
        if self.low(j) in ("this", "the", "rest", "next", "coming", "last", "my", "our"):
            shift = {"next": 1, "last": -1}.get(self.low(j), 0)
            j += 1
            if self.low(i) == "rest" or self.low(j) == "rest":
                j += 1 if self.low(j) == "rest" else 0
                j += self.low(j) == "of"
                j += self.low(j) in ("the", "this")
        monday = self.today - self.today.weekday() * _DAY + 7 * shift * _DAY
        match self.low(j):
            case "week" if j > i:
                return j + 1, Days(monday, monday + 6 * _DAY, is_period=True)
            case "weekend":
                return j + 1, Days(monday + 5 * _DAY, monday + 6 * _DAY, is_period=True)
            case "month" if j > i:
                month = self.today.month - 1 + shift
                year, month = self.today.year + month // 12, month % 12 + 1
                return j + 1, Days(
                    date(year, month, 1), date(year, month, calendar.monthrange(year, month)[1]), is_period=True
                )
        if [self.low(j), self.low(j + 1)] == ["end", "of"]:
            k = j + 2 + (self.low(j + 2) == "the")
            ahead = self._period(k - 1 if self.low(k - 1) == "the" else k)
            if ahead is not None:
                return ahead[0], self._one(ahead[1].last)
        named = look_up(self.words[i], MONTHS) if i < len(self.words) and len(self.low(i)) > 3 else None
        if (
            named is not None
            and not _day_number(self.low(i + 1))
            and self.low(i - 1)
            in ("in", "of", "for", "all", "during", "from", "since", "until", "till", "through", "to")
        ):
            year = self.today.year + (named < self.today.month)
            return i + 1, Days(
                date(year, named, 1), date(year, named, calendar.monthrange(year, named)[1]), is_period=True
            )
        return None


_MONTH_NAMES = {name: number for name, number in MONTHS.items() if len(name) >= 4}


def _month_beside(low: str) -> int:
    """A month beside the number of its day: there any letter of it may be wrong. 0 for none."""
    low = low.rstrip(".")
    if low in MONTHS:
        return MONTHS[low]
    if len(low) < 4 or not low.isalpha() or is_word_of_its_own(low):
        return 0
    near = {number for name, number in _MONTH_NAMES.items() if is_one_off(low, name)}
    return near.pop() if len(near) == 1 else 0


_TENS = {"twenty": 20, "thirty": 30}
_UNITS = ("", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth")
_SPELLED = {
    **{f"{tens}-{unit}": number + n for tens, number in _TENS.items() for n, unit in enumerate(_UNITS) if unit and number + n <= 31},
    "fourth": 4, "fifth": 5, "sixth": 6, "seventh": 7, "eighth": 8, "ninth": 9, "tenth": 10, "eleventh": 11, "twelfth": 12,
    "thirteenth": 13, "fourteenth": 14, "fifteenth": 15, "sixteenth": 16, "seventeenth": 17, "eighteenth": 18, "nineteenth": 19,
    "twentieth": 20, "thirtieth": 30,
}  # fmt: skip


def _day_number(low: str) -> int:
    if low in _SPELLED:
        return _SPELLED[low]
    found = re.fullmatch(r"(\d{1,2})(?:st|nd|rd|th)?", low)
    return int(found[1]) if found and 1 <= int(found[1]) <= 31 else 0


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
