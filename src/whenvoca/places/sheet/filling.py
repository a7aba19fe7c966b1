"""Filling a table: which cells are written, and where rows are put in or taken out, so that it holds these rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from whenvoca.places.sheet.grid import TabWrites
from whenvoca.places.sheet.table import Table

_KEPT_ABOVE_TOTALS = 2  # rows that stay, empty if need be, so that a sum over them can grow again


def fill_rows(
    table: Table | None,
    columns: Mapping[str, int],
    rows: Sequence[Mapping[str, Any]],
    writes: TabWrites,
    first: int,
    *,
    totals: bool,
) -> int:
    """Notes what has to be written; answers the number of the first free row behind. ``first`` is where rows begin in a
    tab that is still to be made."""
    standing = [] if table is None else _standing_rows(table, totals=totals)
    first = standing[0] if standing else first if table is None else table.header + 1
    kept = max(len(rows), min(len(standing), _KEPT_ABOVE_TOTALS if totals else 0))
    cells_of = dict(table.rows) if table is not None else {}
    writes.removed |= set(standing[kept:])
    numbers = standing[:kept]
    contents: list[Mapping[str, Any]] = [*rows, *[{}] * (len(numbers) - len(rows))]
    more = len(rows) - len(standing)
    if more > 0 and totals and standing:  # inside, before the last row, so that what sums the rows grows with them
        last = standing[-1]
        for offset in range(more):
            writes.inserted[last + offset] = {
                columns[name]: value
                for name, value in contents[len(standing) - 1 + offset].items()
                if value is not None
            }
        contents = [*contents[: len(standing) - 1], contents[-1]]
    elif more > 0:
        look = standing[-1] if standing else None
        for number in range(first + len(standing), first + len(rows)):
            numbers.append(number)
            if look is not None:
                writes.formats_from[number] = look
    names = list(dict.fromkeys(name for row in rows for name in row)) or list(columns)
    for number, row in zip(numbers, contents, strict=True):
        before = cells_of.get(number, [])
        for name in names:
            column = columns[name]
            value = row.get(name)
            if value is not None or (column < len(before) and before[column] is not None):
                writes.cells[number, column] = value
    return first + max(len(rows), 0)


def _standing_rows(table: Table, *, totals: bool) -> list[int]:
    """The numbers of all rows between the headings and the last one, those without anything in them too."""
    if not totals:
        return list(range(table.header + 1, table.last_row + 1))
    return (
        list(range(table.header + 1, table.totals_row))
        if table.totals_row
        else list(range(table.header + 1, table.last_row + 1))
    )
