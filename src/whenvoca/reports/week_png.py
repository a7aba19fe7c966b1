"""A week as a picture, drawn by matplotlib (the extra `pictures`)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.reports.pictures import new_figure, save_figure
from whenvoca.reports.week import PALETTE, DayPart, Week, bar_rows, colour_of, shown_hours, time_label


def draw_week(week: Week, calendars: Sequence[str], zone: ZoneInfo, title: str, today: date, path: Path) -> None:
    """Writes a PNG of 1280 by 800. Raises RequestFault if matplotlib is not installed or the file cannot be written."""
    figure = new_figure()
    bars = bar_rows(week)
    low, high = shown_hours(week)
    axes = figure.add_axes((0.05, 0.07, 0.935, 0.80))
    head = 0.62 * (max(bars, default=-1) + 1) + 0.25
    axes.set_xlim(0, 7)
    axes.set_ylim(high, low - head * (high - low) / 16)
    _draw_frame(axes, week, low, high, today)
    for row, (shown, first, last) in zip(bars, week.whole, strict=True):
        top = low - (row + 1) * 0.62 * (high - low) / 16
        height, colour = 0.5 * (high - low) / 16, colour_of(shown, calendars)
        _draw_box(axes, first + 0.03, top, last - first + 0.94, height, colour, full=True)
        at = first + 0.09, top + 0.27 * (high - low) / 16
        axes.text(*at, shown.event.title, color="white", va="center", fontsize=9, clip_on=True)
    for piece in week.pieces:
        _draw_piece(axes, piece, calendars, zone, (high - low))
    figure.text(0.05, 0.945, title, fontsize=15, fontweight="bold", color="#1c2733")
    end = week.first + timedelta(days=6)
    figure.text(
        0.05,
        0.915,
        f"{week.first.day} {week.first:%B} to {end.day} {end:%B %Y}, {zone.key}",
        fontsize=10,
        color="#566666",
    )
    _draw_legend(figure, calendars)
    save_figure(figure, path)


def _draw_frame(axes: Any, week: Week, low: int, high: int, today: date) -> None:
    for number in range(7):
        day = week.first + timedelta(days=number)
        if day.weekday() >= 5:
            axes.axvspan(number, number + 1, color="#f6f7f9", zorder=0)
        if day == today:
            axes.axvspan(number, number + 1, color="#eef6ff", zorder=0)
    for hour in range(low, high + 1):
        axes.axhline(hour, color="#eef1f4", linewidth=0.8, zorder=0.5)
    for number in range(8):
        axes.axvline(number, color="#d5dbe1", linewidth=0.8, zorder=0.6)
    days = [week.first + timedelta(days=number) for number in range(7)]
    labels = [f"{day:%a} {day.day} {day:%b}" + (" · today" if day == today else "") for day in days]
    axes.set_xticks([number + 0.5 for number in range(7)], labels, fontsize=10)
    axes.xaxis.tick_top()
    axes.set_yticks(
        range(low, high + 1), [f"{hour:02d}:00" for hour in range(low, high + 1)], fontsize=9, color="#566666"
    )
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_color("#d5dbe1")


def _draw_box(
    axes: Any, x: float, y: float, width: float, height: float, colour: str, *, full: bool, dashed: bool = False
) -> None:
    from matplotlib.patches import Rectangle

    style = "--" if dashed else "-"
    fill = colour if full else "white"
    axes.add_patch(
        Rectangle((x, y), width, height, facecolor=fill, edgecolor=colour, linewidth=1.2, linestyle=style, zorder=2)
    )
    if not full:
        axes.add_patch(Rectangle((x, y), min(0.045, width), height, facecolor=colour, edgecolor="none", zorder=2.1))


def _draw_piece(axes: Any, piece: DayPart, calendars: Sequence[str], zone: ZoneInfo, span: int) -> None:
    event = piece.shown.event
    width = 0.94 / piece.lanes
    x = piece.day + 0.03 + width * piece.lane
    height = piece.end - piece.begin
    _draw_box(
        axes,
        x,
        piece.begin,
        width - 0.02,
        height,
        colour_of(piece.shown, calendars),
        full=False,
        dashed=event.busy == "tentative",
    )
    label = time_label(event, zone) if piece.is_first else f"until {event.span(zone)[1].astimezone(zone):%H:%M}"
    room = max(4, int(width * 25))
    title = _cut(event.title, room)
    lines = 2 if height >= span * 0.052 else 1
    text = f"{title}\n{label}" if lines == 2 else title
    axes.text(
        x + 0.065,
        piece.begin + span * 0.006,
        text,
        fontsize=8,
        va="top",
        color="#1c2733",
        clip_on=True,
        zorder=3,
        linespacing=1.25,
    )


def _cut(text: str, room: int) -> str:
    return text if len(text) <= room else text[: room - 1].rstrip() + "…"


def _draw_legend(figure: Any, calendars: Sequence[str]) -> None:
    from matplotlib.patches import Patch

    handles = [Patch(facecolor=PALETTE[index % len(PALETTE)], label=name) for index, name in enumerate(calendars)]
    figure.legend(
        handles=handles,
        loc="lower left",
        bbox_to_anchor=(0.045, 0.005),
        ncols=len(handles) or 1,
        frameon=False,
        fontsize=9,
    )
