"""What days in words mean: the day, or the stretch of days, of each form."""

from __future__ import annotations

import calendar
import re
from datetime import date, timedelta

from whenvoca.speech.chart.piece import DAY, Days

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november",
    "december",
)  # fmt: skip
WD = rf"(?:{'|'.join(WEEKDAYS)})"
MONTH = rf"(?:{'|'.join(MONTHS)})"
NTH = r"(?:(?:20|30) [1-9](?:st|nd|rd|th)|[0-3]?\d(?:st|nd|rd|th))"
NUM = r"(?:(?:20|30) [1-9]|[0-3]?\d)"
OWN = r"(?:'?s)?"
YEAR = r"(?:,? (?P<year>20\d\d)|'(?P<short>\d\d))?"
PART = r"(?: (?P<part>morning|afternoon|evening|night|lunchtime|lunch))?"
FIXED = {
    "christmas eve": (12, 24), "christmas day": (12, 25), "christmas": (12, 25), "boxing day": (12, 26),
    "new year's eve": (12, 31), "new years eve": (12, 31), "new year's day": (1, 1), "new years day": (1, 1),
    "new year": (1, 1), "valentines day": (2, 14), "valentine's day": (2, 14), "valentines": (2, 14),
    "halloween": (10, 31), "st patrick's day": (3, 17), "st patricks day": (3, 17), "paddy's day": (3, 17),
}  # fmt: skip


def day_number(text: str) -> int:
    """The number of a day of the month: 7, 7th, 20 7th."""
    return sum(int(each) for each in re.findall(r"\d+", text))


def known_day(year: int, month: int, day: int) -> date | None:
    """That day, None where there is none."""
    try:
        return date(year, month, day)
    except ValueError:
        return None


def month_span(year: int, month: int) -> tuple[date, date]:
    """The first and last day of a month, which may be counted beyond twelve."""
    year, month = year + (month - 1) // 12, (month - 1) % 12 + 1
    return date(year, month, 1), date(year, month, calendar.monthrange(year, month)[1])


def nth_weekday(year: int, month: int, nth: int, weekday: int) -> date | None:
    """The nth weekday of a month, the last one for -1."""
    first, last = month_span(year, month)
    if nth < 0:
        return last - timedelta(days=(last.weekday() - weekday) % 7)
    found = first + timedelta(days=(weekday - first.weekday()) % 7 + 7 * (nth - 1))
    return found if found <= last else None


class DayValues:
    """What the forms of days mean, seen from a moment's own day."""

    def __init__(self, today: date, order: str) -> None:
        self.today, self.order = today, order
        self.monday = today - timedelta(days=today.weekday())

    # --- single days

    def coming(self, weekday: int) -> date:
        """The next day of that name, today counted in."""
        return self.today + timedelta(days=(weekday - self.today.weekday()) % 7)

    def _wd(self, name: str) -> date:
        return self.coming(WEEKDAYS.index(name))

    def _one(self, day: date | None, part: str | None = "") -> Days | None:
        if day is None:
            return None
        return Days(day, day, part=part or "", is_past=day < self.today)

    def _month_day(self, month: int, day: int, year: int | None) -> date | None:
        if year is not None:
            return known_day(year, month, day)
        for each in range(self.today.year, self.today.year + 9):
            found = known_day(each, month, day)
            if found is not None and found >= self.today:
                return found
        return None

    def _number(self, day: int) -> date | None:
        for ahead in range(13):
            first, last = month_span(self.today.year, self.today.month + ahead)
            if 1 <= day <= last.day and first.replace(day=day) >= self.today:
                return first.replace(day=day)
        return None

    def _year(self, match: re.Match[str]) -> int | None:
        groups = match.groupdict()
        if groups.get("year"):
            return int(groups["year"])
        return 2000 + int(groups["short"]) if groups.get("short") else None

    def _weekday_number(self, match: re.Match[str]) -> Days | None:
        """Fri 24; Saturday the 27th: the number decides, if the weekday fits it."""
        wanted, number = WEEKDAYS.index(match["wd"]), day_number(match["n"])
        for ahead in range(13):
            first, last = month_span(self.today.year, self.today.month + ahead)
            if not 1 <= number <= last.day:
                continue
            day = first.replace(day=number)
            if day >= self.today and day.weekday() == wanted:
                if ahead > 2:
                    break
                return self._one(day, match["part"])
        return None

    def _weekday_date(self, match: re.Match[str]) -> Days | None:
        month = MONTHS.index(match["m"]) + 1
        number = day_number(match["n"])
        day = self._month_day(month, number, self._year(match))
        if day is None:
            return self._impossible(number, month, self._year(match))
        said = match.groupdict().get("wd")
        doubt = ""
        if said and WEEKDAYS.index(said) != day.weekday():
            doubt = f"{day:%-d %B %Y} is a {day:%A}, not a {said.title()}. Which day is meant?"
        return Days(day, day, part=match["part"] or "", doubt=doubt, is_past=day < self.today)

    def _impossible(self, number: int, month: int, year: int | None) -> Days | None:
        """A day that a month does not have, to be asked about."""
        if not 28 < number <= 31:
            return None
        length = month_span(year or self.today.year, month)[1].day
        said = f"{number} {MONTHS[month - 1].title()} is not a date: {MONTHS[month - 1].title()} has {length} days"
        return Days(self.today, self.today, doubt=f"{said}. Which day is meant?")

    def _numeric(self, match: re.Match[str]) -> Days | None:
        one, two = int(match["a"]), int(match["b"])
        year = int(match["y"]) if match["y"] else None
        if year is not None and year < 100:
            year += 2000
        orders = {"day first": [(one, two)], "month first": [(two, one)]}.get(self.order) or [(one, two), (two, one)]
        if self.order and not any(1 <= m <= 12 for _, m in orders):
            orders = [(two, one)]
        found = [day for d, m in orders if 1 <= m <= 12 and (day := self._month_day(m, d, year)) is not None]
        if said := match.groupdict().get("wd"):
            found = [day for day in found if day.weekday() == WEEKDAYS.index(said)] or found
        found = list(dict.fromkeys(found))
        if not found:
            return None
        doubt = ""
        if len(found) > 1:
            doubt = f"Is {match['a']}/{match['b']} the {found[0]:%-d %B} or the {found[1]:%-d %B}?"
        if said and WEEKDAYS.index(said) != found[0].weekday():
            doubt = f"{found[0]:%-d %B %Y} is a {found[0]:%A}, not a {said.title()}. Which day is meant?"
        return Days(
            found[0], found[0], doubt=doubt, is_past=found[0] < self.today, part=match.groupdict().get("part") or ""
        )

    def _nth(self, text: str) -> int:
        return -1 if text == "last" else day_number(text)

    def _in(self, match: re.Match[str]) -> Days | None:
        number = {"a": 1, "an": 1, "couple of": 2, "a couple of": 2, "few": 3}.get(match["k"]) or int(match["k"])
        base = self.today
        if match["base"]:
            name = match["base"].removeprefix("on ").removeprefix("the ")
            base = (
                self.today + DAY if name == "tomorrow" else self.today if name in ("today", "now") else self._wd(name)
            )
        unit = match["u"].rstrip("s")
        if number > 400:
            return None
        if unit == "month":
            month = self.today.month + number
            first, last = month_span(self.today.year, month)
            return self._one(first.replace(day=min(base.day, last.day)))
        return self._one(base + timedelta(days=number * {"day": 1, "night": 1, "week": 7, "fortnight": 14}[unit]))

    def _working_days(self, count: int) -> Days | None:
        """So many days from now on that are no weekend."""
        day = self.today
        while count:
            day += DAY
            count -= day.weekday() < 5
        return self._one(day)

    def _weekday_of_month(self, match: re.Match[str]) -> Days | None:
        nth = self._nth(match["nth"])
        year, month = self.today.year, self.today.month
        said = match["m"] or ""
        if said in MONTHS:
            month = MONTHS.index(said) + 1
            year += month < self.today.month
        elif said.startswith("next"):
            month += 1
        weekday = match["wd"]
        for ahead in (0, 12 if said in MONTHS else 1):
            first, last = month_span(year, month + ahead)
            if weekday in WEEKDAYS:
                day = nth_weekday(first.year, first.month, nth, WEEKDAYS.index(weekday))
            else:  # a day, a working day, a weekend
                days = [first + timedelta(days=n) for n in range(last.day)]
                if weekday.startswith(("working", "week", "work", "business")) and weekday != "weekend":
                    days = [each for each in days if each.weekday() < 5]
                if weekday == "weekend":
                    days = [each for each in days if each.weekday() == 5]
                day = days[nth if nth < 0 else nth - 1] if nth <= len(days) else None
                if weekday == "weekend" and day is not None:
                    return Days(day, day + DAY, is_period=True)
            if day is not None and day >= self.today:
                return self._one(day)
        return None

    def _after_next(self, coming: date) -> date:
        return coming + timedelta(days=14 if coming < self.monday + 7 * DAY else 7)

    # --- stretches

    def _week(self, ahead: int) -> Days:
        first = self.monday + timedelta(weeks=ahead)
        return Days(first, first + 6 * DAY, is_period=True)

    def _weekend(self, ahead: int) -> Days:
        first = self.monday + timedelta(days=5 + 7 * ahead)
        return Days(first, first + DAY, is_period=True)

    def _month(self, match: re.Match[str]) -> Days | None:
        month = MONTHS.index(match["m"]) + 1
        year = self._year(match) or self.today.year + (month < self.today.month)
        first, last = month_span(year, month)
        third = match.groupdict().get("third") or ""
        if "mid" in third:
            first = first.replace(day=15)
            last = first
        elif "end" in third:
            first = last
        elif "early" in third or "beginning" in third or "start" in third:
            last = first.replace(day=7)
        elif "late" in third:
            first = first.replace(day=21)
        return Days(first, last, is_period=True)

    def _months_ahead(self, ahead: int) -> Days:
        first, last = month_span(self.today.year, self.today.month + ahead)
        return Days(first, last, is_period=True)

    def _numbers(self, match: re.Match[str]) -> Days | None:
        """19 to 23 July; 4th - 10th; 12 - 16 apr."""
        month = MONTHS.index(match["m"]) + 1
        low, high = day_number(match["a"]), day_number(match["b"])
        last = self._month_day(month, high, self._year(match))
        if last is None:
            return None
        first = known_day(last.year, last.month, low)
        if first is None or low > high:
            first = month_span(last.year, last.month - 1)[0]
            first = known_day(first.year, first.month, low) or first
        return Days(first, last) if low != high else None

    def _bare_numbers(self, match: re.Match[str]) -> Days | None:
        first = self._number(day_number(match["a"]))
        last = first and known_day(first.year, first.month, day_number(match["b"]))
        if (first is not None and last is None) or (first and last and last < first):
            after = month_span(first.year, first.month + 1)[0]
            last = known_day(after.year, after.month, day_number(match["b"]))
        return Days(first, last) if first and last and first < last else None

    def _month_numbers(self, match: re.Match[str]) -> Days | None:
        month = MONTHS.index(match["m"]) + 1
        low, high = day_number(match["a"]), day_number(match["b"])
        first = self._month_day(month, low, self._year(match))
        last = first and known_day(first.year, month, high)
        return Days(first, last) if first and last and first < last else None

    def _in_month(self, match: re.Match[str]) -> Days | None:
        first, last = month_span(self.today.year, self.today.month + (match["w"] == "next"))
        number = day_number(match["n"])
        return self._one(first.replace(day=number)) if number <= last.day else None

    def _last_of_month(self, is_next: bool) -> Days:
        day = month_span(self.today.year, self.today.month + is_next)[1]
        return Days(day, day)

    def _rest_of_week(self, match: re.Match[str]) -> Days:
        week = self._week(0)
        return Days(self.today, week.last, is_period=True) if "rest" in match[0] or "remainder" in match[0] else week

    def _week_of(self, match: re.Match[str]) -> Days | None:
        number = day_number(match["n"])
        day = self._month_day(MONTHS.index(match["m"]) + 1, number, None) if match["m"] else self._number(number)
        if day is None:
            return None
        first = day - timedelta(days=day.weekday())
        return Days(first, first + 6 * DAY, is_period=True)

    def _in_week(self, match: re.Match[str]) -> Days | None:
        week = self._week_number(int(match["n"] or match["n2"]))
        return week and self._one(week.first + timedelta(days=WEEKDAYS.index(match["wd"] or match["wd2"])))

    def _week_number(self, number: int) -> Days | None:
        for year in (self.today.year, self.today.year + 1):
            try:
                first = date.fromisocalendar(year, number, 1)
            except ValueError:
                return None
            if first + 6 * DAY >= self.today:
                return Days(first, first + 6 * DAY, is_period=True)
        return None

    def _easter(self, said: str) -> date:
        from dateutil.easter import easter

        day = easter(self.today.year)
        if day < self.today:
            day = easter(self.today.year + 1)
        return day + timedelta(days={"good friday": -2, "easter monday": 1}.get(said, 0))
