"""What a new row takes over from the one above it: the styles of its cells, and the formulas in them."""

from __future__ import annotations

import html
import re
from collections.abc import Iterable

from msgspec import Struct, field

from whenvoca.places.sheet.grid import column_of
from whenvoca.places.sheet.references import translate

_FORMULA = re.compile(rb"<(?:\w+:)?f\b([^>]*?)(?:/>|>(.*?)</(?:\w+:)?f>)", re.DOTALL)
_SHARED = re.compile(rb"""\bt\s*=\s*["']shared["']""")
_INDEX = re.compile(rb"""\bsi\s*=\s*["'](\d+)["']""")
_OF_ITS_OWN = re.compile(rb"""\bt\s*=\s*["'](?:array|dataTable)["']""")
_MASTER = re.compile(
    rb"""<(?:\w+:)?c\b[^>]*?\br\s*=\s*["']([A-Z]+)(\d+)["'][^>]*>\s*<(?:\w+:)?f\b([^>]*?\bt\s*=\s*["']shared["'][^>/]*)>"""
    rb"""([^<]+)</""",
    re.DOTALL,
)

Masters = dict[bytes, tuple[int, int, str]]  # of shared formulas: row and column from 0, and the text


class RowLook(Struct):
    """The styles and the formulas of a row's cells by column; a formula as it reads in that row."""

    styles: dict[int, int] = field(default_factory=dict)
    formulas: dict[int, str] = field(default_factory=dict)

    def formulas_in(self, rows: int) -> dict[int, str]:
        """The formulas as they read so many rows further down."""
        return {column: translate(text, rows, 0) for column, text in self.formulas.items()}


def masters_of(xml: bytes) -> Masters:
    """The formulas of a worksheet that others of its cells share."""
    found: Masters = {}
    for each in _MASTER.finditer(xml) if b"shared" in xml else ():
        if (index := _INDEX.search(each[3])) is not None:
            column = column_of(each[1].decode())
            found[index[1]] = (int(each[2]) - 1, column, html.unescape(each[4].decode()))
    return found


def look_of(row: int, cells: Iterable[tuple[int, int, bytes]], masters: Masters) -> RowLook:
    """That of a row, given its cells as (column, style, body). A formula over several cells stays where it is."""
    look = RowLook()
    for column, style, body in cells:
        if style:
            look.styles[column] = style
        found = _FORMULA.search(body) if b"f" in body else None
        if found is None or _OF_ITS_OWN.search(found[1]):
            continue
        text = html.unescape((found[2] or b"").decode())
        if not text and _SHARED.search(found[1]) and (index := _INDEX.search(found[1])) and index[1] in masters:
            first_row, first_column, shared = masters[index[1]]
            text = translate(shared, row - first_row, column - first_column)
        if text:
            look.formulas[column] = text
    return look
