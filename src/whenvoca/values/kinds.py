"""The kinds of values, their names in the language, and how a value is shown, compared and stored."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, time, timedelta, tzinfo
from decimal import Decimal
from enum import StrEnum
from typing import Any

from whenvoca.values.blanks import is_blank
from whenvoca.values.dates import from_serial
from whenvoca.values.durations import Duration
from whenvoca.values.numbers import tidy_number


class Kind(StrEnum):
    """What a column, field or value holds."""

    TEXT = "text"
    NUMBER = "number"
    YES_NO = "yes-no"
    DATE = "date"
    TIME = "time"
    MOMENT = "moment"
    DURATION = "duration"
    ADDRESSES = "addresses"


# A raw cell as a sheet's backing hands it over; None is an empty cell.
Raw = str | int | float | Decimal | bool | date | datetime | time | timedelta | None


def kind_of(value: Any) -> Kind | None:
    """The kind of a value, None for the empty value and for lists and things."""
    match value:
        case bool():
            return Kind.YES_NO
        case int() | Decimal():
            return Kind.NUMBER
        case str():
            return Kind.TEXT
        case datetime():
            return Kind.MOMENT
        case date():
            return Kind.DATE
        case time():
            return Kind.TIME
        case Duration():
            return Kind.DURATION
    return None


def is_empty(value: Any) -> bool:
    """Whether a value is empty: nothing, a text of blanks, or a list without elements."""
    if value is None:
        return True
    if isinstance(value, str):
        return not "!" <= value[:1] <= "~" and is_blank(value)
    return not value and isinstance(value, list | tuple)


def tidy_raw(value: Raw) -> Raw:
    """A raw cell in its one form: blank texts None, whole floats int, dates at 00:00 of the calendar's start times."""
    if isinstance(value, str):
        return None if is_blank(value) else value
    if isinstance(value, float):
        return tidy_number(value)
    return value


def show_raw(value: Raw) -> str:
    """A raw cell as a message shows it."""
    match value:
        case None:
            return ""
        case bool():
            return "yes" if value else "no"
        case Decimal() | float():
            return f"{tidy_number(value):f}" if isinstance(tidy_number(value), Decimal) else str(tidy_number(value))
        case datetime():
            return f"{value:%Y-%m-%d %H:%M:%S}".removesuffix(":00")
        case date():
            return value.isoformat()
        case time():
            return f"{value:%H:%M:%S}".removesuffix(":00") if not value.second else f"{value:%H:%M:%S}"
        case timedelta():
            hours, rest = divmod(round(value.total_seconds()), 3600)
            return f"{hours}:{rest // 60:02d}"
    return str(value)


def to_plain(value: Any) -> Any:
    """The value as JSON can carry it, with its kind kept; ``from_plain`` is the way back.

    Raises TypeError for what no workflow can hold.
    """
    match value:
        case None | bool() | int() | str():
            return value
        case float():
            return to_plain(tidy_number(value))
        case Decimal():
            return {"number": str(value)}
        case datetime():
            zone, text = getattr(value.tzinfo, "key", None), getattr(value.tzinfo, "text", None)
            plain = {"moment": value.isoformat()} | ({"zone": zone} if zone else {})
            return plain | {"vtimezone": text} if text else plain
        case date():
            return {"date": value.isoformat()}
        case time():
            return {"time": value.isoformat()}
        case timedelta():
            return {"span": value.total_seconds()}
        case Duration():
            return {"duration": [value.months, value.days, value.seconds]}
        case list() | tuple():
            return [to_plain(item) for item in value]
        case dict():
            return {"map": {key: to_plain(item) for key, item in value.items()}}
    raise TypeError(f"{type(value).__name__} cannot be stored")


def _zone_of(plain: Mapping[str, str]) -> tzinfo:
    """The zone of a stored moment, the definition of its file with it where only that knows it."""
    if "vtimezone" in plain:
        from whenvoca.values.file_zones import file_zone

        return file_zone(plain["zone"], plain["vtimezone"])
    from whenvoca.values.zones import load_zone

    return load_zone(plain["zone"])


def from_plain(plain: Any) -> Any:
    """The value that ``to_plain`` stored. Raises ValueError for what ``to_plain`` never wrote."""
    if isinstance(plain, list):
        return [from_plain(item) for item in plain]
    if not isinstance(plain, dict):
        return plain
    match plain:
        case {"number": text}:
            return Decimal(text)
        case {"moment": text, **more}:
            moment = datetime.fromisoformat(text)
            if "zone" in more:
                zone = _zone_of(more)
                local = moment.replace(tzinfo=zone)
                return local if local.utcoffset() == moment.utcoffset() else local.replace(fold=1)
            return moment
        case {"date": text}:
            return date.fromisoformat(text)
        case {"time": text}:
            return time.fromisoformat(text)
        case {"span": seconds}:
            return timedelta(seconds=seconds)
        case {"duration": [months, days, seconds]}:
            return Duration(months, days, seconds)
        case {"map": items}:
            return {key: from_plain(item) for key, item in items.items()}
    raise ValueError(f"stored value {plain!r} is of no known kind")


def serial_value(number: float, kind: Kind, *, epoch_1904: bool) -> date | datetime | time | None:
    """What a bare number means in a column of dates, moments or times, or None."""
    if kind is Kind.TIME:
        seconds = round((number % 1) * 86400)
        return time(seconds // 3600 % 24, seconds // 60 % 60, seconds % 60) if 0 <= number < 1 else None
    wall = from_serial(number, epoch_1904=epoch_1904)
    if wall is None or kind is Kind.MOMENT:
        return wall
    return wall.date() if wall.time() == time() else None
