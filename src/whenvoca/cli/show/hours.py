"""A report in the terminal: tables with bars that read without colour."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

import click

from whenvoca.cli.common import Common
from whenvoca.cli.show.output import Column, count_of, say_next, show_line, show_table, styled
from whenvoca.reports.hours import COMPARED, HoursTable, Report
from whenvoca.reports.hours_words import (
    SHARED_NOTE,
    hours_of,
    is_dated,
    is_timed,
    label_of,
    said_altered,
    said_figure,
    said_left_out,
    said_period,
)
from whenvoca.reports.offered import Used

_MOST_LINES = 10
_BAR = 24  # signs of the longest bar
_EIGHTHS = "▏▎▍▌▋▊▉█"


def show_hours(report: Report, measures: Sequence[str], zone: ZoneInfo, common: Common) -> None:
    """Shows the figures of a report, table by table."""
    total = f"{hours_of(report.seconds):g} hours in {count_of(report.count, 'event')}"
    if report.before is not None:
        total += f" ({hours_of(report.before):g} before)"
    altered = f", {said}" if (said := said_altered(report)) else ""
    show_line((f"{said_period(report.begin, report.end, zone)}, {zone.key}: {total}{altered}", "bold"))
    for table in report.tables:
        _show_table(table, report, measures, every=common.verbose)
    if left_out := said_left_out(report):
        show_line((f"left out: {left_out}", ""))
    if not report.count:
        say_next('another period: whenvoca report --from "last month"', quiet=common.quiet)


def _show_table(table: HoursTable, report: Report, measures: Sequence[str], *, every: bool) -> None:
    measures = [each for each in measures if each not in COMPARED or not is_dated(table)]
    rows = table.rows if every else table.rows[:_MOST_LINES] if not is_timed(table) else table.rows
    most = max((row.seconds for row in table.rows), default=0)
    columns = [Column(name) for name in table.by]
    columns += [Column(name, align="right") for name in measures] + [Column("", drop=1)]
    lines = [
        (
            *map(label_of, table.by, row.labels),
            *(said_figure(each, row, report) for each in measures),
            styled(_bar(row.seconds, most), "cyan"),
        )
        for row in rows
    ]
    if lines:
        click.echo()
        show_table(columns, lines)
    if len(rows) < len(table.rows):
        show_line((f"and {len(table.rows) - len(rows)} more; all of them: --verbose", "dim"))
    if lines and table.is_shared:
        show_line((SHARED_NOTE, "dim"))


def show_used(used: Sequence[Used], offered: str) -> None:
    """Shows how much of the hours on offer was used."""
    click.echo()
    columns = [Column("location"), *(Column(each, align="right") for each in ("used", "offered", "share"))]
    lines = []
    for each in used:
        share = each.used / each.offered if each.offered else 0.0
        figures = f"{hours_of(each.used):,.2f}", f"{hours_of(each.offered):,.2f}", f"{share:.0%}"
        bar = styled(_bar(each.used, each.offered), "cyan")
        lines.append((label_of("location", each.location), *figures, bar))
    show_line((f"of {offered} each day:", "bold"))
    show_table([*columns, Column("", drop=1)], lines)


def _bar(seconds: int, most: int) -> str:
    """A bar that can be read without colour."""
    eighths = round(seconds / most * _BAR * 8) if most else 0
    return "█" * (eighths // 8) + (_EIGHTHS[eighths % 8 - 1] if eighths % 8 else "")
