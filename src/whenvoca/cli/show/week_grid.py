"""A week in the terminal: seven columns of days, an hour a line, boxes drawn with words, not with colour alone."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from zoneinfo import ZoneInfo

from whenvoca.cli.show.output import WIDEST, console
from whenvoca.reports.week import DayPart, Week, bar_rows, colour_of, shown_hours, time_label

_GUTTER = 6
_COLOURS = {
    "steelblue": "blue",
    "seagreen": "green",
    "darkorange": "yellow",
    "mediumpurple": "magenta",
    "crimson": "red",
    "teal": "cyan",
    "goldenrod": "yellow",
    "slategray": "white",
}


def show_week(week: Week, calendars: Sequence[str], zone: ZoneInfo, today: date) -> None:
    """Prints the week. The calendars are named below by their first letters, which stand in each box."""
    from rich.text import Text

    out = console()
    width = max(10, (min(out.width, 140 if out.is_terminal else WIDEST) - _GUTTER) // 7)
    head = Text(" " * _GUTTER)
    for number in range(7):
        day = week.first + timedelta(days=number)
        label = f"{day:%a} {day.day} {day:%b}" + ("*" if day == today else "")
        head.append(label[: width - 1].ljust(width), style="bold underline" if day == today else "bold")
    out.print(head, soft_wrap=True)
    for line in _whole_lines(week, calendars, width):
        out.print(line, soft_wrap=True)
    low, high = shown_hours(week)
    quiet = {hour for hour in range(low, high) if not any(p.begin < hour + 1 and p.end > hour for p in week.pieces)}
    for hour in range(low, high):
        if hour not in quiet or not {hour - 1, hour + 1} <= quiet | {low - 1, high}:
            out.print(_hour_line(week, calendars, zone, width, hour), soft_wrap=True)
        elif hour - 1 not in quiet or not {hour - 2, hour} <= quiet | {low - 2, low - 1}:
            out.print("   ⋮", soft_wrap=True)
    legend = ", ".join(f"{name} [{name[0]}]" for name in calendars)
    out.print(f"{' ' * _GUTTER}{legend}; times in {zone.key}", soft_wrap=True)


def _whole_lines(week: Week, calendars: Sequence[str], width: int) -> list[object]:
    from rich.text import Text

    rows = bar_rows(week)
    lines = []
    for row in range(max(rows, default=-1) + 1):
        line, position = Text("all".ljust(_GUTTER) if row == 0 else " " * _GUTTER), 0
        for number, (shown, first, last) in sorted(zip(rows, week.whole, strict=True), key=lambda item: item[1][1]):
            if number != row:
                continue
            line.append(" " * (first * width - position))
            size = (last - first + 1) * width - 1
            label = f"[{shown.calendar[0]}] {shown.event.title}"
            line.append(label[:size].ljust(size, "─"), style="reverse " + _style(colour_of(shown, calendars)))
            line.append(" ")
            position = (last + 1) * width
        lines.append(line)
    return list(lines)


def _hour_line(week: Week, calendars: Sequence[str], zone: ZoneInfo, width: int, hour: int) -> object:
    from rich.text import Text

    line = Text(f"{hour:02d}:00 ".ljust(_GUTTER), style="")
    for number in range(7):
        pieces = [piece for piece in week.pieces if piece.day == number and piece.begin < hour + 1 and piece.end > hour]
        if not pieces:
            line.append("·".ljust(width), style="dim")
            continue
        lanes = max(piece.lanes for piece in pieces)
        size = width // lanes
        cell, filled = Text(), 0
        for lane in range(lanes):
            piece = next((each for each in pieces if each.lane == lane), None)
            room = (width - filled) if lane == lanes - 1 else size
            filled += room
            if piece is None:
                cell.append(" " * room)
            else:
                label = _label(piece, hour, zone)[: room - 1].ljust(room)
                # words in the terminal's own colour
                cell.append(label[:1], style=_style(colour_of(piece.shown, calendars)))
                cell.append(label[1:])
        line.append_text(cell)
    return line


def _label(piece: DayPart, hour: int, zone: ZoneInfo) -> str:
    """What stands in a box on the line of an hour: title first, then the time, then a bar."""
    event = piece.shown.event
    offset = hour - int(piece.begin)
    if offset == 0:
        return f"▌{event.title}" if piece.is_first else f"▌…{event.title}"
    if offset == 1:
        until = f"until {event.span(zone)[1].astimezone(zone):%H:%M}"
        return f"▌{time_label(event, zone) if piece.is_first else until} [{piece.shown.calendar[0]}]"
    return "▌"


def _style(colour: str) -> str:
    return _COLOURS.get(colour, "cyan")
