"""A report as a picture, drawn by matplotlib (the extra `pictures`): each table as bars with their figures."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.reports.hours import HoursTable, Report
from whenvoca.reports.hours_words import SHARED_NOTE, hours_of, is_timed, label_of, said_left_out, said_period
from whenvoca.reports.pictures import new_figure, save_figure

_MOST_TABLES, _MOST_BARS, _LONGEST = 4, 9, 28
_INK, _QUIET, _BAR = "#1d2730", "#5b6873", "#2f6f8f"  # as on the page; they differ in greyscale too


def draw_hours(report: Report, title: str, zone: ZoneInfo, path: Path) -> None:
    """Writes a PNG of 1280 by 800 of the first four tables. Raises RequestFault if matplotlib is not installed or the
    file cannot be written."""
    figure = new_figure()
    figure.text(0.04, 0.94, _plain(title), fontsize=17, fontweight="bold", color=_INK)
    figure.text(0.04, 0.905, f"{said_period(report.begin, report.end, zone)}, {zone.key}", fontsize=11, color=_QUIET)
    told = f"{hours_of(report.seconds):,g} hours in {report.count:,} event{'s' * (report.count != 1)}"
    figure.text(0.96, 0.94, told, fontsize=14, color=_INK, ha="right")
    if left_out := said_left_out(report):
        figure.text(0.96, 0.905, f"left out: {left_out}", fontsize=11, color=_QUIET, ha="right")
    shown = report.tables[:_MOST_TABLES]
    wide, high = (1, len(shown)) if len(shown) < 2 else (2, (len(shown) + 1) // 2)
    for number, table in enumerate(shown):
        left, below = 0.04 + 0.48 * (number % 2), 0.86 - (0.84 / high) * (number // 2 + 1)
        _draw_table(figure, table, (left, below + 0.02, (0.92 if wide == 1 else 0.44), 0.84 / high - 0.07))
    save_figure(figure, path)


def _draw_table(figure: Any, table: HoursTable, box: tuple[float, float, float, float]) -> None:
    left, below, width, height = box
    rows = table.rows[-_MOST_BARS:] if is_timed(table) else table.rows[:_MOST_BARS]
    which = f"the last {len(rows)}" if is_timed(table) else f"the {len(rows)} longest"
    note = f" ({which} of {len(table.rows):,})" if len(rows) < len(table.rows) else ""
    heading = f"Hours by {' with '.join(table.by)}{note}"
    figure.text(left, below + height + 0.015, heading, fontsize=12, fontweight="bold", color=_INK)
    if table.is_shared:
        figure.text(left + width, below + height + 0.015, SHARED_NOTE, fontsize=8.5, color=_QUIET, ha="right")
    names = 0.42 * width
    axes = figure.add_axes((left + names, below, width - names, height))
    axes.set_axis_off()
    most = max((row.seconds for row in rows), default=0) or 1
    axes.set_xlim(0, most * 1.22)  # room for the figures behind the bars
    axes.set_ylim(_MOST_BARS - 0.4, -0.6)
    for number, row in enumerate(rows):
        axes.barh(number, row.seconds, height=0.62, color=_BAR)
        axes.text(
            row.seconds + most * 0.015, number, f"{hours_of(row.seconds):,g}", va="center", fontsize=10, color=_INK
        )
        label = _plain(_short(", ".join(map(label_of, table.by, row.labels))))
        axes.text(-most * 0.03, number, label, va="center", ha="right", fontsize=10, color=_INK)
    if not rows:
        axes.text(0, 0, "nothing in this time", va="center", fontsize=10, color=_QUIET)


def _short(label: str) -> str:
    return label if len(label) <= _LONGEST else f"{label[: _LONGEST - 1].rstrip()}…"


def _plain(text: str) -> str:
    """Without the sign that begins a formula in pictures."""
    return text.replace("$", r"\$")
