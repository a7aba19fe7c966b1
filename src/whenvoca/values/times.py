"""Times of day, and moments (a date with a time) as texts."""

from __future__ import annotations

import re
from datetime import datetime, time, timedelta, timezone
from functools import lru_cache

from whenvoca.values.blanks import plain_signs
from whenvoca.values.dates import Shaped, shape_date

HALF_DAY, WHOLE_DAY = "12-hour", "24-hour"

_MARK = r"(?P<mark>[ap])\.?(?: ?m)?\.?"
_TIME = re.compile(
    rf"(?P<hour>\d{{1,2}})(?:(?P<sign>[:.h]|(?: ?h "
    rf"?))(?P<minute>[0-9]{{2}})(?:(?P=sign)(?P<second>[0-9]{{2}})(?:\.\d+)?)?)?"
    rf"(?: ?(?P<h>h|hrs|uhr|o'clock))?(?: ?{_MARK})?\Z",
    re.IGNORECASE,
)
_WORDS = {"noon": time(12), "midday": time(12), "midnight": time(0)}
_OFFSET = re.compile(
    r" ?(?:(?P<utc>Z|UTC|GMT)|(?:UTC|GMT)?(?P<sign>[+-])(?P<hours>\d{2}):?(?P<minutes>\d{2})?)\Z", re.IGNORECASE
)
_24_HOURS = re.compile(r"\d ?(?:h\d|(?:h|hrs|uhr)\b)", re.IGNORECASE)
_NOON_WORD = re.compile(r"(?:12(?::00)? ?)?(noon|midday|midnight)\Z", re.IGNORECASE)


def shape_time(text: str, *, eager: bool = False) -> Shaped | None:
    """The time that a text means, or None if it does not look like one.

    With ``eager``, forms that could also be numbers count ("9", "9.30", "0930"): for columns said to hold times.
    """
    return _shape_time(plain_signs(text), eager)


@lru_cache(maxsize=8192)
def _shape_time(text: str, eager: bool) -> Shaped | None:
    if word := _NOON_WORD.match(text):
        return Shaped({"": _WORDS[word[1].lower()]})
    if eager and (bare := re.fullmatch(r"(\d{1,2})(\d{2})", text)):
        return _to_time(int(bare[1]), int(bare[2]), 0, "", text)
    found = _TIME.match(text)
    if not found:
        return None
    mark, sign = (found["mark"] or "").lower(), (found["sign"] or "").strip()
    if not eager and not mark and not found["h"] and sign not in (":", "h", "H"):
        return None
    return _to_time(int(found["hour"]), int(found["minute"] or 0), int(found["second"] or 0), mark, text)


def _to_time(hour: int, minute: int, second: int, mark: str, text: str) -> Shaped:
    if minute > 59 or second > 59:
        return Shaped(fault=f"{text} is no time: an hour has 60 minutes")
    if mark:
        if not 1 <= hour <= 12:
            return Shaped(fault=f"{text} is no time: with am or pm an hour is 1 to 12")
        return Shaped({HALF_DAY: time(hour % 12 + (12 if mark == "p" else 0), minute, second)})
    if hour == 24 and not minute:
        return Shaped(fault=f"{text} is no time of this day; write 00:00, which is the next day's first moment")
    if hour > 23:
        return Shaped(fault=f"{text} is no time: a day has 24 hours")
    return Shaped({WHOLE_DAY: time(hour, minute, second)})


def is_of_24_hours(text: str) -> bool:
    """Whether a time is written as it is written on the 24-hour clock alone: 10h30, 9 Uhr."""
    return _24_HOURS.search(text) is not None


def shape_moment(text: str) -> Shaped | None:
    """The moments that a text could mean, or None. A value is naive, or aware where the text gives an offset."""
    return _shape_moment(plain_signs(text))


@lru_cache(maxsize=8192)
def _shape_moment(text: str) -> Shaped | None:
    bare, zone = _take_offset(text)
    for day_text, time_text in _splits(bare):
        clock = shape_time(time_text)
        if clock is None:
            continue
        day = shape_date(day_text)
        if day is None:
            continue
        if day.fault or clock.fault:
            return Shaped(fault=day.fault or clock.fault)
        at = next(iter(clock.fits.values()))
        fits = {order: datetime.combine(that, at, tzinfo=zone) for order, that in day.fits.items()}
        return Shaped(fits, format=day.format)
    return None


def _take_offset(text: str) -> tuple[str, timezone | None]:
    found = _OFFSET.search(text)
    if not found or not re.search(
        r"\d[:.h]\d\d(?::\d\d(?:\.\d+)?)?\Z|T\d{4,6}\Z|[ap]\.?m\.?\Z", text[: found.start()], re.IGNORECASE
    ):
        return text, None
    if found["utc"]:
        return text[: found.start()], timezone(timedelta())
    hours, minutes = int(found["hours"]), int(found["minutes"] or 0)
    if hours > 14 or minutes > 59:
        return text, None
    span = timedelta(hours=hours, minutes=minutes)
    return text[: found.start()], timezone(-span if found["sign"] == "-" else span)


def _splits(text: str) -> list[tuple[str, str]]:
    """Each way to part the text into a date and a time, the date first or last."""
    found: list[tuple[str, str]] = []
    if match := re.match(r"(\d{4}-\d{2}-\d{2}|\d{8})[Tt](\d.*)", text):
        clock = match[2]
        compact = re.fullmatch(r"(\d{2})(\d{2})(\d{2})?", clock)
        found.append((match[1], ":".join(part for part in compact.groups() if part) if compact else clock))
    for gap in re.finditer(r",? (?:at |um |, )?|, ?", text):
        left, right = text[: gap.start()], text[gap.end() :]
        if left and right:
            found += [(left, right), (right, left)]
    return found


def show_time(clock: time) -> str:
    """A time as we write it everywhere: 21:30, with seconds only where there are any."""
    return f"{clock:%H:%M:%S}" if clock.second else f"{clock:%H:%M}"
