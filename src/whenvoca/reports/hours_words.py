"""What the figures of a report are called, wherever they are shown."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.reports.hours import COMPARED, DATED, TIMES, HoursRow, HoursTable, Report
from whenvoca.reports.offered import Used

_NOTHING = {"person": "nobody named", "location": "no location", "category": "no category", "organizer": "no organizer"}
_LEFT_OUT = {"free": "free", "whole_day": "whole-day", "tentative": "tentative"}
CSV_HEADINGS = ("table", "label", "with")
SHARED_NOTE = "an event counts for each of them, and once in the total"


def hours_of(seconds: int) -> float:
    """Seconds as hours, to the hundredth."""
    return round(seconds / 3600, 2)


def figure_of(measure: str, row: HoursRow, report: Report) -> int | float | None:
    """One figure of a line; None where nobody knows it."""
    match measure:
        case "hours":
            return hours_of(row.seconds)
        case "count":
            return row.count
        case "share":
            return round(share_of(row.seconds, report), 4)
        case "before":
            return None if row.before is None else hours_of(row.before)
        case "change":
            return None if row.before is None else hours_of(row.seconds - row.before)
    if report.altered is None:
        return None
    return row.moved if measure == "moved" else row.called_off


def said_figure(measure: str, row: HoursRow, report: Report) -> str:
    """The same for people."""
    figure = figure_of(measure, row, report)
    if figure is None:
        return "" if measure in COMPARED else "not known"
    form = {"hours": ",.2f", "share": ".0%", "before": ",.2f", "change": "+,.2f" if figure else ".2f"}.get(measure, ",")
    return f"{figure:{form}}"


def said_altered(report: Report) -> str:
    """What was moved and called off in all, in words; empty where it is not known."""
    if report.altered is None:
        return ""
    return f"{report.altered.moved:,} moved, {report.altered.called_off:,} called off"


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


def said_period(begin: datetime, end: datetime, zone: ZoneInfo) -> str:
    """The period in words, with its last day."""
    first, last = begin.astimezone(zone), end.astimezone(zone) - timedelta(microseconds=1)
    return f"{first.day} {first:%B %Y} to {last.day} {last:%B %Y}"


def said_left_out(report: Report) -> str:
    """What was left out, in words; empty where nothing was."""
    return ", ".join(
        f"{number} {_LEFT_OUT[why]} event{'s' * (number != 1)}" for why, number in sorted(report.left_out.items())
    )


def is_dated(table: HoursTable) -> bool:
    """Whether its lines come once in time, so that an earlier time has none of them."""
    return any(each in DATED for each in table.by)


def is_timed(table: HoursTable) -> bool:
    """Whether its lines are in the order of time."""
    return table.by[0] in TIMES


def to_rows(report: Report, measures: Sequence[str]) -> list[dict[str, Any]]:
    """Every line of every table: its table, its labels, its figures."""
    return [
        {
            "table": " with ".join(table.by),
            "label": row.labels[0],
            "with": "".join(row.labels[1:]),
            **{measure: figure_of(measure, row, report) for measure in measures},
        }
        for table in report.tables
        for row in table.rows
    ]


def to_csv(report: Report, measures: Sequence[str]) -> str:
    """A line for each line of each table; what is not known is empty."""
    out = io.StringIO()
    writer = csv.DictWriter(out, [*CSV_HEADINGS, *measures], lineterminator="\n")
    writer.writeheader()
    writer.writerows(to_rows(report, measures))
    return out.getvalue()


def to_json(
    report: Report, measures: Sequence[str], unread: list[str], used: Sequence[Used] | None = None
) -> dict[str, Any]:
    """The report as docs/json.md says."""
    total = report.whole
    return {
        "from": report.begin,
        "until": report.end,
        "total": {name.replace("-", "_"): figure_of(name, total, report) for name in measures if name != "share"},
        "tables": [
            {
                "by": list(table.by),
                "rows": [
                    {
                        **dict(zip(table.by, row.labels, strict=True)),
                        **{name.replace("-", "_"): figure_of(name, row, report) for name in measures},
                    }
                    for row in table.rows
                ],
            }
            for table in report.tables
        ],
        **({} if used is None else {"offered": [_used_to_json(each) for each in used]}),
        "left_out": dict(report.left_out),
        "unread": unread,
    }


def _used_to_json(used: Used) -> dict[str, Any]:
    share = round(used.used / used.offered, 4) if used.offered else 0
    return {"location": used.location, "hours": hours_of(used.used), "offered": hours_of(used.offered), "share": share}
