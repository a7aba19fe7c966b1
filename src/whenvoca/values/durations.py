"""Durations: days, weeks and months count on the calendar, hours and minutes on the clock."""

from __future__ import annotations

import calendar
import re
from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.errors import RowFault
from whenvoca.values.blanks import plain_signs
from whenvoca.values.zones import to_moment

UNITS = {
    "second": (0, 0, 1),
    "minute": (0, 0, 60),
    "hour": (0, 0, 3600),
    "day": (0, 1, 0),
    "week": (0, 7, 0),
    "month": (1, 0, 0),
    "year": (12, 0, 0),
}
_SHORT = {
    "s": "second",
    "sec": "second",
    "m": "minute",
    "min": "minute",
    "mins": "minute",
    "h": "hour",
    "hr": "hour",
    "hrs": "hour",
    "std": "hour",
    "d": "day",
    "w": "week",
}
_PIECE = re.compile(r"(\d+(?:[.,]\d+)?)\s*([a-z]+)\.?", re.IGNORECASE)
_ISO = re.compile(r"P(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?\Z", re.IGNORECASE)
_NEVER_FIRST = frozenset("bcdefgijklmnoqrstuvwxyzBCDEFGIJKLMNOQRSTUVWXYZ")  # but an hour, half an hour, PT1H
_CLOCK = re.compile(r"(\d{1,4}):([0-5]\d)(?::([0-5]\d))?\Z")


class Duration(Struct, frozen=True):
    """A span: whole ``months`` and ``days`` on the calendar, then ``seconds`` on the clock."""

    months: int = 0
    days: int = 0
    seconds: int = 0

    @classmethod
    def of(cls, amount: Decimal | int, unit: str) -> Duration:
        """So many of a unit ("minute", "hours", …). Raises RowFault for a part of a day or month."""
        months, days, seconds = UNITS[unit.lower().removesuffix("s")]
        if seconds:
            return cls(seconds=round(amount * seconds))
        if amount != int(amount):
            raise RowFault(f"{amount} {unit} is no whole number of {unit}", fix="give hours or minutes instead")
        return cls(months=int(amount) * months, days=int(amount) * days)

    @classmethod
    def between(cls, start: datetime, end: datetime) -> Duration:
        """The time that passes on the clock from start to end; negative if end comes first."""
        return cls(seconds=round((end.astimezone(UTC) - start.astimezone(UTC)).total_seconds()))

    def __add__(self, other: Duration) -> Duration:
        return Duration(self.months + other.months, self.days + other.days, self.seconds + other.seconds)

    def __neg__(self) -> Duration:
        return Duration(-self.months, -self.days, -self.seconds)

    def __sub__(self, other: Duration) -> Duration:
        return self + -other

    def __bool__(self) -> bool:
        return bool(self.months or self.days or self.seconds)

    def to_seconds(self) -> int:
        """The length in seconds, a day being 24 hours. Raises RowFault where months are in it."""
        if self.months:
            raise RowFault("a month has no fixed length", fix="give days, hours or minutes")
        return self.days * 86400 + self.seconds

    def in_days(self) -> Duration:
        """The same length in days of 24 hours and the rest, as alarms are counted: what is written as -P1D is read as
        one day again, and 24 hours are one. Raises RowFault where months are in it."""
        seconds = self.to_seconds()
        sign = -1 if seconds < 0 else 1
        days, rest = divmod(abs(seconds), 86400)
        return Duration(days=sign * days, seconds=sign * rest)

    def to_timedelta(self) -> timedelta:
        """The same as a timedelta, a day being 24 hours. Raises RowFault where months are in it."""
        return timedelta(seconds=self.to_seconds())


def add_to_date(day: date, span: Duration) -> date:
    """The date so much later. Raises RowFault if hours or minutes are in the span."""
    if span.seconds:
        raise RowFault("hours and minutes cannot be added to a date", fix='join it with a time first: "Day at Begin"')
    return _shift(day, span.months) + timedelta(days=span.days)


def add_to_moment(moment: datetime, span: Duration) -> datetime:
    """The moment so much later: first on the calendar at the same wall time, then on the clock.

    Raises RowFault if the wall time falls into a gap or an overlap of the clocks.
    """
    zone = moment.tzinfo
    if span.months or span.days:
        day = _shift(moment.date(), span.months) + timedelta(days=span.days)
        wall = datetime.combine(day, moment.time())
        moment = to_moment(wall, zone) if isinstance(zone, ZoneInfo) else wall.replace(tzinfo=zone)
    if span.seconds:
        moment = (moment.astimezone(UTC) + timedelta(seconds=span.seconds)).astimezone(zone)
    return moment


def _shift(day: date, months: int) -> date:
    if not months:
        return day
    year, month = divmod(day.year * 12 + day.month - 1 + months, 12)
    return date(year, month + 1, min(day.day, calendar.monthrange(year, month + 1)[1]))


def parse_duration(text: str) -> Duration | None:
    """A duration as people and ISO 8601 write it ("1 h 30 min", "90 minutes", "PT1H30M"), else None."""
    if text[:1] in _NEVER_FIRST:
        return None
    text = plain_signs(text)
    if iso := _ISO.match(text):
        weeks, days, hours, minutes, seconds = (int(part or 0) for part in iso.groups())
        found = Duration(days=weeks * 7 + days, seconds=hours * 3600 + minutes * 60 + seconds)
        return found if any(iso.groups()) else None
    position, total = 0, Duration()
    lowered = re.sub(r"\band\b|,\s", " ", text.lower())
    if half := re.fullmatch(r"(?:an? )?(hour|half an hour|hour and a half)", text.lower()):
        return Duration(seconds={"hour": 3600, "half an hour": 1800, "hour and a half": 5400}[half[1]])
    if bare := re.fullmatch(r"(\d+) ?h ?([0-5]\d)", lowered):
        return Duration(seconds=int(bare[1]) * 3600 + int(bare[2]) * 60)
    while position < len(lowered):
        if lowered[position] == " ":
            position += 1
            continue
        piece = _PIECE.match(lowered, position)
        unit = piece and _SHORT.get(piece[2], piece[2].removesuffix("s"))
        if piece is None or unit not in UNITS:
            return None
        amount = Decimal(piece[1].replace(",", "."))
        if amount != int(amount) and not UNITS[unit][2]:
            return None
        total, position = total + Duration.of(amount, unit), piece.end()
    return total if lowered.strip() else None


def parse_clock_duration(text: str) -> Duration | None:
    """ "1:30" as one hour thirty minutes; only where a duration is known to stand."""
    found = _CLOCK.match(plain_signs(text))
    if not found:
        return None
    return Duration(seconds=int(found[1]) * 3600 + int(found[2]) * 60 + int(found[3] or 0))


def show_duration(span: Duration) -> str:
    """The duration in words: "1 hour 30 minutes"."""
    sign = "-" if min(span.months, span.days, span.seconds) < 0 else ""
    hours, rest = divmod(abs(span.seconds), 3600)
    minutes, seconds = divmod(rest, 60)
    pieces = [
        (abs(span.months), "month"),
        (abs(span.days), "day"),
        (hours, "hour"),
        (minutes, "minute"),
        (seconds, "second"),
    ]
    words = [f"{amount} {unit}{'s' * (amount != 1)}" for amount, unit in pieces if amount]
    return sign + (" ".join(words) or "0 minutes")


def sum_durations(spans: Iterable[Duration]) -> Duration:
    """All of them, one after the other."""
    total = Duration()
    for span in spans:
        total = total + span
    return total
