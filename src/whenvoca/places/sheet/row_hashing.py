"""Prints of rows: hashes of their cells, by which rows that stand as they did are known without being read."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from hashlib import blake2b
from types import NoneType

import msgspec

from whenvoca.engine.row_hashes import UNKNOWABLE, WIDTH
from whenvoca.values.kinds import Raw

_LETTERS: dict[type, str] = {
    NoneType: "-",
    str: "s",
    bool: "b",
    int: "i",
    float: "f",
    Decimal: "n",
    date: "d",
    time: "t",
    datetime: "m",
    timedelta: "l",
}


class _Kinds(dict[tuple[type, ...], str]):
    """A letter for the type of each cell; rows of one sheet are of few such patterns."""

    def __missing__(self, types: tuple[type, ...]) -> str:
        self[types] = letters = "".join(_LETTERS[each] for each in types)
        return letters


class Printer:
    """Prints the rows of one table: equal prints are of the same cells of the same types, under the same headings and
    settings.

    ``only`` tells of each column of which type all its cells are, None where that is not known; it only spares looking.
    """

    def __init__(self, names: Sequence[str], signature: str, only: Sequence[type | None] = ()) -> None:
        self._encode = msgspec.msgpack.Encoder().encode
        self._table = blake2b(self._encode([signature, *names]), digest_size=WIDTH).digest()
        self._of_rows, self._of_columns = _Kinds(), _Kinds()
        self._only = [_LETTERS.get(each) if each is not None else None for each in only]

    def print_row(self, cells: Sequence[Raw]) -> bytes:
        """The print of a row; UNKNOWABLE where one of its cells cannot be encoded."""
        try:
            content = self._encode((self._table, self._of_rows[tuple(map(type, cells))], cells))
        except (KeyError, UnicodeEncodeError, OverflowError):
            return UNKNOWABLE
        return blake2b(content, digest_size=WIDTH).digest()

    def print_block(self, rows: Sequence[Sequence[Raw]]) -> bytes:
        """The print of rows below each other, empty where one of their cells cannot be encoded."""
        try:
            content = self._encode((self._table, self._letters_of(rows), rows))
        except (KeyError, UnicodeEncodeError, OverflowError):
            return b""
        return blake2b(content, digest_size=WIDTH).digest()

    def _letters_of(self, rows: Sequence[Sequence[Raw]]) -> list[str]:
        """The cells' types by column: one letter where all are of one type. Raises KeyError for strange ones."""
        widths = set(map(len, rows))
        if len(widths) != 1:
            return ["", *(self._of_rows[tuple(map(type, cells))] for cells in rows)]
        found: list[str] = []
        for index in range(widths.pop()):
            letter = self._only[index] if index < len(self._only) else None
            if letter is None:
                types = tuple([cells[index].__class__ for cells in rows])
                letter = self._of_columns[types]
                letter = letter[0] if len(set(letter)) == 1 else letter
            found.append(letter)
        return found
