"""How a sheet is understood, as plain data: for `read sheet`, whose shape is part of the promise to programs."""

from __future__ import annotations

from datetime import date, datetime, time
from typing import Any

from whenvoca.places.sheet.grid import cell_name
from whenvoca.places.sheet.table import Table
from whenvoca.values.columns import Unread
from whenvoca.values.kinds import show_raw


def describe_table(table: Table, file: str) -> dict[str, Any]:
    """File, tab, heading row, and each column with its kind, status, format, open readings and filled cells."""
    notes = list(table.grid.notes)
    notes += [
        f'two columns stand for "{name}": {cells}; a workflow cannot tell them apart'
        for name, cells in table.twice.items()
    ]
    return {
        "file": file,
        "tab": table.grid.tab,
        "header_row": table.header + 1,
        "rows": len(table.rows),
        "columns": [_describe_column(table, index) for index in range(len(table.headings))],
        "notes": notes,
    }


def _describe_column(table: Table, number: int) -> dict[str, Any]:
    heading = table.headings[number]
    reading = table.readings[heading.name]
    cells = []
    for row, raw in table.rows:
        cell = raw[heading.index] if heading.index < len(raw) else None
        if cell is None:
            continue
        value = reading.read(cell)
        is_unread = isinstance(value, Unread)
        cells.append(
            {
                "cell": cell_name(row, heading.index),
                "text": cell if isinstance(cell, str) else show_raw(cell),
                "value": None if is_unread else show_plain(value),
                "fault": value.fault if is_unread else None,
            }
        )
    return {
        "name": heading.name,
        "letter": heading.letter,
        "kind": reading.kind.value,
        "status": reading.status,
        "format": reading.format or None,
        "readings": {form: [show_plain(value) for value in values] for form, values in reading.readings.items()},
        "cells": cells,
    }


def show_plain(value: Any) -> Any:
    """A value for programs: ISO dates, times HH:MM, moments as local RFC 3339."""
    match value:
        case datetime():
            return value.isoformat()
        case date():
            return value.isoformat()
        case time():
            return f"{value:%H:%M:%S}" if value.second else f"{value:%H:%M}"
    return value
