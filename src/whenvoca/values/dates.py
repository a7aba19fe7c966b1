"""Dates as people write them, with every reading that a text allows.

A text such as 03/04/2027 fits two readings; which one holds is for the whole column to say (``columns``), so
this file never chooses: it answers with all readings that fit.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import date, datetime, timedelta
from functools import lru_cache
from typing import Any

from msgspec import Struct, field

from whenvoca.values.blanks import plain_signs
from whenvoca.values.month_names import FOREIGN_MONTHS
from whenvoca.values.weekdays import NAMES

DAY_FIRST, MONTH_FIRST, YEAR_FIRST = "day first", "month first", "year first"
ORDERS = (DAY_FIRST, MONTH_FIRST, YEAR_FIRST)
MONTH_NAMES, TYPED = "month names", "typed"

_MONTHS = "january february march april may june july august september october november december".split()
_MONTH_NUMBER = {name: n for n, name in enumerate(_MONTHS, 1)} | {name[:3]: n for n, name in enumerate(_MONTHS, 1)}
_MONTH_NUMBER["sept"] = 9
_WEEKDAY_NUMBER = {name: n for n, name in enumerate(NAMES)} | {name[:3]: n for n, name in enumerate(NAMES)}
_WEEKDAY_NUMBER |= {"tues": 1, "wednes": 2, "thur": 3, "thurs": 3}

_NUMERIC = re.compile(r"(\d{1,4}) ?([-/.]) ?(\d{1,2}) ?\2 ?(\d{1,4})\.?\Z")
_COMPACT = re.compile(r"((?:19|20)\d\d)(\d\d)(\d\d)\Z")
_JAPANESE = re.compile(r"(\d{4})年(\d{1,2})月(\d{1,2})日\Z")
_WORD = re.compile(r"[^\W\d_]+")
_NAMED_DAY_FIRST = re.compile(
    r"(\d{1,2})(?:st|nd|rd|th|\.|º)?[ \-/.]*(?:of |de )?[ \-/.]*([^\W\d_]+)\.?,?[ \-/.,']*(?:de )?(\d{4}|\d{2})?\Z"
)
_NAMED_MONTH_FIRST = re.compile(r"([^\W\d_]+)\.?[ \-/.]*(\d{1,2})(?:st|nd|rd|th|\.)?,?(?:[ \-/.,']+(\d{4}|\d{2}))?\Z")
_NAMED_YEAR_FIRST = re.compile(r"(\d{4})[ \-/.,]*([^\W\d_]+)\.?[ \-/.]*(\d{1,2})(?:st|nd|rd|th|\.)?\Z")


class Shaped(Struct, frozen=True):
    """What a text could be as one kind of value.

    ``fits`` maps each format that reads it to the value; the format "" means: the same in every format.
    If nothing fits, ``fault`` says why a text of that shape is no value of the kind (31.02.2027).
    """

    fits: Mapping[str, Any] = field(default_factory=dict)
    fault: str = ""
    format: str = ""  # the format's name, to be told, where the value is the same in all

    @property
    def is_settled(self) -> bool:
        """Whether the value does not depend on the column's format."""
        return "" in self.fits


def shape_date(text: str) -> Shaped | None:
    """The dates that a text could mean, or None if it does not look like a date at all."""
    return _shape_date(plain_signs(text))


@lru_cache(maxsize=8192)
def _shape_date(text: str) -> Shaped | None:
    weekday, text = _take_weekday(text)
    shaped = _shape_numeric(text) or _shape_named(text)
    if shaped is None or weekday is None:
        return shaped
    fits = {order: day for order, day in shaped.fits.items() if day.weekday() == weekday}
    if shaped.fits and not fits:
        order, day = next(iter(shaped.fits.items()))
        said, really = NAMES[weekday].capitalize(), NAMES[day.weekday()].capitalize()
        return Shaped(fault=f"{show_day(day)} is a {really}, not a {said}")
    if len(fits) == 1 and not shaped.is_settled:
        ((order, day),) = fits.items()
        return Shaped({order: day}, format=order)
    return Shaped(fits, shaped.fault, shaped.format)


def _take_weekday(text: str) -> tuple[int | None, str]:
    for place in (re.match(r"([^\W\d_]+)\.?,? +", text), re.search(r",? +\(?([^\W\d_]+)\.?\)?\Z", text)):
        if place and (number := _WEEKDAY_NUMBER.get(place[1].lower())) is not None:
            return number, (text[: place.start()] + text[place.end() :]).strip()
    return None, text


def _shape_numeric(text: str) -> Shaped | None:
    if found := _COMPACT.match(text):
        return _settled(int(found[1]), int(found[2]), int(found[3]), text, YEAR_FIRST)
    if found := _JAPANESE.match(text):
        return _settled(int(found[1]), int(found[2]), int(found[3]), text, YEAR_FIRST)
    found = _NUMERIC.match(text)
    if not found:
        return None
    first, sign, second, third = found[1], found[2], found[3], found[4]
    if len(first) == 3 or len(third) == 3 or (len(first) > 2 and len(third) > 2) or (first + third).isdigit() is False:
        return None
    if len(first) == 4:
        return _settled(int(first), int(second), int(third), text, YEAR_FIRST)
    if len(third) == 1:
        return None
    year = int(third) if len(third) == 4 else _full_year(int(third))
    readings = {DAY_FIRST: (year, int(second), int(first)), MONTH_FIRST: (year, int(first), int(second))}
    if len(third) == 2 and len(first) == 2 and sign == "-":
        readings[YEAR_FIRST] = (_full_year(int(first)), int(second), int(third))
    fits, faults = {}, []
    for order, (y, m, d) in readings.items():
        if fault := _date_fault(y, m, d):
            faults.append(fault)
        else:
            fits[order] = date(y, m, d)
    if not fits:
        return Shaped(fault=f"{text} is no date: {_likeliest(faults)}")
    return Shaped(fits)


def _shape_named(text: str) -> Shaped | None:
    if not any(_month_number(word) for word in _WORD.findall(text)):
        return None
    if found := _NAMED_YEAR_FIRST.match(text):
        year, month, day = found[1], found[2], found[3]
    elif found := _NAMED_DAY_FIRST.match(text):
        day, month, year = found[1], found[2], found[3]
    elif found := _NAMED_MONTH_FIRST.match(text):
        month, day, year = found[1], found[2], found[3]
    else:
        return None
    number = _month_number(month)
    if number is None:
        return None
    if year is None:
        return Shaped(fault=f"{text} has no year")
    full = int(year) if len(year) == 4 else _full_year(int(year))
    return _settled(full, number, int(day), text, MONTH_NAMES)


def _month_number(word: str) -> int | None:
    number = _MONTH_NUMBER.get(word.lower())
    return number if number or len(word) < 3 or word.lower() in _WEEKDAY_NUMBER else FOREIGN_MONTHS.get(word.lower())


def _settled(year: int, month: int, day: int, text: str, form: str) -> Shaped:
    if fault := _date_fault(year, month, day):
        return Shaped(fault=f"{text} is no date: {fault}")
    return Shaped({"": date(year, month, day)}, format=form)


def _date_fault(year: int, month: int, day: int) -> str:
    if not 1 <= month <= 12:
        return f"there is no month {month}"
    if not 1 <= year <= 9999:
        return f"there is no year {year}"
    last = (
        (date(year + month // 12, month % 12 + 1, 1) - timedelta(days=1)) if year < 9999 else date(year, 12, 31)
    ).day
    if not 1 <= day <= last:
        return f"{_MONTHS[month - 1].capitalize()} {year} has {last} days"
    return ""


def _likeliest(faults: list[str]) -> str:
    """Of several reasons the most telling one: a month too short says more than a month that is none."""
    return next((fault for fault in faults if "has" in fault), faults[0])


def _full_year(short: int) -> int:
    return short + (2000 if short < 70 else 1900)


def show_day(day: date) -> str:
    """A date as messages show it: 17 March 2027."""
    return f"{day.day} {_MONTHS[day.month - 1].capitalize()} {day.year}"


SERIAL_1900, SERIAL_1904 = "serial (1900)", "serial (1904)"


def from_serial(number: float, *, epoch_1904: bool = False) -> datetime | None:
    """The naive wall time that a spreadsheet's serial number stands for, or None outside 1900 to 9999.

    The 1900 system counts a 29 February 1900 that never was, so it is right from March 1900 on.
    """
    if not (0 if epoch_1904 else 61) <= number < 2_958_466:
        return None
    epoch = datetime(1904, 1, 1) if epoch_1904 else datetime(1899, 12, 30)
    days = int(number)
    seconds = round((number - days) * 86400)
    return epoch + timedelta(days=days, seconds=seconds)


def to_serial(wall: datetime, *, epoch_1904: bool = False) -> float:
    """The spreadsheet serial number of a naive wall time."""
    epoch = datetime(1904, 1, 1) if epoch_1904 else datetime(1899, 12, 30)
    span = wall - epoch
    return span.days + span.seconds / 86400


def parse_order(text: str) -> str | None:
    """The order that a ``dates`` setting names, or None."""
    words = squeeze_order(text)
    return words if words in ORDERS else None


def squeeze_order(text: str) -> str:
    """A setting's words in their plain form: "Day-first" is "day first"."""
    return " ".join(text.lower().replace("-", " ").split())
