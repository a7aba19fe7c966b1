"""The rows of a table with their keys: which cannot be taken up, which wait for their key, which stand as they stood."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from whenvoca.engine.faces import RowState, SeenRow
from whenvoca.language.definitions import column_word
from whenvoca.language.inference import fold_name
from whenvoca.places.sheet.prints import print_rows
from whenvoca.places.sheet.rowkeys import find_booking_column, key_of_columns, work_out_keys
from whenvoca.places.sheet.table import Table

_UNREAD: RowState = {}


def see_by_content(table: Table, known: Mapping[str, RowState], written_words: frozenset[str]) -> list[SeenRow]:
    """Rows whose keys are worked out; the columns that workflows write never make a row another."""
    states = [table.state_of(cells) for _, cells in table.rows]
    booking = find_booking_column([heading.name for heading in table.headings])
    written = {each.name for each in table.headings if fold_name(column_word(each.name)) in written_words}
    keys = work_out_keys(states, known, frozenset(written | ({booking} if booking else set())), booking)
    return [SeenRow(key, number, state) for key, (number, _), state in zip(keys, table.rows, states, strict=True)]


def see_by_columns(
    table: Table, columns: Sequence[str], prints: Mapping[bytes, str], signature: str
) -> tuple[list[SeenRow], dict[bytes, str]]:
    """Rows whose keys stand in these columns, and the prints of those that can be taken up. Only what has none of the known
    prints is read."""
    marks = print_rows((cells for _, cells in table.rows), table.names, signature)
    fresh = [(None if mark in prints else table.state_of(row[1])) for mark, row in zip(marks, table.rows, strict=True)]
    keys = [
        prints[mark] if state is None else key_of_columns(state, columns)
        for mark, state in zip(marks, fresh, strict=True)
    ]
    rows = [
        SeenRow(key, row[0], _UNREAD, "", "", True) if state is None else SeenRow(key, row[0], state)
        for key, row, state in zip(keys, table.rows, fresh, strict=True)
    ]
    counts = Counter(keys)
    if len(counts) < len(keys) or "" in counts:
        rows = [_doubted(row, rows, table, columns, counts) for row in rows]
    kept = dict(zip(marks, keys, strict=True))
    if len(kept) < len(keys) or "" in counts or b"" in kept:
        kept = {mark: key for mark, key in kept.items() if mark and key and counts[key] == 1}
    return rows, kept


def _doubted(
    row: SeenRow, rows: Sequence[SeenRow], table: Table, columns: Sequence[str], counts: Counter[str]
) -> SeenRow:
    """The row; with what keeps it from being taken up where its key is empty or stands twice."""
    said, where = (
        " and ".join(columns),
        table.where(row.number, table.by_word[fold_name(column_word(columns[0]))].index),
    )
    if not row.key:
        return SeenRow("", row.number, row.state, waits=f"{where}: waits, its {said} is empty")
    if counts[row.key] == 1:
        return row
    others = ", ".join(str(each.number + 1) for each in rows if each.key == row.key and each.number != row.number)
    fault = f'{where}: {said} "{row.key}" stands in row {others} too; a key belongs to one row only'
    return SeenRow(row.key, row.number, row.state, fault)
