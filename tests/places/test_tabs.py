"""Workbooks with several tabs: which one is meant, and what is said where the one that is looked at is empty."""

from __future__ import annotations

from pathlib import Path

import openpyxl
import pytest

from tests.conftest import SETTINGS, Desk

ROWS = [["Key", "Title"], ["R-1", "Night walk"]]
PLACE = '[places.s]\nkind = "sheet"\nfile = "b.xlsx"\nkey = "Key"\n'


def workbook(path: Path, **tabs: list[list[str]]) -> None:
    book = openpyxl.Workbook()
    book.remove(book.active)
    for name, rows in tabs.items():
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append(row)
    book.save(path)


@pytest.mark.parametrize(
    ("tabs", "setting", "message", "fix"),
    [
        (["Cover", "Rows", "Notes"], "", "there are 3 tabs", 'tab = "Rows" (there is data in Notes too)'),
        (["Rows", "Cover"], "", "there are 2 tabs", 'name the tab that is meant: tab = "Rows"'),
        (["Cover", "Rows"], 'tab = "Cover"', "not even a row of headings", 'tab = "Rows"'),
        (["Cover", "Blank"], 'tab = "Cover"', "not even a row of headings", "bring the sheet back"),
        (["Cover"], "", "not even a row of headings", "bring the sheet back"),
        (["Cover", "Rows"], 'tab = "Nowhere"', 'there is no tab "Nowhere"', "there are: Cover, Rows"),
    ],
)
def test_the_tabs_that_hold_data_are_named(desk: Desk, tabs: list[str], setting: str, message: str, fix: str) -> None:
    desk.settings(SETTINGS, PLACE + setting)
    workbook(desk.folder / "b.xlsx", **{tab: ROWS if tab in ("Rows", "Notes") else [] for tab in tabs})
    result = desk.run("read", "sheet", "s")
    assert result.code == 2
    assert message in result.err
    assert fix in " ".join(result.err.split())


@pytest.mark.parametrize("empty", [["Cover"], ["Cover", "Blank"], []])
def test_without_a_name_the_first_with_data_is_read(desk: Desk, empty: list[str]) -> None:
    desk.settings(SETTINGS, "")
    path = desk.folder / "b.xlsx"
    workbook(path, **{tab: [] for tab in empty}, Rows=ROWS, Notes=ROWS)
    found = desk.run("read", "sheet", str(path), "--json").json
    assert (found["tab"], found["rows"]) == ("Rows", 1)
    assert f"which --tab shows: {', '.join([*empty, 'Notes'])}" in found["notes"][-1]
    assert "headings in row 1, 1 row\n" in desk.run("read", "sheet", str(path)).out
