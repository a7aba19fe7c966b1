"""Days in a request, each read from a place among its words; times of day and lengths are read by clocks.py.

Every reader answers what it found and behind which word it ends, or None. The rules are written in docs/speech.md.
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable
from datetime import date, datetime, time, timedelta

from msgspec import Struct, field

from whenvoca.speech.clocks import ClockReader, Span
from whenvoca.speech.words import MONTHS, ORDINALS, WEEKDAYS, is_one_off, is_word_of_its_own, look_up, number_of

_DAY = timedelta(days=1)


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


class TimeReader(ClockReader):
    """Reads words as times, seen from ``now`` (a wall time). ``order``: day first, month first, or nothing."""

    order: str = ""
    notes: list[str] = field(default_factory=list)

    def days(self, i: int) -> tuple[int, Days] | None:
        """A day, or several: the longest reading that begins here."""
        j = i + (
            self.low(i)
            in ("on", "for", "by", "from", "at", "in", "over", "during", "of", "starting", "beginning", "since")
        )
        readers: tuple[Callable[[int], tuple[int, Days] | None], ...] = (
            self._named,
            self._month_range,
            self._iso,
            self._numeric,
            self._nth_weekday,
            self._month_day,
            self._ordinal_day,
            self._distance,
            self._weekday,
            self._period,
        )
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
    **{
        f"{tens}-{unit}": number + n
        for tens, number in _TENS.items()
        for n, unit in enumerate(_UNITS)
        if unit and number + n <= 31
    },
    "fourth": 4,
    "fifth": 5,
    "sixth": 6,
    "seventh": 7,
    "eighth": 8,
    "ninth": 9,
    "tenth": 10,
    "eleventh": 11,
    "twelfth": 12,
    "thirteenth": 13,
    "fourteenth": 14,
    "fifteenth": 15,
    "sixteenth": 16,
    "seventeenth": 17,
    "eighteenth": 18,
    "nineteenth": 19,
    "twentieth": 20,
    "thirtieth": 30,
}


def _day_number(low: str) -> int:
    if low in _SPELLED:
        return _SPELLED[low]
    found = re.fullmatch(r"(\d{1,2})(?:st|nd|rd|th)?", low)
    return int(found[1]) if found and 1 <= int(found[1]) <= 31 else 0
