"""References in formulas when rows come and go, and where headings and keys of rows are found."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.errors import RowFault, SourceFault
from whenvoca.places.sheet.grid import Grid, cell_name, choose_tab, column_of, letter_of, tidy_rows
from whenvoca.places.sheet.headings import find_header, find_twice, read_headings
from whenvoca.places.sheet.references import Shift, move_formula, move_ranges, translate
from whenvoca.places.sheet.rowkeys import find_booking_column, key_of_columns, work_out_keys

IN, OUT = Shift("Slots", 4, 2), Shift("Slots", 4, -1)  # two rows before the fifth; the fifth away

MOVED = [
    ("A1+B5", "A1+B7", "A1+#REF!"),
    ("$B$5:$B$9", "$B$7:$B$11", "$B$5:$B$8"),
    ("SUM(A1:A9)", "SUM(A1:A11)", "SUM(A1:A8)"),
    ("SUM(A5:A5)", "SUM(A7:A7)", "SUM(#REF!)"),
    ("3:9", "3:11", "3:8"),
    ("5:5", "7:7", "#REF!"),
    ("Other!B7", "Other!B7", "Other!B7"),
    ("Slots!B7", "Slots!B9", "Slots!B6"),
    ("'Slots'!B7", "'Slots'!B9", "'Slots'!B6"),
    ('"B7"&B7', '"B7"&B9', '"B7"&B6'),
    ("LOG10(B7)", "LOG10(B9)", "LOG10(B6)"),
    ("B7x", "B7x", "B7x"),
    ("MyName7", "MyName7", "MyName7"),
    ('IF(B7="say ""B8""",1,0)', 'IF(B9="say ""B8""",1,0)', 'IF(B6="say ""B8""",1,0)'),
    ("ab7", "ab9", "ab6"),
    ("$5:$6", "$7:$8", "$5:$5"),
]


@pytest.mark.parametrize(("formula", "put_in", "taken_out"), MOVED, ids=[formula for formula, *_ in MOVED])
def test_formulas_follow_the_rows(formula: str, put_in: str, taken_out: str) -> None:
    assert move_formula(formula, "Slots", IN) == put_in
    assert move_formula(formula, "Slots", OUT) == taken_out


@pytest.mark.parametrize(
    ("formula", "fault"), [('INDIRECT("B7")', "INDIRECT"), ("SUM(Jan:Mar!B7)", "reaches over several tabs")]
)
def test_formulas_that_cannot_follow_are_refused(formula: str, fault: str) -> None:
    with pytest.raises(RowFault, match=fault):
        move_formula(formula, "Slots", IN)


CELLS = st.builds(lambda column, row: f"{letter_of(column)}{row}", st.integers(0, 700), st.integers(1, 60))
FORMULAS = st.lists(CELLS | st.builds(lambda a, b: f"{a}:{b}", CELLS, CELLS), min_size=1, max_size=4).map("+".join)


@given(FORMULAS, st.integers(0, 60), st.integers(1, 5))
def test_rows_put_in_and_taken_out_again_leave_a_formula_as_it_was(formula: str, at: int, count: int) -> None:
    moved = move_formula(formula, "Slots", Shift("Slots", at, count))
    for _ in range(count):
        moved = move_formula(moved, "Slots", Shift("Slots", at, -1))
    assert moved == formula


@given(st.integers(0, 40), st.integers(0, 40), st.integers(0, 40), st.integers(1, 4))
def test_a_stretch_holds_just_the_rows_that_it_held(first: int, length: int, at: int, count: int) -> None:
    held = set(range(first, first + length + 1))
    out = Shift("t", at, -1)
    span = out.moved_span(first, first + length)
    left = {out.moved(row) for row in held} - {None}
    assert (set(range(span[0], span[1] + 1)) if span else set()) == left
    grown = Shift("t", at, count).moved_span(first, first + length)
    assert grown is not None
    assert {Shift("t", at, count).moved(row) for row in held} <= set(range(grown[0], grown[1] + 1))


RANGES = [("A1:B9 C5", "A1:B11 C7", "A1:B8"), ("A:A", "A:A", "A:A"), ("B2", "B2", "B2"), ("A5:A5", "A7:A7", "")]


@pytest.mark.parametrize(("text", "put_in", "taken_out"), RANGES)
def test_ranges_of_a_validation_follow(text: str, put_in: str, taken_out: str) -> None:
    assert (move_ranges(text, IN), move_ranges(text, OUT)) == (put_in, taken_out)


@pytest.mark.parametrize(
    ("formula", "there"),
    [("A1+$B$2", "C4+$B$2"), ("$A1:A$3", "$A4:C$3"), ("2:3", "5:6"), ('"A1"', '"A1"'), ("Other!A1", "Other!C4")],
)
def test_a_shared_formula_reads_on_in_other_cells(formula: str, there: str) -> None:
    assert translate(formula, 3, 2) == there


@given(st.integers(0, 16_383))
def test_letters_of_columns_there_and_back(column: int) -> None:
    assert column_of(letter_of(column)) == column
    assert cell_name(6, column) == f"{letter_of(column)}7"


def test_tabs_are_chosen_by_name_or_where_there_is_one() -> None:
    assert choose_tab("slots", ["Other", "Slots"]) == "Slots"
    assert choose_tab(None, ["Slots"]) == "Slots"
    for tab, tabs, fault in [
        ("x", ["A", "B"], 'no tab "x"'),
        (None, ["A", "B"], "there are 2 tabs"),
        (None, [], "there is no tab"),
    ]:
        with pytest.raises(SourceFault, match=fault):
            choose_tab(tab, tabs)


def test_cells_are_tidied_by_their_kind() -> None:
    rows = [["a", "", " ", "\u200b", 2.0, 2.5, True, None, "=x"], ["b", " "]]
    tidy = [["a", None, None, None, 2, pytest.approx(2.5), True, None, "=x"], ["b", *[None] * 8]]
    assert [list(column) for column in tidy_rows(rows)] == [list(column) for column in zip(*tidy, strict=True)]
    assert rows == tidy


# --- headings

TABLES: list[tuple[str, list[list[Any]], int]] = [
    ("on top", [["Name", "Day"], ["Ana", 3], ["Rui", 4]], 0),
    (
        "below a title",
        [["Slots of spring", None, None], [None, None, None], ["Name", "Day", "Hall"], ["Ana", 3, "Dome 2"]],
        2,
    ),
    ("below notes", [["Please fill in", None], ["Name", "Mail"], ["Ana", "ana@example.org"]], 1),
    ("only headings", [["Name", "Day"]], 0),
    ("two lines of texts", [["Name", "Hall"], ["Ana", "North"], ["Rui", "South"]], 0),
    (
        "one column of texts, odd ones last",
        [["What"], *[[f"word {n}"] for n in "abcdef"], ["x" * 99], ["12.03.2027"]],
        0,
    ),
    ("texts, long ones last", [["Title", "Notes"], *[[f"t {n}", f"n {n}"] for n in "abcdef"], ["t", "x" * 99]], 0),
    ("a table below another block", [["Desk", "Dome"], ["Ana", "Rui"], [None, None], ["Name", "Day"], ["Ana", 3]], 3),
]


@pytest.mark.parametrize(
    ("rows", "header"), [(rows, header) for _, rows, header in TABLES], ids=[name for name, *_ in TABLES]
)
def test_headings_are_found(rows: list[list[Any]], header: int) -> None:
    assert find_header(Grid("t", rows)) == header


def test_no_headings_are_said_to_be_none() -> None:
    with pytest.raises(SourceFault, match="no row looks like headings"):
        find_header(Grid("t", [[1, 2], [3, 4]]))
    with pytest.raises(SourceFault, match=r"row 1 holds no headings: A1 is 1"):
        read_headings(Grid("t", [[1, 2], [3, 4]]), 0, "x")
    with pytest.raises(SourceFault, match=r"row 3 holds no headings: it is empty"):
        read_headings(Grid("t", [["Name"], ["Ana"]]), 2, "x")


def test_columns_without_a_heading_are_called_by_their_letter_where_they_hold_something() -> None:
    grid = Grid("t", [["Name", None, " Day  of ", None], ["Ana", "x", 3, None]], vertical_merges={})
    assert [(each.name, each.letter) for each in read_headings(grid, 0, "x")] == [
        ("Name", "A"),
        ("Column B", "B"),
        ("Day of", "C"),
    ]


def test_a_heading_merged_over_two_rows_counts_in_both() -> None:
    grid = Grid("t", [["Name", "When"], [None, "Day"], ["Ana", 3]], vertical_merges={(1, 0): (0, 0)})
    assert [each.name for each in read_headings(grid, 1, "x")] == ["Name", "Day"]


def test_headings_that_are_one_word_are_told() -> None:
    grid = Grid("t", [["Night of", "night-of", "Other"], [1, 2, 3]])
    assert find_twice(read_headings(grid, 0, "x"), 0) == {"Night of": "A1 and B1"}


# --- keys

KEYS = [
    ({"No": "R-1"}, ["No"], "R-1"),
    ({"No": " R  1 "}, ["No"], "R 1"),
    ({"No": 7, "Tab": "x"}, ["No", "Tab"], "7 · x"),
    ({"No": None}, ["No"], ""),
    ({}, ["No"], ""),
    ({"No": "ä 1"}, ["No"], "ä 1"),
    ({"No": True}, ["No"], "yes"),
]


@pytest.mark.parametrize(("state", "columns", "key"), KEYS)
def test_keys_of_declared_columns(state: dict[str, Any], columns: list[str], key: str) -> None:
    assert key_of_columns(state, columns) == key


@pytest.mark.parametrize(
    ("columns", "found"), [(["A", "Booking"], "Booking"), (["event uid"], "event uid"), (["Booking of"], ""), ([], "")]
)
def test_the_column_that_keeps_the_uid(columns: list[str], found: str) -> None:
    assert find_booking_column(columns) == found


ROWS = st.lists(st.fixed_dictionaries({"Name": st.sampled_from("abcd"), "Day": st.integers(1, 3)}), max_size=7)


@given(ROWS, st.randoms(use_true_random=False))
def test_worked_out_keys_stay_with_the_rows_however_they_are_sorted(rows: list[dict[str, Any]], chance: Any) -> None:
    keys = work_out_keys(rows, {}, frozenset(), "")
    assert len(set(keys)) == len(rows)
    known = dict(zip(keys, rows, strict=True))
    shuffled = list(rows)
    chance.shuffle(shuffled)
    again = work_out_keys(shuffled, known, frozenset(), "")
    assert sorted(again) == sorted(keys)
    assert all(known[key] == row for key, row in zip(again, shuffled, strict=True))


@given(ROWS, st.data())
def test_a_row_put_in_or_taken_out_makes_no_other_look_new(rows: list[dict[str, Any]], data: Any) -> None:
    known = dict(zip(work_out_keys(rows, {}, frozenset(), ""), rows, strict=True))
    fresh = {"Name": "new", "Day": 9}
    place = data.draw(st.integers(0, len(rows)))
    keys = work_out_keys([*rows[:place], fresh, *rows[place:]], known, frozenset(), "")
    assert set(known) == set(keys) - {keys[place]}
    if rows:
        gone = data.draw(st.integers(0, len(rows) - 1))
        assert set(work_out_keys([*rows[:gone], *rows[gone + 1 :]], known, frozenset(), "")) < set(known)


def test_what_workflows_write_makes_no_row_another() -> None:
    (key,) = work_out_keys([{"Name": "a"}], {}, frozenset({"Answer"}), "")
    assert work_out_keys([{"Name": "a", "Answer": "granted"}], {key: {"Name": "a"}}, frozenset({"Answer"}), "") == [key]


def test_a_row_is_known_by_the_uid_that_it_keeps() -> None:
    known = {"k": {"Name": "a", "Booking": "u-1"}}
    assert work_out_keys([{"Name": "quite another", "Booking": "u-1"}], known, frozenset({"Booking"}), "Booking") == [
        "k"
    ]
