"""Sheets that reach absurdly far: looked at before they are read, refused in words or read without the strays."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable

import pytest
import xlsxwriter

from tests.conftest import SETTINGS, Desk
from tests.places.workbooks import ods_workbook, open_elsewhere
from whenvoca.errors import SourceFault
from whenvoca.places.sheet.ods_file import OdsFile
from whenvoca.places.sheet.xlsx_file import XlsxFile

LAST, FAR = 1_048_575, 16_383  # the last row and column of a worksheet


def workbook(strays: Iterable[tuple[int, int]]) -> bytes:
    out = io.BytesIO()
    with xlsxwriter.Workbook(out) as book:
        sheet = book.add_worksheet("Slots")
        for row, cells in enumerate([("Id", "Title"), ("R-1", "Band"), ("R-2", "Choir")]):
            sheet.write_row(row, 0, cells)
        for row, column in strays:
            sheet.write(row, column, "stray")
    return out.getvalue()


def spreadsheet(before: bytes, after: bytes) -> bytes:
    out = io.BytesIO()
    with (
        zipfile.ZipFile(io.BytesIO(ods_workbook([["A", "B"], ["x", "y"]]))) as given,
        zipfile.ZipFile(out, "w") as made,
    ):
        for each in given.infolist():
            content = given.read(each)
            made.writestr(each, content.replace(before, after, 1) if each.filename == "content.xml" else content)
    return out.getvalue()


@pytest.mark.parametrize(
    ("strays", "named"),
    [
        ([(LAST, FAR)], ["XFD1048576"]),
        ([(LAST, 25)], ["Z1048576"]),
        ([(49_999, FAR), (LAST, 0)], ["XFD50000", "A1048576"]),
        ([(LAST - n, 701) for n in range(50)], [f"ZZ{LAST + 1 - n}" for n in range(50)]),
    ],
)
def test_strays_are_left_out_and_named(strays: list[tuple[int, int]], named: list[str]) -> None:
    grid = XlsxFile().load(workbook(strays), None)
    assert grid.rows == [["Id", "Title"], ["R-1", "Band"], ["R-2", "Choir"]]
    assert sorted(grid.notes) == sorted(f"{name} stands far from the data and is left out" for name in named)


def test_what_is_only_wide_or_only_long_is_read() -> None:
    assert max(map(len, XlsxFile().load(workbook([(2, FAR)]), None).rows)) == FAR + 1
    assert len(XlsxFile().load(workbook([(9_999, 1)]), None).rows) == 10_000


def test_much_data_far_out_is_refused() -> None:
    with pytest.raises(SourceFault, match="reaches as far as XFD1048576, which is too much to read"):
        XlsxFile().load(workbook([(LAST - n, FAR) for n in range(200)]), None)


ROW, CELL, END = b"<table:table-row>", b"<table:table-cell ", b"</table:table>"
FILLER = (
    b'<table:table-row table:number-rows-repeated="1048570">'
    b'<table:table-cell table:number-columns-repeated="16384"/></table:table-row>'
)
FILLED = b'<table:table-cell office:value-type="string"><text:p>x</text:p></table:table-cell>'
HUNDRED = b'<table:table-cell table:number-columns-repeated="100"/>'


@pytest.mark.parametrize(
    ("before", "after", "wanted"),
    [
        (ROW, b'<table:table-row table:number-rows-repeated="1000000000">', "1,000,000,000 rows and 2 columns"),
        (CELL, CELL + b'table:number-columns-repeated="2000000" ', "1 rows and 2,000,001 columns"),
        (b"<text:p>", b'<text:p><text:s text:c="2000000000"/>', "a text with 2,000,000,000 spaces"),
        (END, FILLER + ROW + HUNDRED + FILLED + b"</table:table-row>" + END, "1,048,573 rows and 101 columns"),
    ],
)
def test_an_ods_sheet_that_says_it_is_huge_is_refused(before: bytes, after: bytes, wanted: str) -> None:
    with pytest.raises(SourceFault, match=f"{wanted}, which is too much to read"):
        OdsFile().load(spreadsheet(before, after), None)


def test_empty_rows_to_the_bottom_are_nothing() -> None:
    assert len(OdsFile().load(spreadsheet(END, FILLER + END), None).rows) == 2


def test_the_workspace_works_with_both_beside_it(desk: Desk) -> None:
    desk.settings(
        SETTINGS,
        '[places.slots]\nkind = "sheet"\nfile = "slots.xlsx"\nkey = "Id"\n'
        '[places.huge]\nkind = "sheet"\nfile = "huge.ods"\nkey = "A"\n'
        '[places.log]\nkind = "sheet"\nfile = "log.csv"\ncreate = true\n',
    )
    desk.write("slots.xlsx", workbook([(LAST, FAR)]))
    desk.write("huge.ods", spreadsheet(ROW, b'<table:table-row table:number-rows-repeated="1000000000">'))
    desk.workflow(
        'when slots gains a row\n  existing  yes\n\nadd row to log\n  What  row.Title\n\nchange row\n  Title  "done"\n',
        "log",
    )
    told = desk.run("run")
    assert told.code == 0, told
    assert "says that it has 1,000,000,000 rows" in desk.run("places", "--json").out
    assert desk.read("log.csv").split() == ["What", "Band", "Choir"]
    sheet = open_elsewhere((desk.folder / "slots.xlsx").read_bytes())["Slots"]
    assert [sheet[name].value for name in ("B2", "B3", "XFD1048576")] == ["done", "done", "stray"]
