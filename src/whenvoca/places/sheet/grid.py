"""What every sheet backing gives and takes: a grid of raw cells, and writes by row and column."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime, time, timedelta
from functools import lru_cache, partial
from itertools import compress, zip_longest
from operator import is_, itemgetter
from types import NoneType
from typing import Any, Protocol

from msgspec import Struct, field

from whenvoca.errors import SourceFault
from whenvoca.values.kinds import Raw, tidy_raw


class Grid(Struct):
    """The cells of one tab from A1 on; rows may be of different lengths. ``notes`` are told to people."""

    tab: str
    rows: list[list[Raw]]
    vertical_merges: dict[tuple[int, int], tuple[int, int]] = field(default_factory=dict)  # cell: top cell, same column
    epoch_1904: bool = False
    notes: tuple[str, ...] = ()
    has_formulas: bool = False
    # the same cells, where they are at hand; until the table is read
    columns: list[Sequence[Raw]] = field(default_factory=list)


class TabWrites(Struct):
    """What is to be written into one tab: cells by (row, column), counted from 0, and rows to go below the data."""

    cells: dict[tuple[int, int], Any] = field(default_factory=dict)
    formats_from: dict[int, int] = field(default_factory=dict)  # for a row below the data: the one whose look it takes
    headings: list[str] = field(default_factory=list)  # of a tab that has to be made
    removed: set[int] = field(default_factory=set)  # rows to be taken out, after the cells are written
    # rows to be put in, before the row of that number
    inserted: dict[int, dict[int, Any]] = field(default_factory=dict)

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to write."""
        return not (self.cells or self.removed or self.inserted)


def blocks_of(rows: Iterable[int]) -> list[tuple[int, int]]:
    """Rows that follow each other as (first, how many), in order."""
    blocks: list[tuple[int, int]] = []
    for row in sorted(rows):
        if blocks and row == sum(blocks[-1]):
            blocks[-1] = (blocks[-1][0], blocks[-1][1] + 1)
        else:
            blocks.append((row, 1))
    return blocks


class Backing(Protocol):
    """A file format. ``new_tab`` is what the tab of a new file is called unless a name is given."""

    unwritable: str  # why files of the format cannot be written, empty if they can

    @property
    def new_tab(self) -> str:
        """The name of the only tab of a new file."""

    def tabs(self, data: bytes) -> list[str]:
        """The names of the tabs, in order."""

    def load(self, data: bytes, tab: str | None) -> Grid:
        """The cells of a tab. Raises SourceFault if the file is none of this format, or the tab is not there."""

    def patch(self, data: bytes | None, writes: Mapping[str, TabWrites]) -> bytes:
        """The file with only these cells changed; without data, a new file."""

    def shift_rows(self, data: bytes, tab: str, write: TabWrites) -> bytes:
        """The file with rows taken out or put in; what refers to rows below follows. Raises RowFault if it cannot."""

    def find_formulas(self, data: bytes, tab: str) -> set[tuple[int, int]]:
        """The cells that hold a formula: somebody's work, which is not written over."""

    def to_raw(self, value: Any) -> Raw:
        """The value as a later reading of the file gives it."""


@lru_cache(maxsize=1024)
def letter_of(column: int) -> str:
    """The letters of a column counted from 0: A, B, …, Z, AA."""
    letters = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(65 + rest) + letters
    return letters


@lru_cache(maxsize=1024)
def column_of(letters: str) -> int:
    """The column, counted from 0, of its letters."""
    number = 0
    for letter in letters:
        number = number * 26 + ord(letter) - 64
    return number - 1


def cell_name(row: int, column: int) -> str:
    """A cell as spreadsheets show it, row and column counted from 0: C7."""
    return f"{letter_of(column)}{row + 1}"


class NoTab(SourceFault):
    """The tab that is meant holds nothing, or it is not said which one is meant."""


def choose_tab(tab: str | None, tabs: list[str]) -> str:
    """The tab of that name as the file writes it, or the only one. Raises SourceFault, NoTab where that is not said."""
    if tab is not None:
        name = next((each for each in tabs if each.casefold() == tab.casefold()), None)
        if name is None:
            raise SourceFault(f'there is no tab "{tab}"', fix=f"there are: {', '.join(tabs)}")
        return name
    if len(tabs) != 1:
        raise NoTab(f"there are {len(tabs)} tabs" if tabs else "there is no tab")
    return tabs[0]


_AS_THEY_ARE = frozenset([date, time, bool, int, NoneType])
_MOSTLY = _AS_THEY_ARE | {str}
_FIRST_SIGN = itemgetter(slice(1))
_GLANCE = 256  # cells that tell whether the texts of a column come again and again
_IS_TEXT = partial(is_, str)  # of a type


def tidy_rows(rows: list[list[Any]]) -> list[Sequence[Raw]]:
    """Brings the cells of the reading library into their one form, shorter rows filled up, in place; answers the
    columns. Most are so at once."""
    columns: list[Sequence[Raw]] = list(zip_longest(*rows))
    for row in rows:
        if len(row) < len(columns):
            row.extend([None] * (len(columns) - len(row)))
    for index, cells in enumerate(columns):
        columns[index] = tidy = _tidy_column(cells)
        if tidy is not cells:
            for row, cell in zip(rows, tidy, strict=True):
                row[index] = cell
    return columns


def _tidy_column(cells: Sequence[Any]) -> Sequence[Raw]:
    kinds = set(map(type, cells))
    if kinds <= _AS_THEY_ARE:
        return cells
    if kinds == {str}:
        do_repeat = len(set(cells[:_GLANCE])) < _GLANCE // 2
        if not do_repeat and all("!" <= sign <= "~" for sign in set(map(_FIRST_SIGN, cells))):
            return cells  # none is blank
        tidy = {text: tidy_cell(text) for text in set(cells)}
        return list(map(tidy.__getitem__, cells)) if None in tidy.values() else cells
    if kinds <= _MOSTLY:
        texts = set(compress(cells, map(_IS_TEXT, map(type, cells))))
        blank = {text for text in texts if tidy_cell(text) is None}
        return [None if cell in blank else cell for cell in cells] if blank else cells
    return list(map(tidy_cell, cells))


def tidy_cell(cell: Any) -> Raw:
    """A cell of the reading library in its one form, microseconds rounded away."""
    if isinstance(cell, str):
        return tidy_raw(cell)
    if isinstance(cell, float):
        return tidy_raw(cell)
    if isinstance(cell, datetime) and cell.microsecond:
        return (cell + timedelta(microseconds=500_000)).replace(microsecond=0)
    return cell  # type: ignore[no-any-return]
