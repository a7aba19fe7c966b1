"""Words that kinds of effects share when they are shown to people."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta
from typing import Any

from whenvoca.engine.effects import Effect, show_brief
from whenvoca.values.texts import show_value
from whenvoca.values.times import show_time

_WORKED_OUT = re.compile(r"[0-9a-f]{16}\.\d+")  # a key that nobody has given
_LONG_TITLE = 80  # signs of a title after which it is cut in a line


def titled(fields: dict[str, Any], noun: str) -> str:
    """The title in quotes, cut where it is long."""
    title = str(fields.get("title") or "")
    if not title:
        return f"{noun} without a title"
    return f'"{title[: _LONG_TITLE - 1] + "…" if len(title) > _LONG_TITLE else title}"'


def when(fields: dict[str, Any]) -> str:
    """ "17 Mar 2027 21:30–02:00"; the end's day is named where it is more than a night away. Of a task, when it
    can begin and when it is due."""
    start, end = fields.get("start"), fields.get("end")
    if isinstance(start, datetime) and isinstance(end, datetime):
        end = end.astimezone(start.tzinfo)
        is_near = end.date() == start.date() or (end - start < timedelta(days=1) and end.time() < start.time())
        return f"{show_value(start)}–{show_time(end.time()) if is_near else show_value(end)}"
    if "end" not in fields:  # a task
        named = (("from", start), ("due", fields.get("due")))
        return ", ".join(f"{word} {show_value(value)}" for word, value in named if value)
    if isinstance(start, date) and isinstance(end, date):
        last = end - timedelta(days=1)
        if last == start:
            return f"whole day {show_value(start)}"
        return f"whole days {show_value(start)} to {show_value(last)}"
    return ""


def name_row(effect: Effect) -> str:
    """A row by its key, where somebody gave it one."""
    return show_brief(effect.target) if effect.target and not _WORKED_OUT.fullmatch(effect.target) else "a row"


def list_cells(cells: dict[str, Any]) -> str:
    """Cells with their values, on one line."""
    return "; ".join(f"{name} {show_brief(value, name)}" for name, value in cells.items())


def written_cells(cells: dict[str, Any]) -> str:
    """Written cells: those whose value is short, and how many more."""
    short = [f"{name} “{text}”" for name, value in cells.items() if 0 < len(text := show_value(value)) <= 20]
    rest = len(cells) - len(short)
    if not short:
        return ", ".join(cells)
    return ", ".join(short) + (f" and {rest} more" if rest else "")
