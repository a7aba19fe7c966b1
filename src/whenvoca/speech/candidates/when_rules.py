"""The repetition of a candidate: its first day, its end, and what it leaves out."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, timedelta
from typing import Any

from whenvoca.speech.candidates.when import When
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.day_values import month_span, nth_weekday
from whenvoca.speech.chart.piece import DAY, Days, Piece
from whenvoca.speech.chart.repeats import CODES, Limit, Repetition

UNTIL_WORDS = ("until", "to", "through", "last", "ending", "ends", "end", "finishing", "up", "by", "before", "after")


FROM_WORDS = (
    "from",
    "starting",
    "beginning",
    "start",
    "begin",
    "since",
    "effective",
    "starts",
    "first",
    "commencing",
    "1st",
    "as",
)


_WITHOUT = frozenset("except excepting excluding not no none skip skipping but apart without minus".split())


def lead_of(chart: Chart, piece: Piece[Any]) -> str:
    """The word that leads a piece."""
    lows = chart.text.lows
    first = lows[piece.begin]
    if first in (
        "from",
        "until",
        "to",
        "since",
        "by",
        "on",
        "for",
        "between",
        "starting",
        "beginning",
        "start",
        "commencing",
        "as",
    ):
        return first
    i = piece.begin - 1
    while i >= 0 and lows[i] in ("the", "on", "with", "about", "around", "of", ":", "1", "and", "including", "]"):
        i -= 1
    if i > 0 and lows[i - 1] in ("last", "1st", "starts", "ends") and lows[i] not in FROM_WORDS:
        i -= 1
    return lows[i] if i >= 0 else ""


def _matches(rule: Repetition, day: date) -> bool:
    if "BYSETPOS" in rule.by:
        first, last = month_span(day.year, day.month)
        days = [first + timedelta(days=n) for n in range(last.day)]
        work = [each for each in days if each.weekday() < 5]
        position = int(rule.by.rpartition("=")[2])
        return day == (work[position] if position < 0 else work[position - 1])
    if rule.by.startswith("BYDAY="):
        names = rule.by[6:].split(",")
        if rule.freq == "MONTHLY":
            return any(
                nth_weekday(day.year, day.month, int(each[:-2]), CODES.index(each[-2:])) == day for each in names
            )
        return CODES[day.weekday()] in names
    if rule.by.startswith("BYMONTHDAY="):
        number = int(rule.by.partition("=")[2])
        return day.day == number if number > 0 else (day + DAY).day == 1
    return True


def give_rule(chart: Chart, when: When, rule: Repetition, day: Piece[Days] | None, limit: Piece[Any] | None) -> bool:
    """Gives a reading its rule, and moves its start to the first day that fits; whether there is one."""
    lasts = when.end - when.start
    start = when.start
    first = start.date() if isinstance(start, datetime) else start
    for ahead in range(400):
        candidate = first + timedelta(days=ahead)
        is_past = ahead == 0 and day is None and isinstance(start, datetime) and start <= chart.now
        if _matches(rule, candidate) and not is_past:
            break
    else:
        return False
    moved = timedelta(days=ahead)
    if day is not None and ahead > 45:
        return False
    when.start = start + moved
    when.end = when.start + lasts
    when.marks["moved to rule"] = float(ahead > 0 and day is not None)
    parts = [rule.rule]
    stretch = day.value if day is not None and limit is None and day.value.last > day.value.first else None
    is_from = day is not None and lead_of(chart, day) in FROM_WORDS and day.value.is_period
    if stretch is not None and not is_from and isinstance(when.start, datetime) and stretch.last > candidate:
        parts.append(f"UNTIL={stretch.last:%Y%m%d}T235959")
        when.marks["until by the days"] = 1.0
    if limit is not None:
        value = limit.value
        if isinstance(value, Limit):
            parts.append(f"COUNT={_count(value, rule)}")
        else:
            last = value.last
            if last <= candidate:
                return False
            parts.append(f"UNTIL={last:%Y%m%d}" if when.is_whole else f"UNTIL={last:%Y%m%d}T235959")
    when.repeat = ";".join(parts)
    return True


def _count(limit: Limit, rule: Repetition) -> int:
    per_week = {"WEEKLY": rule.by.count(",") + 1, "DAILY": 7}.get(rule.freq, 0)
    if limit.unit == "week" and per_week:
        return max(1, -(-limit.count * per_week // rule.interval))
    if limit.unit == "fortnight" and per_week:
        return max(1, -(-limit.count * 2 * per_week // rule.interval))
    if limit.unit == "month" and rule.freq == "WEEKLY":
        return max(1, round(limit.count * 4.345 * per_week / rule.interval))
    if limit.unit == "year":
        return limit.count * {"WEEKLY": 52, "MONTHLY": 12, "DAILY": 365}.get(rule.freq, 1) // rule.interval
    return max(1, limit.count)


def leave_out(chart: Chart, when: When, days: Sequence[Piece[Days]]) -> None:
    """Takes days out of a repetition: but not the Thursday; none on the 17th."""
    lows = chart.text.lows
    found: list[datetime | date] = []
    for day in days:
        before = lows[max(0, day.begin - 3) : day.begin + 1]
        if (
            any(day.overlaps(each) for each in when.used)
            or not _WITHOUT & set(before)
            or day.value.first != day.value.last
        ):
            continue
        left = day.value.first
        start = when.start
        found.append(datetime.combine(left, start.time()) if isinstance(start, datetime) else left)
        when.used.append(day)
    if found:
        when.left_out = tuple(sorted(found, key=str))
        when.marks["left out"] = 1.0
