"""Where pending cells go in a file as it is now."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from whenvoca.engine.place_protocols import SavedRows
from whenvoca.places.sheet.filling import fill_rows
from whenvoca.places.sheet.grid import TabWrites
from whenvoca.places.sheet.open_file import Pending
from whenvoca.places.sheet.table import Table
from whenvoca.values.kinds import Raw


def merge_cells(state: Mapping[str, Raw], cells: Mapping[str, Raw]) -> dict[str, Raw]:
    """A row's filled cells, with these written into it."""
    return {name: raw for name, raw in {**state, **cells}.items() if raw is not None}


class WritePlan:
    """The writes to one tab; without a table it is made, with these headings. ``rows`` are the numbers of rows by key;
    ``result`` takes what becomes of the rows."""

    def __init__(
        self, table: Table | None, headings: Sequence[str], rows: Mapping[str, int], result: SavedRows, *, totals: bool
    ) -> None:
        self._table, self._rows, self._result, self._totals = table, rows, result, totals
        self._writes = TabWrites(headings=list(headings))
        if table is None:
            self._columns = {name: index for index, name in enumerate(headings)}
            self._next = 1
        else:
            self._columns = {heading.name: heading.index for heading in table.headings}
            self._next = table.last_row + 1
        self._last = self._next - 1

    def add(self, pending: Pending) -> None:
        """A new row, one that is put back, or a table that is filled."""
        writes, effect = self._writes, pending.effect
        after = effect.after or {}
        if effect.action == "fill":
            rows = [dict(zip(after["columns"], row, strict=True)) for row in after["rows"]]
            first = 1 if self._table is None else self._next
            self._next = fill_rows(self._table, self._columns, rows, writes, first, totals=self._totals)
            self._result.gone += [key for key, row in self._rows.items() if row in writes.removed]
        elif effect.action == "add":
            if self._table is not None and self._last > self._table.header:
                writes.formats_from[self._next] = self._last
            writes.cells |= {(self._next, self._columns[name]): value for name, value in after.items()}
            self._result.added[pending.number] = self._next
            self._next += 1
        else:
            row = min(int(effect.version or self._next), self._next)
            while row in writes.inserted:
                row += 1
            columns = self._columns
            writes.inserted[row] = {columns[name]: value for name, value in after.items() if name in columns}
            self._result.added[pending.number] = row

    def on_row(self, pending: Pending, standing: Mapping[str, Raw]) -> None:
        """A change of a row that holds these cells, or its deletion."""
        key = pending.effect.target
        row, result = self._rows[key], self._result
        if pending.effect.action == "delete":
            self._writes.removed.add(row)
            result.gone.append(key)
            result.states.pop(key, None)
            return
        for name, value in (pending.effect.after or {}).items():
            if standing.get(name) != pending.raws[name]:
                self._writes.cells[row, self._columns[name]] = value
        result.states[key] = merge_cells(result.states.get(key, standing), pending.raws)

    def done(self) -> TabWrites:
        """The writes, with added rows where they will be when others are taken out."""
        for number, row in self._result.added.items():
            self._result.added[number] = row - sum(1 for removed in self._writes.removed if removed < row)
        return self._writes
