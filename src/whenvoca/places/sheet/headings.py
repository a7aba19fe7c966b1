"""Where the headings of a table stand, and how its columns are called."""

from __future__ import annotations

import re
from datetime import date, time
from decimal import Decimal

from msgspec import Struct

from whenvoca.errors import SourceFault
from whenvoca.language.definitions import column_word
from whenvoca.places.sheet.grid import Grid, NoTab, cell_name, letter_of
from whenvoca.values.blanks import squeeze_blanks
from whenvoca.values.columns import shape_is_value
from whenvoca.values.kinds import Raw, show_raw

_LOOKED_AT = 40  # rows from the top among which headings are looked for


class Heading(Struct, frozen=True):
    """One column: its name as it stands in the sheet, and its number from 0."""

    name: str
    index: int

    @property
    def letter(self) -> str:
        """The column's letters."""
        return letter_of(self.index)


def find_header(grid: Grid) -> int:
    """The row of the headings, counted from 0; a doubt is noted in the grid. Raises SourceFault if none looks like
    headings, NoTab if there is not a single cell."""
    best, best_score = -1, 0.0
    for number, row in enumerate(grid.rows[:_LOOKED_AT]):
        score = _heading_score(grid, number, row)
        if score > best_score:
            best, best_score = number, score
    if best < 0 and all(cell is None for row in grid.rows for cell in row):
        raise NoTab(
            "is empty: there is not even a row of headings",
            fix="bring the sheet back, or write the headings into its first row",
        )
    if best < 0:
        raise SourceFault("no row looks like headings", fix="say which row holds them: header = N at the place")
    return _top_of(grid, best)


def _top_of(grid: Grid, number: int) -> int:
    """The first row of the block that a row stands in which could head all of its columns: rows of texts alone look
    like headings themselves, those with odd ones below them most of all. One column may lack a heading where nothing
    but likeness to headings speaks for the row."""
    filled = {index for index, cell in enumerate(grid.rows[number]) if cell is not None}
    below = grid.rows[number + 1 : number + 21]
    is_doubtful = len(filled) > 2 and not any(_differs_below(below, index) for index in filled)
    top = number
    for above in range(number - 1, -1, -1):
        row = grid.rows[above]
        if all(cell is None for cell in row):
            break
        if len(_bare(row, filled)) <= is_doubtful and _heading_score(grid, above, row):
            top = above
    if bare := _bare(grid.rows[top], filled):
        said = f"column {letter_of(bare[0])} has no heading in row {top + 1}, so it goes by its letter"
        grid.notes = (*grid.notes, f"{said}; if row {number + 1} holds the headings, say header = {number + 1}")
    return top


def _bare(row: list[Raw], filled: set[int]) -> list[int]:
    """Which of these columns have nothing in the row."""
    return [index for index in sorted(filled) if index >= len(row) or row[index] is None]


def _heading_score(grid: Grid, number: int, row: list[Raw]) -> float:
    """How much a row looks like headings: several different short texts with filled columns below them."""
    filled = [cell for cell in row if cell is not None]
    texts = [squeeze_blanks(cell) for cell in filled if isinstance(cell, str)]
    if not texts or len(texts) < len(filled) or any(_is_no_heading(text) for text in texts):
        return 0
    distinct = len({text.casefold() for text in texts})
    if distinct < len(texts) - 1:
        return 0
    below = [each for each in grid.rows[number + 1 : number + 21] if any(cell is not None for cell in each)]
    columns = {index for index, cell in enumerate(row) if cell is not None}
    under = sum(1 for index in columns if any(index < len(each) and each[index] is not None for each in below))
    outside = sum(
        1 for each in below[:5] for index, cell in enumerate(each) if cell is not None and index not in columns
    )
    differing = sum(_differs_below(below, index) for index in columns)
    if len(columns) == 1 and (outside or any(sum(c is not None for c in each) > 1 for each in below)):
        return 0
    return distinct * 2 + under + 2 * differing - outside * 0.5 - number * 0.01


def _is_no_heading(text: str) -> bool:
    return len(text) > 60 or "@" in text or shape_is_value(text) or bool(re.fullmatch(r"[A-Z]{1,4}-?\d+", text))


def _differs_below(below: list[list[Raw]], index: int) -> float:
    """How far what stands under a heading is of another kind than a plain text, from 0 to 1."""
    cells = [row[index] for row in below if index < len(row) and row[index] is not None]
    return sum(1 for cell in cells if not isinstance(cell, str) or _is_no_heading(cell)) / len(cells) if cells else 0


def read_headings(grid: Grid, header: int, where: str) -> list[Heading]:
    """The columns under the headings in row ``header`` (from 0). A column without a heading is named by its letter.

    Raises SourceFault if that row is empty or holds values instead of names.
    """
    row = grid.rows[header] if header < len(grid.rows) else []
    width = max([len(each) for each in grid.rows[header : header + 200]] or [0])
    names: list[str] = []
    for index in range(width):
        names.append(_heading_text(grid, header, index))
    if not any(names):
        raise SourceFault(
            f"row {header + 1} holds no headings: it is empty", where=where, fix="say which row does: header = N"
        )
    odd = [(index, cell) for index, cell in enumerate(row) if _is_value(cell)]
    filled = sum(1 for name in names if name)
    if odd and len(odd) * 2 >= filled:
        index, cell = odd[0]
        raise SourceFault(
            f"row {header + 1} holds no headings: {cell_name(header, index)} is {show_raw(cell)}",
            where=where,
            fix="say which row does: header = N",
        )
    found = []
    for index, name in enumerate(names):
        if name:
            found.append(Heading(name, index))
        elif _has_cells(grid, header, index):
            found.append(Heading(f"Column {letter_of(index)}", index))
    return found


def _is_value(cell: Raw) -> bool:
    """Whether a cell holds a number, date or time, typed or as a text, and so no name."""
    if isinstance(cell, str):
        return shape_is_value(cell)
    return isinstance(cell, int | Decimal | date | time) and not isinstance(cell, bool)


def _heading_text(grid: Grid, header: int, index: int) -> str:
    row = grid.rows[header] if header < len(grid.rows) else []
    cell = row[index] if index < len(row) else None
    if cell is None and (top := grid.vertical_merges.get((header, index))) is not None:
        above = grid.rows[top[0]]
        cell = above[index] if index < len(above) else None
    return squeeze_blanks(show_raw(cell))


def _has_cells(grid: Grid, header: int, index: int) -> bool:
    return any(index < len(row) and row[index] is not None for row in grid.rows[header + 1 :])


def find_twice(headings: list[Heading], header: int) -> dict[str, str]:
    """Headings that stand for one word in a workflow, with their cells: "D4 and F4"."""
    by_word: dict[str, list[Heading]] = {}
    for heading in headings:
        by_word.setdefault(column_word(heading.name).lower(), []).append(heading)
    return {
        same[0].name: " and ".join(cell_name(header, heading.index) for heading in same)
        for same in by_word.values()
        if len(same) > 1
    }
