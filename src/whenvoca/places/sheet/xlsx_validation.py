"""Data validation put into a workbook's tab: cells of a column that take dates only (ECMA-376 18.3.1.33)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from whenvoca.places.sheet.grid import letter_of
from whenvoca.places.sheet.xlsx_package import Package

# What may stand before dataValidations in a worksheet, the last first: the schema fixes the order.
_BEFORE = (
    "conditionalFormatting phoneticPr mergeCells customSheetViews dataConsolidate sortState "
    "autoFilter scenarios protectedRanges sheetProtection sheetCalcPr sheetData"
).split()


def add_date_validation(data: bytes, tab: str, columns: Sequence[int], first_row: int, last_row: int) -> bytes:
    """The workbook where these columns take dates only, between two rows (from 0), as a warning. Others' rules stay."""
    package = Package(data)
    part = next(part for name, part in package.sheets().items() if name.casefold() == tab.casefold())
    xml = package.read(part)
    root = re.search(rb"<(?:(\w+):)?worksheet\b", xml)
    prefix = (root[1] + b":") if root and root[1] else b""
    rules = b"".join(_rule(prefix, column, first_row, last_row) for column in columns)
    if found := re.search(rb"<" + prefix + rb'dataValidations\b([^>]*?)count="(\d+)"([^>]*)>', xml):
        head = (
            b"<"
            + prefix
            + b"dataValidations"
            + found[1]
            + b'count="%d"' % (int(found[2]) + len(columns))
            + found[3]
            + b">"
        )
        return package.rewrite({part: xml[: found.start()] + head + rules + xml[found.end() :]})
    block = b"<" + prefix + b'dataValidations count="%d">' % len(columns) + rules + b"</" + prefix + b"dataValidations>"
    where = max(_end_of(xml, prefix + name.encode()) for name in _BEFORE)
    return package.rewrite({part: xml[:where] + block + xml[where:]})


def _rule(prefix: bytes, column: int, first: int, last: int) -> bytes:
    letter = letter_of(column).encode()
    return (
        b"<" + prefix + b'dataValidation type="date" operator="greaterThan" errorStyle="warning" allowBlank="1" '
        b'showErrorMessage="1" errorTitle="A date is wanted here" error="Please enter a date, such as 2027-03-17." '
        b'sqref="%s%d:%s%d"><'
        % (letter, first + 1, letter, last + 1)
        + prefix
        + b"formula1>1</"
        + prefix
        + b"formula1></"
        + prefix
        + b"dataValidation>"
    )


def _end_of(xml: bytes, name: bytes) -> int:
    """Where the last element of that name ends, 0 if there is none."""
    end = 0
    for found in re.finditer(rb"</" + name + rb">|<" + name + rb"\b[^>]*/>", xml):
        end = found.end()
    return end
