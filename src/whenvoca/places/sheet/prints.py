"""Prints of rows: hashes of their cells, by which rows that stand as they did are known without being read."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from hashlib import blake2b
from itertools import chain
from types import NoneType

import msgspec

from whenvoca.engine.row_prints import UNKNOWABLE, WIDTH
from whenvoca.values.kinds import Raw

_LETTERS: dict[type, str] = {
    NoneType: "-", str: "s", bool: "b", int: "i", float: "f", Decimal: "n", date: "d", time: "t", datetime: "m", timedelta: "l",
}  # fmt: skip


class _Kinds(dict[tuple[type, ...], str]):
    """A letter for the type of each cell; rows of one sheet are of few such patterns."""

    def __missing__(self, types: tuple[type, ...]) -> str:
        self[types] = letters = "".join(_LETTERS[each] for each in types)
        return letters


class Printer:
    """Prints the rows of one table: equal prints are of the same cells of the same types, under the same headings and settings."""

    def __init__(self, names: Sequence[str], signature: str) -> None:
        self._encode = msgspec.msgpack.Encoder().encode
        self._table = blake2b(self._encode([signature, *names]), digest_size=WIDTH).digest()
        self._of_rows, self._of_blocks = _Kinds(), _Kinds()

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
            content = self._encode((self._table, self._of_blocks[tuple(map(type, chain.from_iterable(rows)))], rows))
        except (KeyError, UnicodeEncodeError, OverflowError):
            return b""
        return blake2b(content, digest_size=WIDTH).digest()
