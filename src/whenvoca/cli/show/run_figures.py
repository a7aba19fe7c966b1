"""The report of runs in the terminal and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import click

from whenvoca.cli.show.output import Column, count_of, show_line, show_table
from whenvoca.reports.hours_words import label_of, said_period
from whenvoca.reports.runs import RunFigures, RunsReport


def runs_to_json(report: RunsReport, low: datetime, high: datetime) -> dict[str, Any]:
    """The report as docs/json.md says."""
    return {
        "from": low,
        "until": high,
        "total": _told(report.total),
        "workflows": [{"workflow": each.label, **_told(each)} for each in report.workflows],
        "days": [{"day": each.label, **_told(each)} for each in report.days],
    }


def _told(figures: RunFigures) -> dict[str, int]:
    return {
        "runs": figures.runs,
        "failed": figures.failed,
        "undone": figures.undone,
        "mean_ms": figures.mean,
        "longest_ms": figures.longest,
    }


def show_runs_report(report: RunsReport, low: datetime, high: datetime, zone: ZoneInfo) -> None:
    """Shows a table by workflow and one by day."""
    total = report.total
    failed = f", {total.failed:,} failed" if total.failed else ""
    undone = f", {total.undone:,} taken back" if total.undone else ""
    show_line((f"{said_period(low, high, zone)}: {count_of(total.runs, 'run')}{failed}{undone}", "bold"))
    if total.runs:
        _show("workflow", report.workflows)
        _show("day", report.days)


def _show(heading: str, lines: Sequence[RunFigures]) -> None:
    click.echo()
    columns = [Column(heading)]
    columns += [Column(each, align="right") for each in ("runs", "failed", "taken back", "ms a run", "longest ms")]
    show_table(
        columns,
        [(label_of(heading, each.label), *(f"{figure:,}" for figure in _told(each).values())) for each in lines],
    )
