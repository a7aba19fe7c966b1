"""References to cells in formulas and ranges, moved when rows are put in or taken out."""

from __future__ import annotations

import re

from msgspec import Struct

from whenvoca.errors import RowFault
from whenvoca.places.sheet.grid import column_of, letter_of

# Texts and quoted sheet names are stepped over; then a sheet's name, and a cell, a range of cells, or whole rows.
_PIECES = re.compile(
    r"""(?P<text>"(?:[^"]|"")*")
      |(?P<sheet>(?:'(?:[^']|'')+'|[A-Za-z_\\][\w.]*(?::[A-Za-z_][\w.]*)?)!)?
       (?:(?P<c1>\$?[A-Za-z]{1,3})(?P<r1>\$?[1-9]\d{0,6})(?::(?P<c2>\$?[A-Za-z]{1,3})(?P<r2>\$?[1-9]\d{0,6}))?
         |(?P<w1>\$?[1-9]\d{0,6}):(?P<w2>\$?[1-9]\d{0,6}))(?![\w(.!])
    """,
    re.VERBOSE,
)
_BROKEN = "#REF!"


class Shift(Struct, frozen=True):
    """``by`` rows put in before row ``at``, or row ``at`` taken out (``by`` -1), on one tab; rows from 0."""

    tab: str
    at: int
    by: int

    def moved(self, row: int) -> int | None:
        """Where a row is afterwards, None if it is the one taken out."""
        if row < self.at:
            return row
        return None if self.by < 0 and row == self.at else row + self.by

    def moved_span(self, first: int, last: int) -> tuple[int, int] | None:
        """Where a stretch of rows is afterwards: longer or shorter by what came or went inside it."""
        if self.by < 0 and first == last == self.at:
            return None
        low = first if first < self.at or (self.by < 0 and first == self.at) else first + self.by
        high = last + self.by if last >= self.at else last
        return low, high


def move_formula(formula: str, own_tab: str, shift: Shift) -> str:
    """The formula as it reads after the shift. Raises RowFault where it cannot be told."""
    if re.search(r"\bINDIRECT\s*\(", formula, re.IGNORECASE):
        raise RowFault("a formula with INDIRECT names its cells in a text, which cannot follow a moved row")

    def replaced(found: re.Match[str]) -> str:
        before = formula[found.start() - 1] if found.start() else ""
        if found["text"] or (before and (before.isalnum() or before in "_.$\\")):
            return found[0]
        sheet = found["sheet"] or ""
        name = sheet[:-1].strip("'").replace("''", "'") if sheet else own_tab
        if ":" in name:
            raise RowFault("a formula reaches over several tabs, which cannot follow a moved row")
        if name.casefold() != shift.tab.casefold():
            return found[0]
        if found["w1"]:
            first, last = found["w1"], found["w2"]
            span = shift.moved_span(_row(first), _row(last))
            return sheet + (_BROKEN if span is None else f"{_row_text(first, span[0])}:{_row_text(last, span[1])}")
        if not found["c2"]:
            moved = shift.moved(_row(found["r1"]))
            return sheet + (_BROKEN if moved is None else f"{found['c1']}{_row_text(found['r1'], moved)}")
        span = shift.moved_span(_row(found["r1"]), _row(found["r2"]))
        if span is None:
            return sheet + _BROKEN
        return f"{sheet}{found['c1']}{_row_text(found['r1'], span[0])}:{found['c2']}{_row_text(found['r2'], span[1])}"

    return _PIECES.sub(replaced, formula)


def _row(text: str) -> int:
    return int(text.lstrip("$")) - 1


def _row_text(old: str, row: int) -> str:
    return f"{'$' if old.startswith('$') else ''}{row + 1}"


def move_ranges(text: str, shift: Shift) -> str:
    """Ranges parted by blanks (sqref) after the shift; those that are gone are left out."""
    found = []
    for piece in text.split():
        first, _, last = piece.partition(":")
        left, right = re.fullmatch(r"\$?([A-Z]+)\$?(\d+)", first), re.fullmatch(r"\$?([A-Z]+)\$?(\d+)", last or first)
        if not left or not right:
            found.append(piece)  # whole columns
            continue
        span = shift.moved_span(int(left[2]) - 1, int(right[2]) - 1)
        if span is not None:
            name = f"{left[1]}{span[0] + 1}"
            found.append(f"{name}:{right[1]}{span[1] + 1}" if last else name)
    return " ".join(found)


def translate(formula: str, rows: int, columns: int) -> str:
    """A formula as it reads in a cell so many rows and columns away: what a shared formula means there."""

    def moved(column: str, row: str) -> str:
        if not column.startswith("$"):
            column = letter_of(column_of(column.upper()) + columns)
        if not row.startswith("$"):
            row = str(int(row) + rows)
        return column + row

    def replaced(found: re.Match[str]) -> str:
        before = formula[found.start() - 1] if found.start() else ""
        if found["text"] or (before and (before.isalnum() or before in "_.$\\")):
            return found[0]
        sheet = found["sheet"] or ""
        if found["w1"]:
            ends = [w if w.startswith("$") else str(int(w) + rows) for w in (found["w1"], found["w2"])]
            return sheet + ":".join(ends)
        second = ":" + moved(found["c2"], found["r2"]) if found["c2"] else ""
        return sheet + moved(found["c1"], found["r1"]) + second

    return _PIECES.sub(replaced, formula)
