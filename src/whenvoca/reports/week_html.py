"""A week as a page of its own: no script, nothing fetched."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from html import escape
from zoneinfo import ZoneInfo

from whenvoca.reports.week import PALETTE, Week, bar_rows, colour_of, shown_hours, time_label

_STYLE = """
:root { color-scheme: light; font: 14px/1.35 system-ui, "DejaVu Sans", sans-serif; color: #1c2733; }
body { margin: 24px; background: #fff; }
h1 { font-size: 20px; margin: 0 0 4px; } .sub { color: #566; margin: 0 0 16px; }
.grid { display: grid; grid-template-columns: 52px repeat(7, 1fr); border: 1px solid #d5dbe1; }
.head { padding: 6px 8px; font-weight: 600; border-bottom: 1px solid #d5dbe1; border-left: 1px solid #e6eaee; }
.head.weekend { background: #f6f7f9; } .corner { border-bottom: 1px solid #d5dbe1; }
.whole { grid-row: 2; min-height: 8px; border-left: 1px solid #e6eaee; }
.bar { margin: 2px; padding: 2px 6px; border-radius: 3px; color: #fff; overflow: hidden; text-overflow: ellipsis;
  white-space: nowrap; z-index: 1; }
.hours, .day { position: relative; } .day { border-left: 1px solid #e6eaee; }
.hours span { position: absolute; right: 6px; transform: translateY(-50%); color: #677; font-size: 12px; }
.line { position: absolute; left: 0; right: 0; border-top: 1px solid #eef1f4; }
.event { position: absolute; box-sizing: border-box; padding: 2px 5px; border-radius: 3px; overflow: hidden;
  background: #fff; border: 1px solid; border-left-width: 5px; font-size: 12px; }
.event b { display: block; font-weight: 600; white-space: nowrap; overflow: hidden;
  text-overflow: ellipsis; } .tentative { border-style: dashed; }
.legend { margin: 12px 0 0; padding: 0; list-style: none; display: flex; gap: 18px; }
.legend i { display: inline-block; width: 12px; height: 12px; border-radius: 2px; margin-right: 6px;
  vertical-align: -1px; }
"""
_HOUR_HEIGHT, _LINE_HEIGHT = 25, 17


def render_week(week: Week, calendars: Sequence[str], zone: ZoneInfo, title: str, today: date) -> str:
    """The page's HTML."""
    low, high = shown_hours(week)
    cells = ['<div class="corner"></div>']
    for number in range(7):
        day = week.first + timedelta(days=number)
        weekend = " weekend" if day.weekday() >= 5 else ""
        mark = " · today" if day == today else ""
        cells.append(f'<div class="head{weekend}">{day:%a} {day.day} {day:%b}{mark}</div>')
    cells += _whole_row(week, calendars)
    row = max(bar_rows(week), default=-1) + 3
    cells.append(_hour_column(low, high, row))
    cells += [_day_column(week, number, low, high, row, calendars, zone) for number in range(7)]
    legend = "".join(
        f'<li><i style="background:{PALETTE[index % len(PALETTE)]}"></i>{escape(name)}</li>'
        for index, name in enumerate(calendars)
    )
    last = week.first + timedelta(days=6)
    sub = f"{week.first.day} {week.first:%B} to {last.day} {last:%B %Y}, {zone.key}"
    return (
        '<!doctype html><html lang="en"><head><meta '
        f'charset="utf-8"><title>{escape(title)}</title><style>{_STYLE}</style></head>'
        f'<body><h1>{escape(title)}</h1><p class="sub">{sub}</p><div class="grid">{"".join(cells)}</div>'
        f'<ul class="legend">{legend}</ul></body></html>\n'
    )


def _whole_row(week: Week, calendars: Sequence[str]) -> list[str]:
    """Bars of whole-day events."""
    cells = []
    for row, (shown, low, high) in zip(bar_rows(week), week.whole, strict=True):
        place = f"grid-row:{row + 2};grid-column:{low + 2}/{high + 3};background:{colour_of(shown, calendars)}"
        cells.append(f'<div class="bar" style="{place}">{escape(shown.event.title)}</div>')
    return cells


def _hour_column(low: int, high: int, row: int) -> str:
    labels = "".join(
        f'<span style="top:{(hour - low) * _HOUR_HEIGHT}px">{hour:02d}:00</span>' for hour in range(low + 1, high)
    )
    return (
        f'<div class="hours" style="grid-row:{row};grid-column:1;height:{(high - low) * _HOUR_HEIGHT}px">{labels}</div>'
    )


def _day_column(
    week: Week, number: int, low: int, high: int, row: int, calendars: Sequence[str], zone: ZoneInfo
) -> str:
    lines = "".join(
        f'<div class="line" style="top:{(hour - low) * _HOUR_HEIGHT}px"></div>' for hour in range(low + 1, high)
    )
    boxes = []
    for piece in (each for each in week.pieces if each.day == number):
        event = piece.shown.event
        top, height = (piece.begin - low) * _HOUR_HEIGHT, (piece.end - piece.begin) * _HOUR_HEIGHT - 2
        left, width = 100 / piece.lanes * piece.lane, 100 / piece.lanes
        colour = colour_of(piece.shown, calendars)
        tentative = " tentative" if event.busy == "tentative" else ""
        style = (
            f"top:{top:.0f}px;height:{height:.0f}px;left:{left:.1f}%;width:calc({width:.1f}% - "
            f"3px);border-color:{colour}"
        )
        label = time_label(event, zone) if piece.is_first else f"until {event.span(zone)[1].astimezone(zone):%H:%M}"
        text = f"<b>{escape(event.title)}</b>" + (label if height > 2 * _LINE_HEIGHT else "")
        hover = escape(f"{event.title}, {label}", quote=True)
        boxes.append(f'<div class="event{tentative}" style="{style}" title="{hover}">{text}</div>')
    return f'<div class="day" style="grid-row:{row};grid-column:{number + 2}">{lines}{"".join(boxes)}</div>'
