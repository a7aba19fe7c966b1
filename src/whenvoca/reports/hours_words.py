"""What the figures of a report are called, wherever they are shown."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.reports.hours import TIMES, HoursTable, Report

_NOTHING = {"person": "nobody named", "location": "no location", "category": "no category", "organizer": "no organizer"}
_LEFT_OUT = {"free": "free", "whole_day": "whole-day", "tentative": "tentative"}
SHARED_NOTE = "an event counts for each of them, and once in the total"


def hours_of(seconds: int) -> float:
    """Seconds as hours, to the hundredth."""
    return round(seconds / 3600, 2)


def share_of(seconds: int, report: Report) -> float:
    """The share of the total, 0 where that is nothing."""
    return seconds / report.seconds if report.seconds else 0.0


def label_of(by: str, label: str) -> str:
    """A label for people: what has none says so, a day or a month is called by its name."""
    if by == "day":
        day = datetime.fromisoformat(label)
        return f"{day:%a} {day.day} {day:%b %Y}"
    if by == "month":
        return f"{datetime.fromisoformat(label + '-01'):%B %Y}"
    return label or _NOTHING.get(by, "none")


def said_period(report: Report, zone: ZoneInfo) -> str:
    """The period in words, with its last day."""
    first, last = report.begin.astimezone(zone), report.end.astimezone(zone) - timedelta(microseconds=1)
    return f"{first.day} {first:%B %Y} to {last.day} {last:%B %Y}"


def said_left_out(report: Report) -> str:
    """What was left out, in words; empty where nothing was."""
    return ", ".join(
        f"{number} {_LEFT_OUT[why]} event{'s' * (number != 1)}" for why, number in sorted(report.left_out.items())
    )


def is_timed(table: HoursTable) -> bool:
    """Whether its lines are in the order of time."""
    return table.by[0] in TIMES


def to_json(report: Report, unread: list[str]) -> dict[str, Any]:
    """The report as docs/json.md says."""
    return {
        "from": report.begin,
        "until": report.end,
        "total": {"hours": hours_of(report.seconds), "count": report.count},
        "tables": [
            {
                "by": list(table.by),
                "rows": [
                    {
                        **dict(zip(table.by, row.labels, strict=True)),
                        "hours": hours_of(row.seconds),
                        "count": row.count,
                        "share": round(share_of(row.seconds, report), 4),
                    }
                    for row in table.rows
                ],
            }
            for table in report.tables
        ],
        "left_out": dict(report.left_out),
        "unread": unread,
    }
