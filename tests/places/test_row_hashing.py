"""Rows known by their prints: what is equal is not read, and nothing that changed is ever taken for equal."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.places.test_sheets import HEAD, as_csv, place_on
from tests.places.workbooks import plain_workbook
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import StateChange
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.place_protocols import SeenRow
from whenvoca.engine.row_hashes import UNKNOWABLE, WIDTH, HashBlock, RowHashes
from whenvoca.engine.seeing.observing import observe_sheet
from whenvoca.places.sheet import seen_rows
from whenvoca.places.sheet.row_hashing import Printer
from whenvoca.places.sheet.table import Table

NOW = datetime(2027, 3, 17, 10, tzinfo=UTC)
CELLS = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-3, 3),
    st.integers(-(2**63), 2**63 - 1),
    st.floats(allow_nan=False),
    st.decimals(allow_nan=False, allow_infinity=False, places=2),
    st.text(max_size=4),
    st.dates(),
    st.times(),
    st.datetimes(),
    st.timedeltas(timedelta(0), timedelta(days=3)),
    st.sampled_from(["2027-03-17", "21:30:00", "1.50", "1", "PT1H", "True", ""]),
)


def exactly(row: list[Any]) -> list[tuple[type, Any]]:
    return [(type(cell), str(cell)) for cell in row]


@given(st.lists(CELLS, max_size=4), st.lists(CELLS, max_size=4))
def test_prints_are_equal_for_equal_cells_of_equal_types_only(one: list[Any], other: list[Any]) -> None:
    printer = Printer(["A", "B"], "")
    is_same = exactly(one) == exactly(other)
    assert (printer.print_row(one) == printer.print_row(other)) is is_same
    assert (printer.print_block([one, one]) == printer.print_block([one, other])) is is_same
    again = Printer(["A", "B"], "")
    assert again.print_row(list(one)) == printer.print_row(one)
    assert again.print_block([other, list(one)]) == printer.print_block([other, one])


@given(st.lists(st.lists(CELLS, min_size=2, max_size=2), min_size=1, max_size=5))
def test_knowing_the_types_of_columns_changes_no_print(rows: list[list[Any]]) -> None:
    kinds = [set(map(type, column)) for column in zip(*rows, strict=True)]
    told = Printer(["A", "B"], "", [next(iter(each)) if len(each) == 1 else None for each in kinds])
    assert told.print_block(rows) == Printer(["A", "B"], "").print_block(rows)


@given(st.lists(st.lists(CELLS, max_size=3), max_size=5), st.lists(st.lists(CELLS, max_size=3), max_size=5))
def test_blocks_are_equal_for_equal_rows_only(one: list[list[Any]], other: list[list[Any]]) -> None:
    printer = Printer(["A"], "")
    is_same = list(map(exactly, one)) == list(map(exactly, other))
    assert (printer.print_block(one) == printer.print_block(other)) is is_same


ALIKE: list[tuple[Any, Any]] = [
    (date(2027, 3, 17), "2027-03-17"),
    (time(21, 30), "21:30:00"),
    (datetime(2027, 3, 17, 9), "2027-03-17T09:00:00"),
    (timedelta(hours=1), "PT3600S"),
    (Decimal("1.5"), "1.5"),
    (1, True),
    (1, 1.0),
    (0, False),
    (None, ""),
    (1, "1"),
]


@pytest.mark.parametrize(("typed", "other"), ALIKE)
def test_a_cell_that_only_looks_the_same_has_another_print(typed: Any, other: Any) -> None:
    printer = Printer(["A"], "")
    assert UNKNOWABLE != printer.print_row([typed]) != printer.print_row([other]) != UNKNOWABLE
    assert printer.print_block([["x"], [typed]]) != printer.print_block([["x"], [other]])


def test_headings_and_settings_are_part_of_a_print() -> None:
    printers = [Printer(names, said) for names, said in ((["A"], ""), (["B"], ""), (["A"], "tab|1|A"))]
    assert len({each.print_row(["x"]) for each in printers} | {each.print_block([["x"]]) for each in printers}) == 6


def test_a_row_that_cannot_be_encoded_has_no_print() -> None:
    printer = Printer(["A"], "")
    assert [printer.print_row([cell]) for cell in ("\ud800", 2**70)] == [UNKNOWABLE] * 2
    assert printer.print_block([["x"], [2**70]]) == b""


def of(**rows: str) -> RowHashes:
    """Prints of rows, each made of one letter."""
    return RowHashes([HashBlock(b"whole", list(rows), b"".join(letter.encode() * WIDTH for letter in rows.values()))])


def test_a_block_that_lost_a_row_is_known_by_its_rows_only() -> None:
    left = of(one="a", two="b", three="c").without({"two", "never"})
    assert left.by_block() == {}
    assert left.by_row() == {b"a" * WIDTH: "one", b"c" * WIDTH: "three"}
    assert left.keys() == ["one", "three"]
    assert RowHashes([HashBlock(b"w", ["x"], UNKNOWABLE)]).by_row() == {}


# --- in the ledger


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    with closing(SqliteLedger(tmp_path / "ledger.sqlite")) as ledger:
        yield ledger


def test_prints_hold_until_something_is_observed_of_their_subject(ledger: Ledger) -> None:
    at = NOW.isoformat()
    ledger.observe("p", [StateChange(key, {"A": key}) for key in "abc"], "1", at, prints=of(a="1", b="2", c="3"))
    assert ledger.prints("p") == of(a="1", b="2", c="3")
    ledger.observe("q", [StateChange("a", {"A": "x"})], "1", at)
    ledger.observe("p", [StateChange("a", {"A": "ours"}), StateChange("b", None)], "2", at)
    assert ledger.prints("p").by_row() == {b"3" * WIDTH: "c"}
    ledger.observe("p", [StateChange("b", {"A": "b"})], "3", at)
    assert ledger.prints("p").keys() == ["c"]
    ledger.observe("p", [], "4", at, prints=of(a="9"))
    assert ledger.prints("p") == of(a="9")
    ledger.forget("p")
    assert ledger.prints("p") == ledger.prints("never") == RowHashes()


def test_prints_that_cannot_be_read_are_as_good_as_none(ledger: Ledger, tmp_path: Path) -> None:
    ledger.observe("p", [StateChange("a", {"A": "a"})], "1", NOW.isoformat(), prints=of(a="1"))
    with closing(sqlite3.connect(tmp_path / "ledger.sqlite", isolation_level=None)) as db:
        db.execute("UPDATE prints SET packed=x'81a16101'")
    assert ledger.prints("p") == RowHashes()


# --- at a sheet

ROWS = [[None, f"R-{n}", f"M {n}", "17.03.2027", "21:30", str(n)] for n in range(1, 6)]


def look(ledger: Ledger, path: Path, rows: list[list[Any]], head: list[Any] = HEAD, **settings: Any) -> list[SeenRow]:
    """Observes a sheet with these rows, as another process would; answers what its scan found."""
    path.write_bytes(as_csv([head, *rows]))
    sheet, found = place_on(path, **settings), []
    real = sheet.scan

    def scan(*args: Any) -> list[SeenRow]:
        found.extend(real(*args))
        return found

    sheet.scan = scan  # type: ignore[method-assign]
    observe_sheet(ledger, sheet, NOW)
    return found


def changed(ledger: Ledger, after: int) -> list[tuple[str, Any, Any]]:
    return [(each.subject, each.old, each.new) for each in ledger.observations("requests", after)]


def with_title(title: str) -> list[list[Any]]:
    return [[*row[:2], title, *row[3:]] if row[1] == "R-2" else row for row in ROWS]


def test_only_rows_that_changed_are_read(ledger: Ledger, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    read: list[Any] = []
    real = Table.state_of
    monkeypatch.setattr(Table, "state_of", lambda table, cells: (read.append(cells[1]), real(table, cells))[1])
    path = tmp_path / "s.csv"
    look(ledger, path, ROWS)
    assert read == ["R-1", "R-2", "R-3", "R-4", "R-5"]
    read.clear()
    rows = look(ledger, path, [*reversed(with_title("new")), [None, "R-6", "M", "17.03.2027", "1", "1"]])
    assert read == ["R-2", "R-6"]
    assert [row.key for row in rows] == ["R-2", "R-6"]
    assert [(key, old and old["Title"], new["Title"]) for key, old, new in changed(ledger, 5)] == [
        ("R-2", "M 2", "new"),
        ("R-6", None, "M"),
    ]


def test_a_row_put_back_to_what_it_was_before_our_own_write_has_changed(ledger: Ledger, tmp_path: Path) -> None:
    path = tmp_path / "s.csv"
    look(ledger, path, ROWS)
    ours = {"No": "R-2", "Title": "ours"}
    ledger.observe("requests", [StateChange("R-2", ours)], ledger.cursor("requests"), NOW.isoformat())
    look(ledger, path, [*ROWS, [None, "R-6", None, None, None, None]])
    assert ("R-2", ours) in [(key, old) for key, old, _ in changed(ledger, 6)]


def test_a_row_that_went_and_came_again_is_gained(ledger: Ledger, tmp_path: Path) -> None:
    path = tmp_path / "s.csv"
    for rows in (ROWS, ROWS[1:], ROWS):
        look(ledger, path, rows)
    assert [(key, old is None, new is None) for key, old, new in changed(ledger, 5)] == [
        ("R-1", False, True),
        ("R-1", True, False),
    ]


def test_a_new_row_with_the_key_of_one_that_stands_makes_both_doubtful(ledger: Ledger, tmp_path: Path) -> None:
    path = tmp_path / "s.csv"
    look(ledger, path, ROWS)
    rows = look(ledger, path, [*ROWS, [None, "R-3", "other", None, None, None]])
    assert [(row.number, "stands in row" in row.fault) for row in rows if row.key == "R-3"] == [(3, True), (6, True)]
    assert changed(ledger, 5) == []
    rows = look(ledger, path, ROWS)
    assert not any(row.fault for row in rows)
    assert changed(ledger, 5) == []


def test_another_heading_or_key_makes_every_row_be_read(ledger: Ledger, tmp_path: Path) -> None:
    path = tmp_path / "s.csv"
    look(ledger, path, ROWS)
    assert len(look(ledger, path, ROWS, ["Answer", "No", "Name", *HEAD[3:]])) == 5
    assert [new["Name"] for _, _, new in changed(ledger, 5)] == ["M 1", "M 2", "M 3", "M 4", "M 5"]
    # by another key they are looked through twice: once to find who is who
    assert len(look(ledger, path, ROWS, ["Answer", "No", "Name", *HEAD[3:]], key=("Name",))) == 10
    assert changed(ledger, 10) == []


@pytest.fixture
def _small_blocks(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(seen_rows, "_BLOCK", 2)


@pytest.mark.usefixtures("_small_blocks")
@pytest.mark.parametrize(
    ("after", "read"),
    [
        (with_title("new"), ["R-2"]),
        ([*ROWS[:2], *ROWS[3:]], []),
        ([*ROWS[2:], *ROWS[:2]], []),
        ([[None, "R-0", "M", "17.03.2027", "1", "1"], *ROWS], ["R-0"]),
        ([*ROWS[:4], [None, "R-5", "M 5", "17.03.2027", "21:30", "6"]], ["R-5"]),
        (ROWS[:1], []),
    ],
    ids=[
        "one changed",
        "one taken out",
        "turned about",
        "one put in before",
        "the last one changed",
        "nearly all gone",
    ],
)
def test_blocks_of_rows_tell_the_same_as_rows_one_by_one(
    ledger: Ledger, tmp_path: Path, after: list[list[Any]], read: list[str]
) -> None:
    path = tmp_path / "s.csv"
    look(ledger, path, ROWS)
    rows = look(ledger, path, after)
    assert [row.key for row in rows] == read
    gone = {key for key, _, new in changed(ledger, 5) if new is None}
    assert gone == {f"R-{n}" for n in range(1, 6)} - {row[1] for row in after}
    assert ledger.prints("requests").keys() == [row[1] for row in after]
    assert "R-1" not in [row.key for row in look(ledger, path, ROWS[:3])]


def test_two_columns_of_one_name_are_not_taken_for_each_other(ledger: Ledger, tmp_path: Path) -> None:
    path = tmp_path / "s.xlsx"
    head = ["Answer", "No", "Day", "Day"]

    def seen(first: Any) -> list[str]:
        path.write_bytes(plain_workbook([head, [None, "R-1", first, "x"], [None, "R-2", "other", "y"]], tab="T"))
        sheet, found = place_on(path), []
        real = sheet.scan
        sheet.scan = lambda *args: (rows := list(real(*args)), found.extend(rows))[0]  # type: ignore[method-assign]
        observe_sheet(ledger, sheet, NOW)
        return [row.key for row in found]

    assert seen("2027-03-17") == ["R-1", "R-2"]
    assert seen(date(2027, 3, 17)) == ["R-1"]
