"""A report as a workbook: a tab for each table, with real numbers in their formats."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from io import BytesIO
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.reports.hours import HoursTable, Report
from whenvoca.reports.hours_words import SHARED_NOTE, figure_of, label_of, said_left_out, said_period

_FORMATS = {
    "share": "0%",
    "count": "#,##0",
    "moved": "#,##0",
    "called-off": "#,##0",
    "change": "+#,##0.00;-#,##0.00;0.00",
}
_HOURS = "#,##0.00"
_SIGNS = str.maketrans("[]:*?/\\", "       ")
_NO_TIME = datetime(1980, 1, 1)  # when it was made does not stand in it, so that the same figures give the same file


def write_hours(report: Report, measures: Sequence[str], title: str, zone: ZoneInfo) -> bytes:
    """The workbook (.xlsx); the same figures give the same file, byte for byte."""
    from xlsxwriter import Workbook

    out = BytesIO()
    with Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}) as book:
        book.set_properties({"title": title, "created": _NO_TIME})
        formats = {each: book.add_format({"num_format": _FORMATS.get(each, _HOURS)}) for each in measures}
        heading, bold = book.add_format({"bold": True, "font_size": 14}), book.add_format({"bold": True})
        for table in report.tables:
            sheet = book.add_worksheet(" with ".join(table.by).translate(_SIGNS)[:31])
            sheet.write_string(0, 0, title, heading)
            sheet.write_string(1, 0, f"{said_period(report.begin, report.end, zone)}, {zone.key}")
            _write_table(sheet, table, report, measures, formats)
            below = 5 + max(1, len(table.rows))
            sheet.write_string(below, 0, "total", bold)
            for column, measure in enumerate(measures, len(table.by)):
                if (figure := figure_of(measure, report.whole, report)) is not None:
                    sheet.write_number(below, column, figure, formats[measure])
            notes = [SHARED_NOTE] * table.is_shared + [f"left out: {said}" for said in [said_left_out(report)] if said]
            for number, note in enumerate(notes, below + 2):
                sheet.write_string(number, 0, note)
    return out.getvalue()


def _write_table(
    sheet: Any, table: HoursTable, report: Report, measures: Sequence[str], formats: dict[str, Any]
) -> None:
    wide = len(table.by)
    for row, line in enumerate(table.rows, 4):
        for column, (by, label) in enumerate(zip(table.by, line.labels, strict=True)):
            sheet.write_string(row, column, label_of(by, label))
        for column, measure in enumerate(measures, wide):
            figure = figure_of(measure, line, report)
            if figure is not None:
                sheet.write_number(row, column, figure, formats[measure])
    columns = [{"header": each} for each in table.by]
    columns += [{"header": each, "format": formats[each]} for each in measures]
    last = 3 + max(1, len(table.rows))
    sheet.add_table(3, 0, last, len(columns) - 1, {"columns": columns, "style": "Table Style Light 1"})
    sheet.set_column(0, wide - 1, 28)
    sheet.set_column(wide, wide + len(measures) - 1, 11)
    sheet.freeze_panes(4, 0)
