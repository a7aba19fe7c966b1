"""Workbooks with everything that a write-back must leave alone."""

from __future__ import annotations

import io
import warnings
import zipfile
from datetime import date, datetime, time
from typing import Any

import openpyxl
import xlsxwriter

HEADINGS = ("Answer", "Booking", "No", "Title", "Day", "From", "To")


def rich_workbook() -> bytes:
    """Styles, formulas, conditional formats with data bars, validation, a chart, a picture, comments, a text box,
    sparklines, a table on another tab, names, protection, and a macro part with a pivot part put in by hand."""
    target = io.BytesIO()
    with xlsxwriter.Workbook(target, {"in_memory": True}) as book:
        sheet = book.add_worksheet("Slots")
        bold, day = (
            book.add_format({"bold": True, "bg_color": "#ddeeff"}),
            book.add_format({"num_format": "d mmm yyyy"}),
        )
        sheet.merge_range("A1:G1", "Requests", bold)
        sheet.write_row(3, 0, HEADINGS, bold)
        for row in range(4, 9):
            sheet.write_blank(row, 0, None, bold)
            sheet.write_string(row, 2, f"R-{row}")
            sheet.write_rich_string(row, 3, "M ", bold, str(row))
            sheet.write_datetime(row, 4, date(2027, 3, row), day)
            sheet.write_string(row, 5, "21:30")
            sheet.write_string(row, 6, "02:00")
            sheet.write_formula(row, 8, f"=LEN(D{row + 1})", None, 3)
        sheet.conditional_format("I5:I9", {"type": "data_bar", "data_bar_2010": True})
        sheet.conditional_format("A5:A9", {"type": "text", "criteria": "begins with", "value": "not", "format": bold})
        sheet.data_validation("F5:F9", {"validate": "list", "source": ["21:30", "22:00"]})
        sheet.write_comment("C5", "look here")
        sheet.insert_textbox("K2", "a box")
        sheet.insert_image("K9", "dot.png", {"image_data": io.BytesIO(_dot())})
        sheet.add_sparkline("J5", {"range": "Slots!I5:I9"})
        sheet.set_header("&Lleft")
        sheet.set_column("A:A", 30)
        other = book.add_worksheet("Counts")
        other.add_table(
            "A1:B3", {"data": [["a", 1], ["b", 2]], "columns": [{"header": "What"}, {"header": "N"}], "name": "Counts"}
        )
        chart = book.add_chart({"type": "column"})
        chart.add_series({"values": "=Slots!$I$5:$I$9"})
        other.insert_chart("D2", chart)
        book.define_name("Firsts", "=Slots!$C$5:$C$9")
        book.add_worksheet("Hidden").hide()
    parts = parts_of(target.getvalue())
    calm = parts["xl/workbook.xml"].replace(b' fullCalcOnLoad="1"', b"")
    return _with_parts(
        target.getvalue(),
        {"xl/workbook.xml": calm},
        {
            "xl/vbaProject.bin": b"\xd0\xcf macro",
            "xl/pivotTables/pivotTable1.xml": b"<pivotTableDefinition/>",
            "customXml/item1.xml": b"<x/>",
        },
    )


def _dot() -> bytes:
    import struct
    import zlib

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 1, 1, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0\xff\0\0")) + chunk(b"IEND", b"")
    )


def _with_parts(data: bytes, changed: dict[str, bytes], parts: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for entry in old.infolist():
            new.writestr(entry, changed.get(entry.filename, old.read(entry)))
        for name, content in parts.items():
            new.writestr(name, content)
    return out.getvalue()


def parts_of(data: bytes) -> dict[str, bytes]:
    """Every part by name."""
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def plain_workbook(rows: list[list[Any]], *, tab: str = "Slots", epoch_1904: bool = False) -> bytes:
    """A workbook by another library, with these cells."""
    book = openpyxl.Workbook()
    if epoch_1904:
        book.epoch = openpyxl.utils.datetime.CALENDAR_MAC_1904
    sheet = book.active
    assert sheet is not None
    sheet.title = tab
    for row in rows:
        sheet.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def open_elsewhere(data: bytes) -> openpyxl.Workbook:
    """The workbook as another library opens it; what that library does not know it says in warnings."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", UserWarning)
        return openpyxl.load_workbook(io.BytesIO(data))


def read_cells(data: bytes, tab: str = "Slots") -> list[list[Any]]:
    """The cells of a tab as another library reads them."""
    book = open_elsewhere(data)
    return [[cell.value for cell in row] for row in book[tab].iter_rows()]


def ods_workbook(rows: list[list[Any]], tab: str = "Slots") -> bytes:
    """An OpenDocument spreadsheet with typed cells."""
    cells = []
    for row in rows:
        cells.append("<table:table-row>" + "".join(_ods_cell(each) for each in row) + "</table:table-row>")
    content = (
        '<?xml version="1.0" encoding="UTF-8"?><office:document-content '
        'xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
        'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" '
        'xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
        'office:version="1.2"><office:body><office:spreadsheet>'
        "<table:table "
        f'table:name="{tab}">{"".join(cells)}</table:table></office:spreadsheet></office:body></office:document-content>'
    )
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("content.xml", content)
        archive.writestr(
            "META-INF/manifest.xml",
            '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">'
            '<manifest:file-entry manifest:full-path="/" '
            'manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/>'
            '<manifest:file-entry manifest:full-path="content.xml" '
            'manifest:media-type="text/xml"/></manifest:manifest>',
        )
    return target.getvalue()


def _ods_cell(value: Any) -> str:
    match value:
        case None:
            return "<table:table-cell/>"
        case datetime():
            kind = f'office:value-type="date" office:date-value="{value.isoformat()}"'
        case date():
            kind = f'office:value-type="date" office:date-value="{value.isoformat()}"'
        case time():
            kind = f'office:value-type="time" office:time-value="PT{value.hour:02d}H{value.minute:02d}M00S"'
        case int() | float():
            kind = f'office:value-type="float" office:value="{value}"'
        case _:
            kind = 'office:value-type="string"'
    return f"<table:table-cell {kind}><text:p>{value}</text:p></table:table-cell>"
