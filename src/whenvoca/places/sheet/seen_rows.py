"""The rows of a table with their keys: which cannot run, which wait for a key, which are as they were."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from msgspec import Struct

from whenvoca.engine.place_protocols import RowState, SeenRow
from whenvoca.engine.row_hashes import HashBlock, RowHashes
from whenvoca.language.definitions import column_word
from whenvoca.language.names import fold_name
from whenvoca.places.sheet.row_hashing import Printer
from whenvoca.places.sheet.rowkeys import find_booking_column, key_of_columns, work_out_keys
from whenvoca.places.sheet.table import Table
from whenvoca.values.kinds import Raw

_UNREAD: RowState = {}
_BLOCK = 64  # rows that are known by one print


class Seen(Struct, frozen=True):
    """What a look at all rows found: the rows that do not stand as one of the known prints says, the key of every row,
    in their order, and which of these can be taken up; None: all of them."""

    rows: list[SeenRow]
    keys: list[str]
    prints: RowHashes = RowHashes()
    plain: frozenset[str] | None = None


def see_by_content(table: Table, known: Mapping[str, RowState], written_words: frozenset[str]) -> Seen:
    """Rows whose keys are worked out; the columns that workflows write never make a row another."""
    states = [table.state_of(cells) for _, cells in table.rows]
    booking = find_booking_column([heading.name for heading in table.headings])
    written = {each.name for each in table.headings if fold_name(column_word(each.name)) in written_words}
    keys = work_out_keys(states, known, frozenset(written | ({booking} if booking else set())), booking)
    rows = [SeenRow(key, number, state) for key, (number, _), state in zip(keys, table.rows, states, strict=True)]
    return Seen(rows, keys)


def see_by_columns(table: Table, columns: Sequence[str], known: RowHashes, signature: str) -> Seen:
    """Rows whose keys stand in these columns. Only those that are not among the known ones are read."""
    printer = Printer(table.names, signature, [table.only_type(name) for name in table.names])
    parts = [table.rows[begin : begin + _BLOCK] for begin in range(0, len(table.rows), _BLOCK)]
    wholes = [printer.print_block([cells for _, cells in part]) for part in parts]
    standing = known.by_block()
    one_by_one = known.without_blocks(standing.keys() & set(wholes)).by_row()
    rows: list[SeenRow] = []
    keys: list[str] = []
    blocks: list[HashBlock] = []
    for part, whole in zip(parts, wholes, strict=True):
        if (block := standing.get(whole)) is None:
            marks = [printer.print_row(cells) for _, cells in part]
            found = [one_by_one.get(mark) for mark in marks]
            fresh = [_see(row, table, columns) for row, key in zip(part, found, strict=True) if key is None]
            rest = iter(fresh)
            rows += fresh
            block = HashBlock(whole, [next(rest).key if key is None else key for key in found], b"".join(marks))
        keys += block.keys
        blocks.append(block)
    if len(distinct := set(keys)) == len(keys) and "" not in distinct:
        return Seen(rows, keys, RowHashes(blocks))
    counts = Counter(keys)
    plain = frozenset(key for key, count in counts.items() if count == 1 and key)
    read = {row.number: row for row in rows}
    every = [
        read.get(number) or SeenRow(key, number, _UNREAD) for (number, _), key in zip(table.rows, keys, strict=True)
    ]
    doubted = [
        _doubted(row, every, table, columns, counts) for row in every if row.number in read or row.key not in plain
    ]
    kept = [each if plain.issuperset(each.keys) else each.only([key in plain for key in each.keys]) for each in blocks]
    return Seen(doubted, keys, RowHashes(kept), plain)


def _see(row: tuple[int, list[Raw]], table: Table, columns: Sequence[str]) -> SeenRow:
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
