"""Putting a row into a workbook's tab, or taking one out: everything that speaks of the rows below follows.

What cannot follow makes it refuse, before anything is written.
"""

from __future__ import annotations

import re
from typing import Any

from whenvoca.errors import RowFault
from whenvoca.places.sheet.grid import column_of
from whenvoca.places.sheet.references import Shift, move_formula, move_ranges, translate
from whenvoca.places.sheet.xlsx_package import Package

_REFUSED = ("customSheetViews", "scenarios", "oleObjects", "singleXmlCells")
_RANGES = {
    "mergeCell": "ref",
    "autoFilter": "ref",
    "dataValidation": "sqref",
    "conditionalFormatting": "sqref",
    "hyperlink": "ref",
    "protectedRange": "sqref",
    "ignoredError": "sqref",
    "dimension": "ref",
    "selection": "sqref",
    "sortState": "ref",
    "sortCondition": "ref",
    "tablePart": "",
}
_DROPPED_WHEN_GONE = (
    "mergeCell",
    "dataValidation",
    "conditionalFormatting",
    "hyperlink",
    "protectedRange",
    "ignoredError",
)


def shift_rows(data: bytes, shift: Shift) -> bytes:
    """The workbook after the shift. Raises RowFault where something cannot follow."""
    package = Package(data)
    changed: dict[str, bytes] = {}
    sheets = package.sheets()
    for tab, part in sheets.items():
        root = package.parse(part)
        touched = _shift_sheet(root, shift) if tab == shift.tab else False
        touched = _move_formulas(root, tab, shift) or touched
        if touched:
            changed[part] = _to_bytes(root)
        for target, kind in package.relations(part).values():
            ending = kind.rpartition("/")[2]
            if tab == shift.tab and ending in ("table", "comments", "threadedComment", "drawing", "vmlDrawing"):
                changed |= _shift_part(package, target, ending, shift)
            if ending == "drawing":
                for chart, chart_kind in package.relations(target).values():
                    if chart_kind.endswith("/chart"):
                        changed |= _move_text_of(package, chart, ("f",), tab, shift)
            if ending == "queryTable" and tab == shift.tab:
                raise RowFault("a query fills this tab, which cannot follow a moved row")
    changed |= _move_text_of(package, package.workbook_part, ("definedName",), "", shift)
    changed |= _shift_pivots(package, shift)
    chain = package.part_of_kind(package.workbook_part, "/calcChain")
    if chain:
        changed[chain] = _shift_chain(package, chain, shift, list(sheets))
    return package.rewrite(changed)


def _name(element: Any) -> str:
    return element.tag.rpartition("}")[2] if isinstance(element.tag, str) else ""


def _to_bytes(root: Any) -> bytes:
    from lxml import etree

    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", standalone=True))


def _shift_sheet(root: Any, shift: Shift) -> bool:
    for element in root.iter():
        if _name(element) in _REFUSED:
            raise RowFault(f"the tab holds {_name(element)}, which cannot follow a moved row")
    _expand_shared(root)
    data = next(element for element in root if _name(element) == "sheetData")
    for row in list(data):
        number = int(row.get("r")) - 1
        moved = shift.moved(number)
        if moved is None:
            data.remove(row)
            continue
        if moved != number:
            row.set("r", str(moved + 1))
            for cell in row:
                if cell.get("r"):
                    cell.set("r", re.sub(r"\d+", str(moved + 1), cell.get("r")))
    for element in list(root.iter()):
        attribute = _RANGES.get(_name(element), "")
        if attribute and element.get(attribute):
            _move_attribute(element, attribute, shift)
        elif _name(element) == "brk" and _name(element.getparent()) == "rowBreaks":
            moved = shift.moved(int(element.get("id", "0")))
            element.set("id", str(moved if moved is not None else shift.at))
        elif _name(element) == "sqref" and element.text:  # the extension of 2010
            element.text = move_ranges(element.text, shift) or element.text
    for group in ("mergeCells", "dataValidations"):
        for element in [each for each in root if _name(each) == group]:
            element.set("count", str(len(element)))
            if not len(element):
                root.remove(element)
    return True


def _move_attribute(element: Any, attribute: str, shift: Shift) -> None:
    moved = move_ranges(element.get(attribute), shift)
    if moved:
        element.set(attribute, moved)
    elif _name(element) in _DROPPED_WHEN_GONE:
        element.getparent().remove(element)


def _expand_shared(root: Any) -> None:
    """Shared formulas written out one by one: after a shift they no longer all mean the same."""
    masters: dict[str, tuple[int, int, str]] = {}
    for formula in root.iter():
        if _name(formula) != "f" or formula.get("t") != "shared":
            continue
        letters, digits = re.fullmatch(r"([A-Z]+)(\d+)", formula.getparent().get("r")).groups()  # type: ignore[union-attr]
        row, column, index = int(digits), column_of(letters), formula.get("si")
        if formula.text:
            masters[index] = (row, column, formula.text)
        elif index in masters:
            first_row, first_column, text = masters[index]
            formula.text = translate(text, row - first_row, column - first_column)
        for attribute in ("t", "si", "ref"):
            formula.attrib.pop(attribute, None)


def _move_formulas(root: Any, tab: str, shift: Shift) -> bool:
    """Formulas of cells, validations and formats; answers whether one changed."""
    touched = False
    for element in root.iter():
        if _name(element) in ("f", "formula", "formula1", "formula2") and element.text:
            moved = move_formula(element.text, tab, shift)
            if moved != element.text:
                element.text, touched = moved, True
            if tab == shift.tab and element.get("ref"):
                element.set("ref", move_ranges(element.get("ref"), shift) or element.get("ref"))
    return touched


def _move_text_of(package: Package, part: str, names: tuple[str, ...], tab: str, shift: Shift) -> dict[str, bytes]:
    root, touched = package.parse(part), False
    for element in root.iter():
        if _name(element) in names and element.text:
            moved = move_formula(element.text, tab, shift)
            if moved != element.text:
                element.text, touched = moved, True
    return {part: _to_bytes(root)} if touched else {}


def _shift_part(package: Package, part: str, kind: str, shift: Shift) -> dict[str, bytes]:
    root = package.parse(part)
    if kind == "table":
        head, last = (int(each) - 1 for each in re.findall(r"\d+", root.get("ref")))
        if shift.by < 0 and last - head <= 1 and head <= shift.at <= last:
            raise RowFault("a table would be left without a row")
        for element in root.iter():
            if element.get("ref"):
                element.set("ref", move_ranges(element.get("ref"), shift))
    elif kind in ("comments", "threadedComment"):
        for element in list(root.iter()):
            if _name(element) in ("comment", "threadedComment") and element.get("ref"):
                moved = move_ranges(element.get("ref"), shift)
                if moved:
                    element.set("ref", moved)
                else:
                    element.getparent().remove(element)
    elif kind == "drawing":
        for element in root.iter():
            if _name(element) == "row" and _name(element.getparent()) in ("from", "to"):
                moved_row = shift.moved(int(element.text))
                element.text = str(shift.at if moved_row is None else moved_row)
    else:
        for element in root.iter():
            if _name(element) == "Row" and element.text and element.text.strip().isdigit():
                moved_row = shift.moved(int(element.text))
                element.text = str(shift.at if moved_row is None else moved_row)
    return {part: _to_bytes(root)}


def _shift_pivots(package: Package, shift: Shift) -> dict[str, bytes]:
    changed = {}
    for part in package.names:
        if re.search(r"pivotCache/pivotCacheDefinition\d*\.xml$", part):
            root = package.parse(part)
            for element in root.iter():
                if _name(element) == "worksheetSource" and element.get("sheet") == shift.tab and element.get("ref"):
                    element.set("ref", move_ranges(element.get("ref"), shift))
                    changed[part] = _to_bytes(root)
        elif re.search(r"pivotTables/pivotTable\d*\.xml$", part) and _is_on(package, part, shift.tab):
            raise RowFault("a pivot table stands on this tab, which cannot follow a moved row")
    return changed


def _is_on(package: Package, part: str, tab: str) -> bool:
    return part in {target for target, _ in package.relations(package.sheets()[tab]).values()}


def _shift_chain(package: Package, part: str, shift: Shift, tabs: list[str]) -> bytes:
    """The order of calculation follows the tab's cells. Its index is the sheet's identifier, kept where left out."""
    ids = {
        element.get("name"): element.get("sheetId")
        for element in package.parse(package.workbook_part).iter()
        if _name(element) == "sheet"
    }
    root, current = package.parse(part), ""
    for element in list(root):
        current = element.get("i") or current
        element.set("i", current)
        if current == ids.get(shift.tab):
            moved = move_ranges(element.get("r"), shift)
            if moved:
                element.set("r", moved)
            else:
                root.remove(element)
    return _to_bytes(root)
