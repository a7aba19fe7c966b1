"""How many minutes it is to a town, by the sheet that [workspace] towns names."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal
from typing import Any

from whenvoca.engine.acting.stage import Stage
from whenvoca.errors import RowFault
from whenvoca.values.columns import Unread
from whenvoca.values.durations import Duration
from whenvoca.values.texts import show_value


def minutes_to(stage: Stage, town: str) -> timedelta | None:
    """How long the way is; None where no row names the town. Raises RowFault where the sheet does not tell."""
    name = stage.workspace.towns
    if not name or not town:
        return None
    sheet = stage.sheet(name)
    for key in sheet.keys():  # noqa: SIM118  # a sheet is no mapping
        state = sheet.current(key)
        if state is None:
            continue
        row: Any = sheet.row(key, state)
        try:
            said, minutes = row.value_of("town"), row.value_of("minutes")
        except KeyError as missing:
            raise RowFault(f"{name} has no column {missing}", fix="its columns are Town and Minutes") from None
        if show_value(said).casefold().strip() == town.casefold():
            return _span(minutes, f"{name}, {sheet.label(key)}")
    return None


def _span(value: Any, where: str) -> timedelta:
    if isinstance(value, Duration) and not value.months and value.to_seconds() > 0:
        return timedelta(seconds=float(value.to_seconds()))
    if isinstance(value, int | Decimal) and not isinstance(value, bool) and value > 0:
        return timedelta(minutes=float(value))
    said = value.text if isinstance(value, Unread) else show_value(value)
    raise RowFault(f'the minutes are "{said}"', where=where, fix="write a number above 0")
