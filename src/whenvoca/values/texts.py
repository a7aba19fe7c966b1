"""Values as texts for people: the default form of each kind, and Unicode CLDR patterns."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

from whenvoca.errors import RowFault
from whenvoca.values.dates import show_day
from whenvoca.values.durations import Duration, show_duration
from whenvoca.values.numbers import show_number
from whenvoca.values.times import show_time


def show_value(value: Any, *, year: int | None = None) -> str:
    """The value as a text shows it. A moment's and date's own year is left out where it is ``year``."""
    match value:
        case None:
            return ""
        case str():
            return value
        case bool():
            return "yes" if value else "no"
        case int() | Decimal():
            return show_number(value)
        case datetime():
            return f"{_show_date(value.date(), year)} {show_time(value.time())}"
        case date():
            return _show_date(value, year)
        case time():
            return show_time(value)
        case Duration():
            return show_duration(value)
        case timedelta():
            return show_duration(Duration(seconds=round(value.total_seconds())))
        case list() | tuple():
            return ", ".join(show_value(item, year=year) for item in value)
        case Mapping():
            return ", ".join(f"{key}: {show_value(item, year=year)}" for key, item in value.items())
    return str(value)


def _show_date(day: date, year: int | None) -> str:
    full, _, month_and_year = show_day(day).partition(" ")
    month = month_and_year[:3]
    return f"{full} {month}" if day.year == year else f"{full} {month} {day.year}"


def show_pattern(value: date | time | datetime | Decimal | int, pattern: str) -> str:
    """The value by a Unicode CLDR pattern ("EEE d MMM HH:mm", of a number "0.0"), in English and with the weeks of
    ISO 8601.

    Raises RowFault if the pattern asks for a date of a time, or is none.
    """
    from babel.dates import format_date, format_datetime, format_time

    from whenvoca.values.english import ENGLISH

    try:
        if isinstance(value, int | Decimal):
            return _show_number(value, pattern)
        if isinstance(value, datetime):
            return format_datetime(value, pattern, tzinfo=value.tzinfo, locale=ENGLISH)
        if isinstance(value, date):
            return format_date(value, pattern, locale=ENGLISH)
        return format_time(value, pattern, locale=ENGLISH)
    except (AttributeError, KeyError, ValueError, TypeError) as error:
        raise RowFault(
            f'"{pattern}" cannot show {show_value(value)}',
            fix='a pattern is such as "EEE d MMM HH:mm", of a number "0.0"',
        ) from error


def _show_number(value: Decimal | int, pattern: str) -> str:
    from babel.numbers import format_decimal

    from whenvoca.values.english import ENGLISH

    if not set(pattern) & set("0#"):  # a pattern of none would hide the number
        raise ValueError(pattern)
    return format_decimal(value, format=pattern, locale=ENGLISH)


def clean_text(text: str) -> str:
    """The text without signs that no document can hold: lone surrogates, and control signs but for line breaks."""
    if text.isprintable():
        return text
    kept = text.encode("utf-8", "replace").decode("utf-8")
    return "".join(sign for sign in kept if sign in "\n\r\t" or (sign >= " " and sign != "\x7f"))
