"""Stretches of days by their everyday names: last month, this quarter, past 60 days, march."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta

from whenvoca.speech.chart.chart import read_chart

_PAST = re.compile(r"(?:the )?(?:past|last|previous) (\d+) (day|week|month)s?", re.IGNORECASE)
_WHOLE = re.compile(r"(?:the )?(this|current|last|previous|next) (month|quarter|year)", re.IGNORECASE)
_DAY = timedelta(days=1)
_MONTHS = {"month": 1, "quarter": 3, "year": 12}


def period_of(text: str, now: datetime, order: str = "") -> tuple[date, date] | None:
    """The first day of a period, and the first one behind it; None where a text names none. ``now`` is a wall time."""
    said, today = " ".join(text.split()), now.date()
    if found := _PAST.fullmatch(said):
        count, unit = int(found[1]), found[2].lower()
        return (
            _months(today, -count) if unit == "month" else today - count * (7 if unit == "week" else 1) * _DAY
        ), today
    if found := _WHOLE.fullmatch(said):
        length = _MONTHS[found[2].lower()]
        first = date(today.year, (today.month - 1) // length * length + 1, 1)
        shift = {"this": 0, "current": 0, "next": length}.get(found[1].lower(), -length)
        return _months(first, shift), _months(first, shift + length)
    chart = read_chart(said, now, order, {})
    if len(chart.days) == 1 and (chart.days[0].begin, chart.days[0].end) == (0, len(chart.text.tokens)):
        return chart.days[0].value.first, chart.days[0].value.last + _DAY
    return None


def _months(day: date, count: int) -> date:
    """So many months later: the same day, or the month's last one."""
    month = day.year * 12 + day.month - 1 + count
    year, number = divmod(month, 12)
    following = date(year + (number + 1) // 12, (number + 1) % 12 + 1, 1)
    return date(year, number + 1, min(day.day, (following - _DAY).day))
