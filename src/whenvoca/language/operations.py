"""What values do with each other: reckoning, comparing, and the functions of the language."""

from __future__ import annotations

import fnmatch
from collections.abc import Callable, Mapping
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.errors import RowFault
from whenvoca.values.addresses import split_addresses
from whenvoca.values.durations import Duration, add_to_date, add_to_moment, sum_durations
from whenvoca.values.kinds import is_empty
from whenvoca.values.numbers import shape_number, tidy_number
from whenvoca.values.texts import show_value
from whenvoca.values.towns import town_of
from whenvoca.values.usable import refuse_unusable, within_the_calendar
from whenvoca.values.working_days import WorkingDays
from whenvoca.values.zones import first_moment


def to_instant(value: Any, zone: ZoneInfo) -> datetime:
    """A moment, or a date's first moment. Raises RowFault for anything else."""
    if isinstance(value, datetime):
        return value
    if isinstance(value, date):
        refuse_unusable(value, "day")
        return first_moment(value, zone)
    raise RowFault(f"{show_value(value)} is no moment", fix='join a date with a time: "Day at Begin"')


def to_list(value: Any) -> list[Any]:
    """The value as a list: nothing, its elements, or itself alone."""
    if is_empty(value):
        return []
    return list(value) if isinstance(value, list | tuple) else [value]


def calculate(first: Any, sign: str, second: Any, zone: ZoneInfo) -> Any:
    """LEFT + - * / RIGHT. Raises RowFault where the two cannot be reckoned, or it leaves the calendar."""
    with within_the_calendar(f"{show_value(first)} {sign} {show_value(second)}"):
        if sign in ("+", "-"):
            second = _as_span(second, first)
        return _calculate(first if sign == "*" else _as_span(first, second), sign, second, zone)


def _as_span(value: Any, other: Any) -> Any:
    """No time at all instead of the number 0 beside a duration or a day: a sum of nothing is 0, whatever it is a sum
    of."""
    is_nought = isinstance(value, int) and not isinstance(value, bool) and value == 0
    return Duration() if is_nought and isinstance(other, Duration | date) else value


def _calculate(first: Any, sign: str, second: Any, zone: ZoneInfo) -> Any:
    match first, sign, second:
        case (int() | Decimal(), _, int() | Decimal()) if not isinstance(first, bool):
            return _reckon(Decimal(first), sign, Decimal(second))
        case date(), "+" | "-", WorkingDays():
            return (second if sign == "+" else -second).after(first)
        case datetime(), "+" | "-", Duration():
            return add_to_moment(first, second if sign == "+" else -second)
        case date(), "+" | "-", Duration():
            return add_to_date(first, second if sign == "+" else -second)
        case Duration(), "+", datetime():
            return add_to_moment(second, first)
        case Duration(), "+", date():
            return add_to_date(second, first)
        case Duration(), "+", Duration():
            return first + second
        case Duration(), "-", Duration():
            return first - second
        case Duration(), "/", Duration():
            return _reckon(Decimal(first.to_seconds()), "/", Decimal(second.to_seconds()))
        case Duration(), "*" | "/", int() | Decimal():
            return Duration(seconds=round(_exact(first.to_seconds(), sign, second)))
        case int() | Decimal(), "*", Duration():
            return Duration(seconds=round(_exact(second.to_seconds(), "*", first)))
        case time(), "-", time():
            return Duration(seconds=_clock_seconds(first) - _clock_seconds(second))
        case date(), "-", date() if not isinstance(first, datetime) and not isinstance(second, datetime):
            return Duration(days=(first - second).days)
        case date(), "-", date():
            return Duration.between(to_instant(second, zone), to_instant(first, zone))
    raise RowFault(f"{show_value(first)} {sign} {show_value(second)} cannot be reckoned")


def _exact(seconds: int, sign: str, factor: Decimal | int) -> Decimal:
    return Decimal(_reckon(Decimal(seconds), sign, Decimal(factor)))


def _clock_seconds(clock: time) -> int:
    return clock.hour * 3600 + clock.minute * 60 + clock.second


def _reckon(first: Decimal, sign: str, second: Decimal) -> int | Decimal:
    match sign:
        case "+":
            return tidy_number(first + second)
        case "-":
            return tidy_number(first - second)
        case "*":
            return tidy_number(first * second)
    if not second:
        raise RowFault(f"{first} cannot be divided by nothing")
    return tidy_number(first / second)


def compare_order(first: Any, sign: str, second: Any, zone: ZoneInfo) -> bool:
    """Whether LEFT < <= > >= RIGHT; never where one of them is empty. Raises RowFault where the two have no order."""
    if is_empty(first) or is_empty(second):
        return False
    if (
        isinstance(first, datetime) != isinstance(second, datetime)
        and isinstance(first, date)
        and isinstance(second, date)
    ):
        first, second = to_instant(first, zone), to_instant(second, zone)
    first, second = _as_span(first, second), _as_span(second, first)
    if isinstance(first, Duration) and isinstance(second, Duration):
        first, second = first.to_seconds(), second.to_seconds()
    if isinstance(first, str) and isinstance(second, str):
        first, second = first.casefold(), second.casefold()
    try:
        match sign:
            case "<":
                return bool(first < second)
            case "<=":
                return bool(first <= second)
            case ">":
                return bool(first > second)
        return bool(first >= second)
    except TypeError as error:
        raise RowFault(f"{show_value(first)} and {show_value(second)} cannot be compared") from error


def is_same(first: Any, second: Any, zone: ZoneInfo) -> bool:
    """Whether two values are the same: texts without regard to case, dates as moments, a list any of whose."""
    if is_empty(first) or is_empty(second):
        return is_empty(first) and is_empty(second)
    if isinstance(first, list | tuple) != isinstance(second, list | tuple):
        several, one = (first, second) if isinstance(first, list | tuple) else (second, first)
        return any(is_same(item, one, zone) for item in several)
    if isinstance(first, str) != isinstance(second, str):
        return _fold(show_value(first)) == _fold(show_value(second))
    if isinstance(first, str):
        return _fold(first) == _fold(second)
    if (
        isinstance(first, datetime) != isinstance(second, datetime)
        and isinstance(first, date)
        and isinstance(second, date)
    ):
        return to_instant(first, zone) == to_instant(second, zone)
    if isinstance(first, bool) != isinstance(second, bool):
        return False
    if isinstance(first, list | tuple):
        return len(first) == len(second) and all(is_same(a, b, zone) for a, b in zip(first, second, strict=True))
    return bool(first == second)


def _fold(text: str) -> str:
    return " ".join(text.casefold().split())


def _contains(first: Any, second: Any, zone: ZoneInfo) -> bool:
    if is_empty(first) or is_empty(second):
        return False
    if isinstance(first, list | tuple):
        return any(is_same(item, second, zone) for item in first)
    return _fold(show_value(second)) in _fold(show_value(first))


def _any_text(test: Callable[[str, str], bool]) -> Callable[[Any, Any, ZoneInfo], bool]:
    def tell(first: Any, second: Any, _: ZoneInfo) -> bool:
        if is_empty(first) or is_empty(second):
            return False
        wanted = _fold(show_value(second))
        return any(test(_fold(show_value(item)), wanted) for item in to_list(first))

    return tell


TEXT_RELATIONS: Mapping[str, Callable[[Any, Any, ZoneInfo], bool]] = {
    "is": is_same,
    "contains": _contains,
    "begins with": _any_text(str.startswith),
    "ends with": _any_text(str.endswith),
    "like": _any_text(fnmatch.fnmatchcase),
}


def _sum_all(items: Any) -> Any:
    found = [item for item in to_list(items) if not is_empty(item)]
    if found and all(isinstance(item, Duration) for item in found):
        return sum_durations(found)
    if not all(isinstance(item, int | Decimal) for item in found):
        raise RowFault("sum adds numbers or durations")
    return tidy_number(sum((Decimal(item) for item in found), Decimal(0)))


def _to_number(value: Any) -> int | Decimal | None:
    if is_empty(value) or isinstance(value, int | Decimal):
        return None if is_empty(value) else tidy_number(value)
    shaped = shape_number(str(value))
    values = set(shaped.fits.values()) if shaped else set()
    if len(values) != 1:
        raise RowFault(
            f"{show_value(value)} is no number" if not values else f"{show_value(value)} can be read in two ways"
        )
    return tidy_number(values.pop())


def _split(value: Any, sign: Any = None) -> list[str]:
    if is_empty(value):
        return []
    text = show_value(value)
    return [piece.strip() for piece in text.split(str(sign)) if piece.strip()] if sign else split_addresses(text)


FUNCTIONS: Mapping[str, Callable[..., Any]] = {
    "count": lambda items: len(to_list(items)),
    "sum": _sum_all,
    "first": lambda items: next(iter(to_list(items)), None),
    "last": lambda items: next(iter(reversed(to_list(items))), None),
    "join": lambda items, sign=", ": show_value(sign).join(show_value(item) for item in to_list(items)),
    "split": _split,
    "lower": lambda value: show_value(value).lower(),
    "upper": lambda value: show_value(value).upper(),
    "round": lambda value, digits=0: None if is_empty(value) else tidy_number(round(Decimal(value), int(digits))),
    "number": _to_number,
    "town": lambda value: town_of(show_value(value)),
}
