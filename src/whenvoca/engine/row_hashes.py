"""The hashes by which rows are known that stand as they were recorded: one of each row, and one of each block of rows.

A block that stands is known by one hash; where rows were sorted or put in between, each row still is by its own.
"""

from __future__ import annotations

from collections.abc import Sequence, Set
from itertools import chain

from msgspec import Struct

WIDTH = 16  # bytes of a row's print
UNKNOWABLE = bytes(WIDTH)  # stands for the print of a row that has none


class HashBlock(Struct, frozen=True, array_like=True):
    """Rows below each other, all of which can be taken up. ``whole`` is empty where they are known one by one only."""

    whole: bytes
    keys: list[str]
    prints: bytes  # of each row, in their order

    def each(self) -> list[bytes]:
        """The print of each row."""
        return [self.prints[begin : begin + WIDTH] for begin in range(0, len(self.prints), WIDTH)]

    def only(self, is_kept: Sequence[bool]) -> HashBlock:
        """Some of its rows, which stand below each other no more."""
        keys = [key for key, kept in zip(self.keys, is_kept, strict=True) if kept]
        return HashBlock(b"", keys, b"".join(each for each, kept in zip(self.each(), is_kept, strict=True) if kept))


class RowHashes(Struct, frozen=True):
    """The rows of a sheet as they were recorded."""

    blocks: list[HashBlock] = []

    def keys(self) -> list[str]:
        """The keys of all of them."""
        return list(chain.from_iterable(each.keys for each in self.blocks))

    def by_block(self) -> dict[bytes, HashBlock]:
        """Blocks by their hash."""
        return {each.whole: each for each in self.blocks if each.whole}

    def by_row(self) -> dict[bytes, str]:
        """Keys by the print of their row."""
        found = {mark: key for block in self.blocks for mark, key in zip(block.each(), block.keys, strict=True)}
        found.pop(UNKNOWABLE, None)
        return found

    def without_blocks(self, wholes: Set[bytes]) -> RowHashes:
        """The blocks that have none of these hashes."""
        return RowHashes([each for each in self.blocks if each.whole not in wholes])

    def without(self, subjects: set[str]) -> RowHashes:
        """Those of other rows than these."""
        return RowHashes(
            [
                each if subjects.isdisjoint(each.keys) else each.only([key not in subjects for key in each.keys])
                for each in self.blocks
            ]
        )
