"""Rows put in and taken out: references in formulas, ranges, and every part of a workbook that speaks of the rows
below."""

from __future__ import annotations

import io
from typing import Any

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.places.workbooks import parts_of, plain_workbook, rich_workbook
from whenvoca.errors import RowFault
from whenvoca.places.sheet.csv_file import CsvFile
from whenvoca.places.sheet.grid import TabWrites
from whenvoca.places.sheet.references import Shift, move_formula, move_ranges, translate
from whenvoca.places.sheet.xlsx_file import XlsxFile
from whenvoca.places.sheet.xlsx_shift import shift_rows
from whenvoca.places.sheet.xlsx_validation import add_date_validation

OUT, IN = Shift("Slots", 4, -1), Shift("Slots", 4, 1)  # row 5 of the sheet

FORMULAS = [
    ("A1", "A1", "A1"),
    ("A5", "#REF!", "A6"),
    ("A6+B$7*$C8", "A5+B$6*$C7", "A7+B$8*$C9"),
    ("SUM(A1:A9)", "SUM(A1:A8)", "SUM(A1:A10)"),
    ("SUM(A5:A9)", "SUM(A5:A8)", "SUM(A6:A10)"),
    ("SUM(A1:A5)", "SUM(A1:A4)", "SUM(A1:A6)"),
    ("SUM(A5:B5)", "SUM(#REF!)", "SUM(A6:B6)"),
    ("SUM(5:7)", "SUM(5:6)", "SUM(6:8)"),
    ("SUM($6:$6)", "SUM($5:$5)", "SUM($7:$7)"),
    ("SUM(A:C)", "SUM(A:C)", "SUM(A:C)"),
    ("Other!A6+A6", "Other!A6+A5", "Other!A6+A7"),
    ("'Slots'!A6&\"A6\"", "'Slots'!A5&\"A6\"", "'Slots'!A7&\"A6\""),
    ('"say ""A6"""&A7', '"say ""A6"""&A6', '"say ""A6"""&A8'),
    ("LOG10(A6)+TABLE1[A6]", "LOG10(A5)+TABLE1[A5]", "LOG10(A7)+TABLE1[A7]"),
    ("rate_A6*A6", "rate_A6*A5", "rate_A6*A7"),
    ("IF(A6>1,B6,C4)", "IF(A5>1,B5,C4)", "IF(A7>1,B7,C4)"),
]


@pytest.mark.parametrize(("formula", "taken_out", "put_in"), FORMULAS, ids=[case[0] for case in FORMULAS])
def test_formula_follows_rows(formula: str, taken_out: str, put_in: str) -> None:
    assert move_formula(formula, "Slots", OUT) == taken_out
    assert move_formula(formula, "Slots", IN) == put_in
    moved = move_formula(formula, "Else", OUT)
    assert moved == (formula if "Slots" not in formula else formula.replace("'Slots'!A6", "'Slots'!A5"))


@pytest.mark.parametrize("formula", ['INDIRECT("A6")', "SUM(Slots:Other!A6)"])
def test_formula_that_cannot_follow_is_refused(formula: str) -> None:
    with pytest.raises(RowFault, match="cannot follow a moved row"):
        move_formula(formula, "Slots", OUT)


@pytest.mark.parametrize(
    ("ranges", "taken_out", "put_in"),
    [("A1:B3", "A1:B3", "A1:B3"), ("A5:B5", "", "A6:B6"), ("A4:B6 C9", "A4:B5 C8", "A4:B7 C10"), ("A:A", "A:A", "A:A")],
)
def test_ranges_follow_rows(ranges: str, taken_out: str, put_in: str) -> None:
    assert move_ranges(ranges, OUT) == taken_out
    assert move_ranges(ranges, IN) == put_in


@given(st.integers(1, 30), st.integers(1, 30), st.integers(0, 29))
def test_taking_a_row_out_and_putting_it_in_leaves_references_to_others_as_they_were(
    one: int, other: int, at: int
) -> None:
    low, high = sorted((one, other))
    formula = f"SUM(A{low}:B${high})+$C{high}"
    if at + 1 in (low, high):
        return  # what names that very row is broken by taking it out
    moved = move_formula(formula, "S", Shift("S", at, -1))
    assert move_formula(moved, "S", Shift("S", at, 1)) == formula


def test_shared_formula_means_the_same_when_it_is_written_out() -> None:
    assert translate("A1*$B$2+C$3+$D4", 2, 1) == "B3*$B$2+D$3+$D6"
    assert translate('SUM(A1:B2)&"A1"', 1, 0) == 'SUM(A2:B3)&"A1"'


def workbook() -> bytes:
    from openpyxl.comments import Comment
    from openpyxl.formatting.rule import CellIsRule
    from openpyxl.worksheet.datavalidation import DataValidation
    from openpyxl.worksheet.table import Table

    book = openpyxl.Workbook()
    sheet: Any = book.active
    sheet.title = "Slots"
    for row in (["No", "Hours"], ["a", 1], ["b", 2], ["c", 3], ["d", 4]):
        sheet.append(row)
    sheet.add_table(Table(displayName="T", ref="A1:B5"))
    sheet["B4"].comment = Comment("note", "me")
    sheet.conditional_formatting.add("B2:B5", CellIsRule(operator="greaterThan", formula=["B4"]))
    rule = DataValidation(type="whole", formula1="1", formula2="9")
    rule.add("B4")
    sheet.add_data_validation(rule)
    target = io.BytesIO()
    book.save(target)
    return target.getvalue()


def test_tables_comments_validations_and_formats_follow() -> None:
    sheet: Any = openpyxl.load_workbook(io.BytesIO(shift_rows(workbook(), Shift("Slots", 2, -1))))["Slots"]
    assert sheet.tables["T"].ref == "A1:B4"
    assert (sheet["B3"].value, sheet["B3"].comment.text) == (3, "note")
    assert [str(each.sqref) for each in sheet.data_validations.dataValidation] == ["B3"]
    (ranges,) = sheet.conditional_formatting
    assert (str(ranges.sqref), ranges.rules[0].formula) == ("B2:B4", ["B3"])


def test_parts_that_do_not_speak_of_the_rows_stay_byte_for_byte() -> None:
    book = rich_workbook()  # once: it tells the second in which it was made
    before = parts_of(book)
    after = parts_of(shift_rows(book, Shift(XlsxFile().tabs(book)[0], 6, -1)))
    assert before.keys() == after.keys()
    changed = {name.rpartition("/")[2] for name in before if after[name] != before[name]}
    assert changed == {"chart1.xml", "comments1.xml", "drawing1.xml", "vmlDrawing1.vml", "workbook.xml", "sheet1.xml"}


def test_csv_records_go_and_come_back_byte_for_byte() -> None:
    text = 'No;What\r\na;"x;\r\ny"\r\nb;2\r\nc;3\r\n'
    taken = CsvFile().shift_rows(text.encode(), "", TabWrites(removed={1, 3}))
    assert taken.decode() == "No;What\r\nb;2\r\n"
    back = CsvFile().shift_rows(taken, "", TabWrites(inserted={1: {0: "a", 1: "x;\r\ny"}, 3: {0: "c", 1: 3}}))
    assert back.decode() == text


def test_date_validation_stands_where_the_schema_wants_it_beside_others() -> None:
    plain = add_date_validation(plain_workbook([["No", "Day"], ["a", None]]), "Slots", [1], 1, 9)
    twice = add_date_validation(plain, "Slots", [0], 1, 9)
    sheet: Any = openpyxl.load_workbook(io.BytesIO(twice))["Slots"]
    assert sorted(str(rule.sqref) for rule in sheet.data_validations.dataValidation) == ["A2:A10", "B2:B10"]
