"""How far the cells of a sheet reach, looked at before they are read: one stray cell far out would fill the memory."""

from __future__ import annotations

import re
from collections.abc import Iterable

from whenvoca.errors import SourceFault
from whenvoca.places.sheet.grid import cell_name, column_of

MOST_CELLS = 30_000_000  # rows times columns that are read; a sheet of 100,000 rows and 100 columns has a third of it
_MOST_ROWS, _MOST_COLUMNS = 1_048_576, 16_384  # of any spreadsheet
_GAP = 1_000  # empty rows or columns, behind which a few cells are strays and no data
_FEW = 100  # cells that may be strays; more are data
_FAR = re.compile(rb'r="([A-Z]{2,3})\d')  # beyond column Z; a fixed beginning is searched for fast
_FAR_OTHERWISE = re.compile(rb"r='([A-Z]{2,3})\d")
_LAST_ROW = re.compile(rb"""<(?:\w+:)?row\b[^>]*?\sr=["'](\d+)["']""")
_CELL = re.compile(rb"""<(?:\w+:)?c\b[^>]*?\br=["']([A-Z]{1,3})(\d+)["'][^>]*(?<!/)>""")
_MEND = "delete what stands far from the data there, and save it again"


def strays_of(xml: bytes) -> tuple[list[tuple[int, int]], bytes]:
    """The cells of a worksheet (ECMA-376) that stand far from its data, by row and column from 0, and the worksheet
    without them.

    Raises SourceFault where it reaches too far all the same.
    """
    if _area_at_most(xml) <= MOST_CELLS // 10:
        return [], xml
    cells = [(int(row) - 1, column_of(letters.decode())) for letters, row in _CELL.findall(xml)]
    if not cells:
        return [], xml
    row_end, column_end = _end_of(row for row, _ in cells), _end_of(column for _, column in cells)
    strays = [(row, column) for row, column in cells if row > row_end or column > column_end]
    if len(strays) > _FEW:
        strays, row_end, column_end = [], max(row for row, _ in cells), max(column for _, column in cells)
    if (row_end + 1) * (column_end + 1) > MOST_CELLS:
        raise SourceFault(f"reaches as far as {cell_name(row_end, column_end)}, which is too much to read", fix=_MEND)
    for row, column in strays:
        name = cell_name(row, column).encode()
        xml = re.sub(
            rb"""<((?:\w+:)?)c\b[^>]*?\br=["']""" + name + rb"""["'][^>]*>.*?</\1c>""", b"", xml, flags=re.DOTALL
        )
    return strays, xml


def _area_at_most(xml: bytes) -> int:
    """Rows times columns, or more, by a quick look."""
    far = set(_FAR.findall(xml)) | (set(_FAR_OTHERWISE.findall(xml)) if b"r='" in xml else set())
    widest = max((column_of(letters.decode()) for letters in far), default=25) + 1
    rows = [int(each) for each in _LAST_ROW.findall(xml[-4096:])] or [int(each) for each in _LAST_ROW.findall(xml)]
    return widest * max([*rows, xml.count(b"<row")])


def _end_of(numbers: Iterable[int]) -> int:
    """The last of the numbers before a wide gap."""
    last = -1
    for each in sorted(set(numbers)):
        if each - last > _GAP and last >= 0:
            break
        last = each
    return last


_ODS_ROW = re.compile(rb"""<table:table-row\b([^>]*?)(?:/>|>(.*?)</table:table-row>)""", re.DOTALL)
_ROWS = re.compile(rb"""number-rows-repeated=["'](\d+)["']""")
_CELLS = re.compile(rb"""<table:(?:covered-)?table-cell\b([^>]*)""")
_COLUMNS = re.compile(rb"""number-columns-repeated=["'](\d+)["']""")
_SPACES = re.compile(rb"""text:c=["'](\d{6,})["']""")
_LONG = re.compile(rb"""number-(?:rows|columns)-repeated=["']\d{4,}["']""")


def refuse_far(content: bytes) -> None:
    """Raises SourceFault where a sheet of an OpenDocument text (part 3, 9.1) says that it is larger than can be
    read."""
    if found := _SPACES.search(content):
        raise SourceFault(f"holds a text with {int(found[1]):,} spaces, which is too much to read", fix=_MEND)
    if not _LONG.search(content):
        return
    for table in content.split(b"<table:table ")[1:]:
        rows = height = width = 0
        for found in _ODS_ROW.finditer(table):
            times = _ROWS.search(found[1])
            rows += int(times[1]) if times else 1
            reach = _reach_of(found[2] or b"")
            if reach:
                height, width = rows, max(width, reach)
            if height > _MOST_ROWS or width > _MOST_COLUMNS or height * width > MOST_CELLS:
                raise SourceFault(
                    f"says that it has {height:,} rows and {width:,} columns, which is too much to read", fix=_MEND
                )


def _reach_of(row: bytes) -> int:
    """The last filled column of a row, counted from 1; 0 where none is filled."""
    column = reach = 0
    for found in _CELLS.finditer(row):
        times = _COLUMNS.search(found[1])
        column += int(times[1]) if times else 1
        if b"value-type" in found[1]:
            reach = column
    return reach
