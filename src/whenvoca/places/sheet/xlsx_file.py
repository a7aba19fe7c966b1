""".xlsx and .xlsm: read by calamine, written back by a patch of the one worksheet part.

Styles, formulas, charts, macros, pivot tables and whatever else a workbook holds stay as they are.
"""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from decimal import Decimal
from functools import lru_cache
from typing import Any

from whenvoca.errors import RowFault, SourceFault
from whenvoca.places.background_thread import start_in_background
from whenvoca.places.sheet.extent import strays_of
from whenvoca.places.sheet.grid import (
    Grid,
    TabWrites,
    blocks_of,
    cell_name,
    choose_tab,
    column_of,
    letter_of,
    tidy_rows,
)
from whenvoca.places.sheet.references import Shift
from whenvoca.places.sheet.xlsx_cells import SheetXml, escape_xml
from whenvoca.places.sheet.xlsx_package import MAIN, Package
from whenvoca.places.sheet.xlsx_shift import shift_rows
from whenvoca.places.sheet.xlsx_styles import Styles
from whenvoca.values.durations import Duration
from whenvoca.values.kinds import Raw, tidy_raw
from whenvoca.values.texts import show_value

_LONGEST_TEXT = 32_767  # signs of a cell, beyond which spreadsheet programs call a workbook broken
_FORMULA = re.compile(rb"<(?:\w+:)?f[\s/>]")
_WORKSHEET_TYPE = "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"
_RELATION_TYPE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"


class XlsxFile:
    """The workbook backing."""

    unwritable = ""

    @property
    def new_tab(self) -> str:
        """What the tab of a new workbook is called."""
        return "Sheet1"

    def tabs(self, data: bytes) -> list[str]:
        """The names of the worksheets, in order."""
        return list(_open(data).sheets())

    def load(self, data: bytes, tab: str | None) -> Grid:
        """The cells of a worksheet, typed as the workbook types them.

        Raises SourceFault where the file cannot be read or the tab is missing.
        """
        from python_calamine import CalamineError, CalamineWorkbook

        package = _open(data)
        sheets = package.sheets()
        name = choose_tab(tab, list(sheets))
        xml = package.read(sheets[name])
        strays, xml = strays_of(xml)
        if strays:
            data = package.rewrite({sheets[name]: xml})
        read = start_in_background(lambda: CalamineWorkbook.from_filelike(io.BytesIO(data)).get_sheet_by_name(name))
        has_formulas = _has_formulas(xml)
        errors = SheetXml(xml).find_errors() if b'"e"' in xml or b"'e'" in xml else {}
        del xml  # as large as all the cells together
        try:
            sheet = read()
            merges = _vertical_merges(sheet.merged_cell_ranges or [])
            rows: list[list[Any]] = sheet.to_python(skip_empty_area=False)
            columns = tidy_rows(rows)
        except (CalamineError, ValueError, OSError) as error:
            raise SourceFault(f"is a workbook that cannot be read: {error}", fix="save it as .xlsx again") from error
        del sheet
        for (row, column), shown in errors.items():
            if row < len(rows) and column < len(rows[row]):
                rows[row][column] = shown
                columns = []
        return Grid(
            tab=name,
            rows=rows,
            vertical_merges=merges,
            epoch_1904=package.uses_1904(),
            notes=tuple(f"{cell_name(*each)} stands far from the data and is left out" for each in strays),
            has_formulas=has_formulas,
            columns=columns,
        )

    def to_raw(self, value: Any) -> Raw:
        """The cell as a later reading gives it. Raises RowFault for a text that is too long for a cell."""
        if value.__class__ is str and len(value) > _LONGEST_TEXT:
            raise RowFault(
                f"a cell of a workbook holds {_LONGEST_TEXT:,} signs at most, and this text has {len(value):,}",
                fix="write less of it, or keep such texts in a .csv",
            )
        if value.__class__ is str and value.isascii() and value.isprintable():
            return tidy_raw(value)
        match value:
            case datetime():
                wall = value.replace(tzinfo=None)
                return tidy_raw(
                    wall.date() if wall.hour == wall.minute == wall.second == 0 else wall.replace(microsecond=0)
                )
            case Duration() if not value.months:
                return timedelta(seconds=value.to_seconds())
            case list() | tuple() | Duration():
                return tidy_raw(show_value(value))
            case Decimal():
                return tidy_raw(float(value))
            case str():
                return tidy_raw(value.replace("\r\n", "\n"))
        return tidy_raw(value)

    def find_formulas(self, data: bytes, tab: str) -> set[tuple[int, int]]:
        """The cells that hold a formula."""
        package = _open(data)
        return set(SheetXml(package.read(package.sheets()[tab])).find_formulas())

    def patch(self, data: bytes | None, writes: Mapping[str, TabWrites]) -> bytes:
        """The workbook with only these cells changed; tabs and file are made where they are not there.

        Raises SourceFault where the package is broken.
        """
        if data is None:
            data = _new_workbook({tab: write.headings for tab, write in writes.items()})
        package = _open(data)
        missing = {tab: write for tab, write in writes.items() if tab not in package.sheets()}
        if missing:
            data = _add_tabs(package, {tab: write.headings for tab, write in missing.items()})
            package = _open(data)
        styles_part = package.part_of_kind(package.workbook_part, "/styles")
        styles = Styles(package.read(styles_part) if styles_part else b"")
        sheets = package.sheets()
        changed: dict[str, bytes | list[bytes | memoryview]] = {}
        has_formulas = False
        for tab, write in writes.items():
            part = sheets[tab]
            sheet = SheetXml(package.read(part))
            has_formulas = has_formulas or _has_formulas(sheet.xml)
            changed[part] = sheet.write(
                write.cells, styles.style_of, epoch_1904=package.uses_1904(), formats_from=write.formats_from
            )
            if write.formats_from:
                changed |= _grown_tables(package, part, write)
        if styles_part and (xml := styles.changed_xml()):
            changed[styles_part] = xml
        if has_formulas or any(_has_formulas(package.read(part)) for part in sheets.values() if part not in changed):
            changed[package.workbook_part] = _asking_recalculation(package.read(package.workbook_part))
        return package.rewrite(changed)

    def shift_rows(self, data: bytes, tab: str, write: TabWrites) -> bytes:
        """The workbook with rows taken out, from the last up, or put in.

        Raises SourceFault where the package is broken.
        """
        tab = next(each for each in _open(data).sheets() if each.casefold() == tab.casefold())
        for row in sorted(write.removed, reverse=True):
            data = shift_rows(data, Shift(tab, row, -1))
        for first, count in blocks_of(write.inserted):
            data = shift_rows(data, Shift(tab, first, count))
            numbers = range(first, first + count)
            cells = {(row, column): value for row in numbers for column, value in write.inserted[row].items()}
            look = first + count if first == 0 else first - 1
            data = self.patch(data, {tab: TabWrites(cells=cells, formats_from=dict.fromkeys(numbers, look))})
        package = _open(data)
        return package.rewrite({package.workbook_part: _asking_recalculation(package.read(package.workbook_part))})


@lru_cache(maxsize=2)
def _open(data: bytes) -> Package:
    return Package(data)


def _has_formulas(xml: bytes) -> bool:
    return (b"<f" in xml or b":f" in xml) and bool(_FORMULA.search(xml))


def _vertical_merges(ranges: Sequence[Any]) -> dict[tuple[int, int], tuple[int, int]]:
    """Cells covered by a merge that reaches over several rows, with the top cell of the same column."""
    found = {}
    for (top, left), (bottom, _) in ranges:
        for row in range(top + 1, min(bottom, top + 50) + 1):
            found[row, left] = (top, left)
    return found


def _asking_recalculation(xml: bytes) -> bytes:
    """The workbook part, asking for full recalculation on load: results that our cells make stale are then made new."""
    if re.search(rb'<(?:\w+:)?calcPr\b[^>]*fullCalcOnLoad="(?:1|true)"', xml):
        return xml
    stripped = re.sub(rb'(<(?:\w+:)?calcPr\b[^>]*?)\s+fullCalcOnLoad="[^"]*"', rb"\1", xml)
    if re.search(rb"<(?:\w+:)?calcPr\b", stripped):
        return re.sub(rb"(<(?:\w+:)?calcPr\b)", rb'\1 fullCalcOnLoad="1"', stripped, count=1)
    for name in (b"definedNames", b"externalReferences", b"functionGroups", b"sheets"):
        if found := re.search(rb"</((?:\w+:)?)" + name + rb">", stripped):
            return stripped[: found.end()] + b"<" + found[1] + b'calcPr fullCalcOnLoad="1"/>' + stripped[found.end() :]
    return xml


def _grown_tables(package: Package, part: str, write: TabWrites) -> dict[str, bytes]:
    """Table parts grown over the rows that were put directly below them."""
    changed = {}
    for target, kind in package.relations(part).values():
        if not kind.endswith("/table"):
            continue
        xml = package.read(target)
        found = re.search(rb'\bref="([A-Z]+)(\d+):([A-Z]+)(\d+)"', xml)
        if not found or re.search(rb'\btotalsRowCount="[1-9]', xml[:2000]):
            continue
        bottom = int(found[4]) - 1
        left, right = column_of(found[1].decode()), column_of(found[3].decode())
        fresh = sorted({row for row, column in write.cells if row in write.formats_from and left <= column <= right})
        if fresh and fresh[0] == bottom + 1:
            old, new = b":%s%d" % (found[3], bottom + 1), b":%s%d" % (found[3], fresh[-1] + 1)
            changed[target] = xml.replace(old + b'"', new + b'"')
    return changed


def _new_workbook(tabs: Mapping[str, list[str]]) -> bytes:
    import xlsxwriter

    target = io.BytesIO()
    with xlsxwriter.Workbook(target, {"in_memory": True}) as workbook:
        bold = workbook.add_format({"bold": True, "bottom": 1})
        for tab, headings in tabs.items():
            sheet = workbook.add_worksheet(tab)
            for column, heading in enumerate(headings):
                sheet.write_string(0, column, heading, bold)
                sheet.set_column(column, column, max(12, len(heading) + 2))
            sheet.freeze_panes(1, 0)
        workbook.set_properties({"author": "Whenvoca"})
    return name_maker(target.getvalue(), "Whenvoca")


def name_maker(data: bytes, program: str) -> bytes:
    """The workbook with its document properties naming the program that really made it."""
    package = Package(data)
    xml = package.read("docProps/app.xml")
    named = re.sub(rb"<Application>[^<]*</Application>", b"<Application>" + program.encode() + b"</Application>", xml)
    return package.rewrite({"docProps/app.xml": re.sub(rb"<AppVersion>[^<]*</AppVersion>", b"", named)})


def _add_tabs(package: Package, tabs: Mapping[str, list[str]]) -> bytes:
    """The workbook with new tabs at its end, each with its headings."""
    folder = package.workbook_part.rpartition("/")[0]
    rels_part = f"{folder}/_rels/{package.workbook_part.rpartition('/')[2]}.rels"
    workbook, rels = package.read(package.workbook_part), package.read(rels_part)
    types = package.read("[Content_Types].xml")
    changed: dict[str, bytes] = {}
    from html import escape

    sheet_ids = [int(found) for found in re.findall(rb'\bsheetId="(\d+)"', workbook)]
    for offset, (tab, headings) in enumerate(tabs.items(), 1):
        number = max(sheet_ids, default=0) + offset
        part = f"{folder}/worksheets/whenvoca{number}.xml"
        relation = f"rIdWhenvoca{number}"
        changed[part] = _sheet_with_headings(headings)
        entry = f'<sheet name="{escape(tab)}" sheetId="{number}" xmlns:r="{_RELATION_TYPE}" r:id="{relation}"/>'
        prefix = re.search(rb"<((?:\w+:)?)sheets\b", workbook)
        if prefix and prefix[1]:
            entry = f"<{prefix[1].decode()}{entry[1:]}"
        end = re.search(rb"</(?:\w+:)?sheets>", workbook)
        assert end is not None
        workbook = workbook[: end.start()] + entry.encode() + workbook[end.start() :]
        link = (
            f'<Relationship Id="{relation}" Type="{_RELATION_TYPE}/worksheet" '
            f'Target="worksheets/whenvoca{number}.xml"/>'
        )
        rels = rels.replace(b"</Relationships>", link.encode() + b"</Relationships>")
        override = f'<Override PartName="/{part}" ContentType="{_WORKSHEET_TYPE}"/>'
        types = types.replace(b"</Types>", override.encode() + b"</Types>")
    return package.rewrite({**changed, package.workbook_part: workbook, rels_part: rels, "[Content_Types].xml": types})


def _sheet_with_headings(headings: list[str]) -> bytes:
    cells = "".join(
        f'<c r="{letter_of(column)}1" t="inlineStr"><is><t>{escape_xml(heading)}</t></is></c>'
        for column, heading in enumerate(headings)
    )
    return (
        '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>'
        f'<worksheet xmlns="{MAIN}"><sheetData><row r="1">{cells}</row></sheetData></worksheet>'
    ).encode()
