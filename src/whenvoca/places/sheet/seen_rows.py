"""The rows of a table with their keys: which cannot be taken up, which wait for their key, which stand as they stood."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from whenvoca.engine.faces import RowState, SeenRow
from whenvoca.engine.row_prints import Block, RowPrints
from whenvoca.language.definitions import column_word
from whenvoca.language.inference import fold_name
from whenvoca.places.sheet.prints import Printer
from whenvoca.places.sheet.rowkeys import find_booking_column, key_of_columns, work_out_keys
from whenvoca.places.sheet.table import Table
from whenvoca.values.kinds import Raw

_UNREAD: RowState = {}
_BLOCK = 64  # rows that are known by one print


def see_by_content(table: Table, known: Mapping[str, RowState], written_words: frozenset[str]) -> list[SeenRow]:
    """Rows whose keys are worked out; the columns that workflows write never make a row another."""
    states = [table.state_of(cells) for _, cells in table.rows]
    booking = find_booking_column([heading.name for heading in table.headings])
    written = {each.name for each in table.headings if fold_name(column_word(each.name)) in written_words}
    keys = work_out_keys(states, known, frozenset(written | ({booking} if booking else set())), booking)
    return [SeenRow(key, number, state) for key, (number, _), state in zip(keys, table.rows, states, strict=True)]


def see_by_columns(
    table: Table, columns: Sequence[str], known: RowPrints, signature: str
) -> tuple[list[SeenRow], RowPrints]:
    """Rows whose keys stand in these columns, and the prints of those that can be taken up. Only rows that are not among the
    known ones are read."""
    printer = Printer(table.names, signature)
    standing = known.by_block()
    one_by_one: dict[bytes, str] | None = None
    rows: list[SeenRow] = []
    blocks: list[Block] = []
    for begin in range(0, len(table.rows), _BLOCK):
        part = table.rows[begin : begin + _BLOCK]
        whole = printer.print_block([cells for _, cells in part])
        if (same := standing.get(whole)) is not None:
            rows += [SeenRow(key, row[0], _UNREAD, "", "", True) for key, row in zip(same.keys, part, strict=True)]
            blocks.append(same)
            continue
        if one_by_one is None:
            one_by_one = known.by_row()
        marks = [printer.print_row(cells) for _, cells in part]
        fresh = [_see(row, one_by_one.get(mark), table, columns) for mark, row in zip(marks, part, strict=True)]
        rows += fresh
        blocks.append(Block(whole, [row.key for row in fresh], b"".join(marks)))
    keys = {row.key for row in rows}
    if len(keys) < len(rows) or "" in keys:
        counts = Counter(row.key for row in rows)
        rows = [_doubted(row, rows, table, columns, counts) for row in rows]
        plain = {key for key, count in counts.items() if count == 1 and key}
        blocks = [
            each if plain.issuperset(each.keys) else each.only([key in plain for key in each.keys]) for each in blocks
        ]
    return rows, RowPrints(blocks)


def _see(row: tuple[int, list[Raw]], known: str | None, table: Table, columns: Sequence[str]) -> SeenRow:
    if known is not None:
        return SeenRow(known, row[0], _UNREAD, "", "", True)
    state = table.state_of(row[1])
    return SeenRow(key_of_columns(state, columns), row[0], state)


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
