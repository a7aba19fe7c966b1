"""A row's print: a hash of its cells, by which a row that stands as it did is known without being read."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from hashlib import blake2b
from types import NoneType

import msgspec

from whenvoca.values.kinds import Raw

_LETTERS: dict[type, str] = {
    NoneType: "-", str: "s", bool: "b", int: "i", float: "f", Decimal: "n", date: "d", time: "t", datetime: "m", timedelta: "l",
}  # fmt: skip


class _Kinds(dict[tuple[type, ...], str]):
    """A letter for the type of each cell of a row; rows of one sheet are of few such patterns."""

    def __missing__(self, types: tuple[type, ...]) -> str:
        self[types] = letters = "".join(_LETTERS[each] for each in types)
        return letters


def print_rows(rows: Iterable[Sequence[Raw]], names: Sequence[str], signature: str) -> list[bytes]:
    """The print of each row under these columns and settings: equal ones have the same cells of the same types.

    A row with a cell that cannot be encoded has none: an empty one.
    """
    encode = msgspec.msgpack.Encoder().encode
    table = blake2b(encode([signature, *names]), digest_size=16).digest()
    kinds, found = _Kinds(), []
    for cells in rows:
        try:
            content = encode((table, kinds[tuple(map(type, cells))], cells))
        except (KeyError, UnicodeEncodeError, OverflowError):
            found.append(b"")
        else:
            found.append(blake2b(content, digest_size=16).digest())
    return found
