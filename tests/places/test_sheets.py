"""Sheets: one contract for every backing, and what is special to each."""

from __future__ import annotations

import io
import os
import re
import zipfile
from collections.abc import Callable
from datetime import UTC, date, datetime, time
from decimal import Decimal
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.places.workbooks import ods_workbook, open_elsewhere, parts_of, plain_workbook, read_cells, rich_workbook
from whenvoca.engine.clock import RealClock
from whenvoca.engine.effects import Effect
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.places.sheet.backings import make_backing
from whenvoca.places.sheet.csv_file import CsvFile, tell_delimiter
from whenvoca.places.sheet.grid import Backing, TabWrites
from whenvoca.places.sheet.headings import find_header
from whenvoca.places.sheet.open_file import OpenFile
from whenvoca.places.sheet.place import SheetPlace
from whenvoca.places.sheet.rowkeys import work_out_keys
from whenvoca.places.sheet.table import SheetSettings
from whenvoca.places.sheet.xlsx_file import XlsxFile
from whenvoca.values.durations import Duration

AZORES = ZoneInfo("Atlantic/Azores")
HEAD = ["Answer", "No", "Title", "Day", "From", "Pupils"]
ROWS = [
    [None, "R-1", "M 42", "17.03.2027", "21:30", "12"],
    [None, None, None, None, None, None],
    ["x", "R-2", 'a,b;\nc "d"', "18.03.2027", "9 pm", "13"],
]


def as_csv(rows: list[list[Any]]) -> bytes:
    import csv

    out = io.StringIO(newline="")
    csv.writer(out).writerows(rows)
    return out.getvalue().encode()


Build = Callable[[list[list[Any]]], bytes]
BACKINGS: list[tuple[str, Build]] = [("sheet.xlsx", plain_workbook), ("sheet.csv", as_csv)]


def place_on(path: Path, **settings: Any) -> SheetPlace:
    os.utime(path, (1, 1))
    read = SheetSettings(file=path.name, **{"key": ("No",), "patience": 0.0, **settings})
    return SheetPlace("requests", read, AZORES, OpenFile(path, make_backing(path, dates=read.dates), RealClock()))


@pytest.fixture(params=BACKINGS, ids=[name for name, _ in BACKINGS])
def sheet(request: pytest.FixtureRequest, tmp_path: Path) -> SheetPlace:
    name, build = request.param
    path = tmp_path / name
    path.write_bytes(build([["Requests of March"], [], HEAD, *ROWS]))
    return place_on(path)


def change(place: SheetPlace, key: str, number: int = 1, **after: Any) -> Effect:
    state = place.current(key)
    assert state is not None
    effect = Effect(
        place=place.name, verb="change row", target=key, before={name: state.get(name) for name in after}, after=after
    )
    place.pend(number, effect)
    return effect


def saved(place: SheetPlace) -> Any:
    return place.open_file.save(lambda intent, numbers: None)[place.name]


# --- the contract


def test_headings_are_found_and_rows_have_keys_and_typed_fields(sheet: SheetPlace) -> None:
    rows = list(sheet.scan({}))
    assert [(row.key, row.number) for row in rows] == [("R-1", 3), ("R-2", 5)]
    row = sheet.row("R-2", rows[1].state)
    assert row.value_of("day") == date(2027, 3, 18)
    assert row.value_of("from") == time(21)
    assert row.value_of("pupils") == 13
    assert row.value_of("title") == 'a,b;\nc "d"'
    assert row.where_is("day").endswith("D6")


def test_cells_are_written_and_others_stay(sheet: SheetPlace) -> None:
    list(sheet.scan({}))
    change(sheet, "R-1", Answer="granted", Pupils=14)
    assert sheet.current("R-1") == {
        "Answer": "granted",
        "No": "R-1",
        "Title": "M 42",
        "Day": "17.03.2027",
        "From": "21:30",
        "Pupils": sheet.to_raw("Pupils", 14),
    }
    result = saved(sheet)
    fresh = place_on(sheet.open_file.path)
    rows = {row.key: row.state for row in fresh.scan({})}
    assert rows["R-1"] == result.states["R-1"]
    assert rows["R-2"]["Title"] == 'a,b;\nc "d"'
    assert result.digest == fresh.digest()


def test_what_is_said_to_stand_after_a_save_is_what_is_read(sheet: SheetPlace) -> None:
    list(sheet.scan({}))
    values = [
        date(2027, 4, 1),
        datetime(2027, 4, 1, 21, 30, tzinfo=AZORES),
        time(9, 5),
        12,
        Decimal("2.5"),
        True,
        "=1+1",
        " a \n b",
        Duration(seconds=5400),
        ["a", "b"],
        None,
    ]
    for number, value in enumerate(values):
        change(sheet, "R-1", number, Answer=value)
        result = saved(sheet)
        fresh = place_on(sheet.open_file.path)
        assert {row.key: row.state for row in fresh.scan({})}["R-1"] == result.states["R-1"], value
        list(sheet.scan({}))


def test_added_rows_stand_below_and_are_counted(sheet: SheetPlace) -> None:
    list(sheet.scan({}))
    cells = {"No": "R-3", "Title": "-new"}
    assert sheet.count_equal(cells) == 0
    sheet.pend(1, Effect(place="requests", verb="add row", target="", after=cells))
    assert sheet.count_equal(cells) == 1
    assert saved(sheet).added == {1: 6}
    assert [row.key for row in place_on(sheet.open_file.path).scan({})] == ["R-1", "R-2", "R-3"]


def test_rows_are_found_again_after_somebody_sorted_and_inserted(
    sheet: SheetPlace, request: pytest.FixtureRequest
) -> None:
    list(sheet.scan({}))
    change(sheet, "R-1", Answer="granted")
    build = dict(BACKINGS)[sheet.file]
    sheet.open_file.path.write_bytes(build([HEAD, ROWS[2], [None, "R-0", "new", "19.03.2027", "20:00", "3"], ROWS[0]]))
    os.utime(sheet.open_file.path, (2, 2))
    assert not saved(sheet).errors
    rows = {row.key: row.state.get("Answer") for row in place_on(sheet.open_file.path).scan({})}
    assert rows == {"R-2": "x", "R-0": None, "R-1": "granted"}


def test_cell_that_another_hand_changed_meanwhile_is_left_alone(sheet: SheetPlace) -> None:
    list(sheet.scan({}))
    change(sheet, "R-1", 7, Answer="granted")
    build = dict(BACKINGS)[sheet.file]
    sheet.open_file.path.write_bytes(build([HEAD, ["mine", *ROWS[0][1:]], ROWS[2]]))
    os.utime(sheet.open_file.path, (2, 2))
    assert "changed by another hand" in str(saved(sheet).errors[7])
    assert next(iter(place_on(sheet.open_file.path).scan({}))).state["Answer"] == "mine"


def test_row_that_is_gone_is_named(sheet: SheetPlace) -> None:
    list(sheet.scan({}))
    change(sheet, "R-1", 7, Answer="granted")
    sheet.open_file.path.write_bytes(dict(BACKINGS)[sheet.file]([HEAD, ROWS[2]]))
    os.utime(sheet.open_file.path, (2, 2))
    assert "R-1 is no longer in the sheet" in str(saved(sheet).errors[7])


@pytest.mark.parametrize("lock", [".~lock.{}#", "~${}"])
def test_file_that_is_open_elsewhere_is_not_overwritten(sheet: SheetPlace, lock: str) -> None:
    list(sheet.scan({}))
    change(sheet, "R-1", Answer="granted")
    before = sheet.open_file.path.read_bytes()
    beside = sheet.open_file.path.with_name(lock.format(sheet.file))
    beside.write_text("somebody")
    with pytest.raises(PlaceTrouble, match="is open elsewhere"):
        saved(sheet)
    assert sheet.open_file.path.read_bytes() == before
    beside.unlink()
    assert not saved(sheet).errors  # still pending, now written


def test_keys_that_stand_twice_are_faults_of_all_their_rows(sheet: SheetPlace) -> None:
    sheet.open_file.path.write_bytes(
        dict(BACKINGS)[sheet.file]([HEAD, ROWS[0], ROWS[0], [None, None, "no key", None, None, None]])
    )
    rows = list(place_on(sheet.open_file.path).scan({}))
    assert "stands in row 3 too" in rows[0].fault
    assert "stands in row 2 too" in rows[1].fault
    assert "waits, its No is empty" in rows[2].waits


CELLS = st.one_of(
    st.none(),
    st.integers(-(10**6), 10**6),
    st.decimals(-1000, 1000, places=2),
    st.dates(date(1950, 1, 1), date(2100, 1, 1)),
    st.booleans(),
    st.times().map(lambda t: t.replace(microsecond=0)),
    st.text(st.characters(blacklist_categories=("Cs",), blacklist_characters="\r"), max_size=30),
    st.datetimes(datetime(1950, 1, 1), datetime(2100, 1, 1)).map(
        lambda d: d.replace(second=0, microsecond=0, tzinfo=UTC)
    ),
)


@given(st.lists(CELLS, min_size=1, max_size=5))
@pytest.mark.parametrize(
    "backing", [XlsxFile(), CsvFile(), CsvFile(delimiter=";", decimal=",")], ids=["xlsx", "csv", "csv;"]
)
def test_any_value_written_is_read_as_it_was_said_to_be(backing: Backing, values: list[Any]) -> None:
    data = backing.patch(None, {backing.new_tab: TabWrites(headings=["A", "B", "C", "D", "E"])})
    cells = {(row, 2): value for row, value in enumerate(values, 1)}
    grid = backing.load(backing.patch(data, {backing.new_tab: TabWrites(dict(cells))}), None)
    for (row, column), value in cells.items():
        found = grid.rows[row][column] if row < len(grid.rows) and column < len(grid.rows[row]) else None
        assert found == backing.to_raw(value)
        assert type(found) is type(backing.to_raw(value))


# --- workbooks


def test_write_back_leaves_every_other_part_byte_for_byte() -> None:
    data = rich_workbook()
    patched = XlsxFile().patch(
        data, {"Slots": TabWrites({(4, 0): "granted", (4, 1): "uid", (6, 0): "=no formula", (20, 3): "far"})}
    )
    before, after = parts_of(data), parts_of(patched)
    assert list(before) == list(after)
    changed = {name for name in before if before[name] != after[name]}
    assert changed == {"xl/worksheets/sheet1.xml", "xl/workbook.xml"}
    assert b'fullCalcOnLoad="1"' in after["xl/workbook.xml"]
    strip = re.compile(
        rb'<c r="(?:A5|B5|A7|D21)"[^>]*?(?:/>|>.*?</c>)|<row r="(?:5|7|21)"[^>]*>|</row>|<dimension[^>]*>'
    )
    assert strip.sub(b"", before["xl/worksheets/sheet1.xml"]) == strip.sub(b"", after["xl/worksheets/sheet1.xml"])
    cells = read_cells(patched)
    assert (cells[4][0], cells[4][1], cells[6][0], cells[20][3]) == ("granted", "uid", "=no formula", "far")
    assert cells[4][8] == "=LEN(D5)"


def test_text_that_looks_like_a_formula_stays_text() -> None:
    patched = XlsxFile().patch(
        plain_workbook([HEAD]), {"Slots": TabWrites({(1, 0): "=1+1", (1, 1): "+1", (1, 2): "@x", (1, 3): "-1"})}
    )
    book = open_elsewhere(patched)
    assert [cell.value for cell in book["Slots"][2][:4]] == ["=1+1", "+1", "@x", "-1"]
    assert b"<f" not in parts_of(patched)["xl/worksheets/sheet1.xml"]


def test_dates_get_a_date_format_and_keep_the_rest_of_their_look() -> None:
    data = rich_workbook()
    patched = XlsxFile().patch(
        data, {"Slots": TabWrites({(4, 0): date(2027, 4, 1), (4, 4): date(2027, 4, 2), (5, 0): time(9, 5)})}
    )
    book = open_elsewhere(patched)
    first, second, third = (book["Slots"][name] for name in ("A5", "E5", "A6"))
    assert first.is_date
    assert first.font.b
    assert first.value == datetime(2027, 4, 1)
    assert second.number_format == "d mmm yyyy"
    assert third.value == time(9, 5)


def test_dates_of_the_1904_system_go_there_and_back() -> None:
    data = plain_workbook([["Answer", "No", "Day"], [None, "R-1", date(2027, 3, 17)]], epoch_1904=True)
    patched = XlsxFile().patch(data, {"Slots": TabWrites({(1, 0): date(2027, 4, 1)})})
    assert XlsxFile().load(patched, None).rows[1] == [date(2027, 4, 1), "R-1", date(2027, 3, 17)]


def test_cell_with_a_formula_is_never_written_over(tmp_path: Path) -> None:
    path = tmp_path / "r.xlsx"
    path.write_bytes(plain_workbook([["Answer", "No"], ["=1+1", "R-1"]]))
    place = place_on(path)
    list(place.scan({}))
    with pytest.raises(RowFault, match="holds a formula") as caught:
        place.pend(1, Effect(place="requests", verb="change row", target="R-1", after={"Answer": "x"}))
    assert caught.value.where == "r.xlsx, Slots!A2"
    assert "reckoned anew" in place.info().warnings[0]


def test_tab_and_file_are_made_when_they_are_not_there(tmp_path: Path) -> None:
    path = tmp_path / "r.xlsx"
    book = rich_workbook()
    path.write_bytes(book)
    place = place_on(path, tab="Log & more", create=True, key=())
    place.wanted_headings = ["What", "Seen"]
    assert place.is_missing()
    place.pend(1, Effect(place="requests", verb="add row", target="", after={"What": "x", "Seen": date(2027, 4, 1)}))
    saved(place)
    assert read_cells(path.read_bytes(), "Log & more") == [["What", "Seen"], ["x", datetime(2027, 4, 1)]]
    before, after = parts_of(book), parts_of(path.read_bytes())
    kept = {
        name
        for name in before
        if name.startswith(("xl/charts", "xl/media", "xl/worksheets/sheet", "xl/pivot", "xl/vba", "customXml"))
    }
    assert all(before[name] == after[name] for name in kept)


def test_table_grows_over_a_row_put_below_it() -> None:
    patched = XlsxFile().patch(rich_workbook(), {"Counts": TabWrites({(3, 0): "c", (3, 1): 3}, {3: 2})})
    assert b'ref="A1:B4"' in parts_of(patched)["xl/tables/table1.xml"]


def test_two_places_on_one_file_are_saved_together(tmp_path: Path) -> None:
    path = tmp_path / "r.xlsx"
    path.write_bytes(plain_workbook([["Answer", "No"], [None, "R-1"]]))
    file = OpenFile(path, XlsxFile(), RealClock())
    os.utime(path, (1, 1))
    places = [
        SheetPlace(name, SheetSettings(file="r.xlsx", tab=tab, key=("No",), create=True, patience=0), AZORES, file)
        for name, tab in (("a", "Slots"), ("b", "Log"))
    ]
    list(places[0].scan({}))
    places[1].wanted_headings = ["No"]
    places[0].pend(1, Effect(place="a", verb="change row", target="R-1", before={}, after={"Answer": "x"}))
    places[1].pend(2, Effect(place="b", verb="add row", target="", after={"No": "L-1"}))
    intents: list[Any] = []
    file.save(lambda intent, numbers: intents.append(numbers))
    assert intents == [[1, 2]]
    assert (read_cells(path.read_bytes(), "Slots")[1][0], read_cells(path.read_bytes(), "Log")) == (
        "x",
        [["No"], ["L-1"]],
    )


def test_error_values_of_cells_are_seen() -> None:
    data = plain_workbook([["No", "Day"], ["R-1", "#REF!"]])
    assert XlsxFile().load(data, None).rows[1] == ["R-1", "#REF!"]


def _zip(**parts: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    return out.getvalue()


BROKEN = [
    ("no zip", b"hello", "it is no zip archive"),
    ("another zip", _zip(a=b"x"), "a zip archive of something else"),
    ("old format", b"\xd0\xcf\x11\xe0rest", "protected by a password or of the old .xls format"),
    ("cut", plain_workbook([HEAD])[:-200], "no zip archive|broken"),
    ("bomb", _zip(bomb=b"\0" * (70 << 20)), "unpacks to an absurd size"),
    ("empty", b"", "no zip archive"),
]


@pytest.mark.parametrize(("name", "data", "fault"), BROKEN, ids=[name for name, _, _ in BROKEN])
def test_broken_workbooks_are_refused(name: str, data: bytes, fault: str) -> None:
    with pytest.raises(SourceFault, match=fault):
        XlsxFile().load(data, None)


def test_tab_that_is_not_there_and_several_tabs_without_a_name() -> None:
    with pytest.raises(SourceFault, match='there is no tab "Slot"') as caught:
        XlsxFile().load(rich_workbook(), "Slot")
    assert caught.value.fix == "there are: Slots, Counts, Hidden"
    with pytest.raises(SourceFault, match="there are 3 tabs"):
        XlsxFile().load(rich_workbook(), None)


# --- CSV


@pytest.mark.parametrize(
    ("name", "data", "settings"),
    [
        ("semicolon", b"No;Day;X\nR-1;17.03.2027;\nR-2;18.03.2027;\n", {}),
        ("tab", b"No\tDay\nR-1\t17.03.2027\n", {}),
        ("bar", b"No|Day\nR-1|17.03.2027\n", {}),
        ("bom", b"\xef\xbb\xbfNo,Day\r\nR-1,17.03.2027\r\n", {}),
        ("utf-16", "No,Day\nR-1,17.03.2027\n".encode("utf-16"), {}),
        ("latin", "No;Day;Straße\nR-1;17.03.2027;é\n".encode("cp1252"), {"encoding": "windows-1252"}),
        ("no line end", b"No,Day\nR-1,17.03.2027", {}),
        ("quoted", b'"No","Day"\n"R-1","17.03.2027"\n', {}),
        ("declared", b"No;a,b;Day\nR-1;x,y;17.03.2027\n", {"delimiter": ";"}),
    ],
)
def test_csv_of_every_kind_is_read_and_written_back_cell_by_cell(
    name: str, data: bytes, settings: dict[str, str]
) -> None:
    backing = CsvFile(**settings)
    grid = backing.load(data, None)
    day = grid.rows[0].index("Day")
    assert grid.rows[1][:1] + grid.rows[1][day : day + 1] == ["R-1", "17.03.2027"]
    patched = backing.patch(data, {"": TabWrites({(1, day): "18.03.2027"})})
    encoding = "utf-16" if name == "utf-16" else settings.get("encoding", "utf-8")
    assert patched.decode(encoding) == data.decode(encoding).replace("17.03.2027", "18.03.2027", 1)


def test_csv_formula_texts_are_guarded_and_read_back() -> None:
    backing = CsvFile()
    data = backing.patch(b"A,B,C,D\n", {"": TabWrites({(1, 0): "=1+1", (1, 1): "-x", (1, 2): -5, (1, 3): "'=q"})})
    assert data == b"A,B,C,D\n'=1+1,'-x,-5,''=q\n"
    assert backing.load(data, None).rows[1] == ["=1+1", "-x", "-5", "'=q"]


def test_csv_records_over_several_lines_stay_whole() -> None:
    data = b'A,B\n"one\ntwo, ""x""",1\nz,2\n'
    assert CsvFile().patch(data, {"": TabWrites({(2, 1): "3", (1, 1): "9"})}) == b'A,B\n"one\ntwo, ""x""",9\nz,3\n'


@pytest.mark.parametrize(
    ("data", "settings", "fault"),
    [
        ("é;x\n".encode("cp1252"), {}, "is not written in utf-8"),
        (b"a\x00b", {}, "is no text"),
        (b'a,b\n"x,1\n', {}, "is no CSV"),
        (b"a", {"encoding": "klingon"}, 'there is no encoding "klingon"'),
    ],
)
def test_csv_that_cannot_be_read_says_why(data: bytes, settings: dict[str, str], fault: str) -> None:
    with pytest.raises(SourceFault, match=fault):
        CsvFile(**settings).load(data, None)


def test_sign_that_the_encoding_lacks_is_a_fault() -> None:
    with pytest.raises(RowFault, match='the sign "→" cannot be written in windows-1252'):
        CsvFile(encoding="windows-1252").patch(b"A\nx\n", {"": TabWrites({(1, 0): "a → b"})})


def test_delimiter_is_told_by_the_lines() -> None:
    assert tell_delimiter('a;b;c\n"x,y";1,5;2\n3;"p, q";4\n') == ";"
    added = TabWrites(cells={(2, 0): "b"})
    assert CsvFile().patch(b"No,What,Seen\ra,1,2\r", {"": added}) == b"No,What,Seen\ra,1,2\rb,,\r"
    assert tell_delimiter("just one\ncolumn\n") == ","
    assert tell_delimiter("What\nfish &amp; chips\nbread\n") == ","


# --- headings and worked-out keys

HEADERS = [
    ("first row", [["No", "Day"], ["R-1", "17.03.2027"]], 0),
    ("below a title", [["Requests"], [], ["No", "Day", "Who"], ["R-1", "17.03.2027", "x"]], 2),
    (
        "below a wide note",
        [["List", "of March", None], ["No", "Day", "Who"], ["1", "17.03.2027", "x"], ["2", "18.03.2027", "y"]],
        1,
    ),
    ("texts only", [["Name", "Town"], ["Ines", "Horta"], ["Rui", "Lajes"]], 0),
    ("headings only", [["x"], ["No", "Day", "Who"]], 1),
    ("one column", [["Name"], ["Ines"]], 0),
    ("one lacks a heading", [["Title", "Room", None], ["Band", "Hall", "x"], ["Tea", "Attic", "y"]], 0),
    ("groups above", [["Time", None, "Place"], ["Begin", "End", "Hall"], ["10:00", "11:00", "North"]], 1),
    ("typed", [["Plan", None], ["Day", "Hours"], [date(2027, 3, 1), 3]], 1),
]


@pytest.mark.parametrize(("name", "rows", "header"), HEADERS, ids=[name for name, _, _ in HEADERS])
def test_heading_row_is_found(name: str, rows: list[list[Any]], header: int) -> None:
    from whenvoca.places.sheet.grid import Grid

    assert find_header(Grid("t", rows)) == header


@pytest.mark.parametrize(
    ("settings", "rows", "fault"),
    [
        ({"header": 2}, [HEAD, ["x", 1, date(2027, 1, 1), 2, 3, 4]], "row 2 holds no headings: B2 is 1"),
        ({"header": 9}, [HEAD], "row 9 holds no headings: it is empty"),
        ({}, [[1, 2], [3, 4]], "no row looks like headings"),
        ({"kinds": {"Dai": "date"}}, [HEAD], 'kinds names a column "Dai"'),
        ({"key": ("Nr",)}, [HEAD], None),
    ],
)
def test_heading_row_that_is_none_is_refused(
    settings: dict[str, Any], rows: list[list[Any]], fault: str | None, tmp_path: Path
) -> None:
    path = tmp_path / "r.xlsx"
    path.write_bytes(plain_workbook(rows))
    place = place_on(path, **settings)
    if fault is None:
        assert 'its key names a column "Nr"' in place.info().trouble
    else:
        with pytest.raises(WhenvocaError, match=fault):
            place.table()


def test_merged_and_empty_headings_have_names(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (
        [None, "Request", "Time", None, None],
        ["Answer", None, "From", "To", None],
        [None, "R-1", "21:30", "22:30", "odd"],
        ["x", "R-2", "20:30", "21:30", None],
    ):
        sheet.append(row)
    sheet.merge_cells("B1:B2")
    sheet.merge_cells("C1:D1")
    path = tmp_path / "m.xlsx"
    book.save(path)
    table = place_on(path, header=2, key=()).table()
    assert [heading.name for heading in table.headings] == ["Answer", "Request", "From", "To", "Column E"]


def test_columns_of_one_name_are_told_with_their_cells(tmp_path: Path) -> None:
    path = tmp_path / "m.csv"
    path.write_bytes(b"No,From,Till,from\nR-1,1,2,3\n")
    assert place_on(path).info().twice == {"From": "B1 and D1"}


WORK = {"Answer"}
OLD = {"k1": {"T": "a", "D": "1", "P": "x"}, "k2": {"T": "b", "D": "2", "P": "y"}, "k3": {"T": "c", "D": "3", "P": "z"}}


@pytest.mark.parametrize(
    ("name", "now", "keys"),
    [
        ("sorted", ["k3", "k1", "k2"], None),
        ("answered", [{**OLD["k1"], "Answer": "granted"}, "k2", "k3"], ["k1", "k2", "k3"]),
        ("edited", [{**OLD["k1"], "D": "9"}, "k2", "k3"], ["k1", "k2", "k3"]),
        ("deleted", ["k1", "k3"], None),
        ("inserted", ["k1", {"T": "n", "D": "5", "P": "q"}, "k2", "k3"], ["k1", None, "k2", "k3"]),
        ("copied", ["k1", "k1", "k2", "k3"], ["k1", None, "k2", "k3"]),
        ("edited and sorted", ["k3", {**OLD["k1"], "T": "new"}, "k2"], ["k3", "k1", "k2"]),
        ("all new", [{"T": "p"}, {"T": "q"}], [None, None]),
    ],
)
def test_worked_out_key_stays_with_its_row(name: str, now: list[Any], keys: list[str | None] | None) -> None:
    states = [OLD[row] if isinstance(row, str) else row for row in now]
    found = work_out_keys(states, OLD, frozenset(WORK), "")
    assert len(set(found)) == len(found)
    for expected, key in zip(keys or now, found, strict=True):
        assert key == expected if expected else key not in OLD


@given(
    st.lists(st.fixed_dictionaries({"T": st.sampled_from("abc"), "D": st.sampled_from("12")}), max_size=8), st.randoms()
)
def test_worked_out_keys_do_not_depend_on_the_order_of_rows(rows: list[dict[str, str]], random: Any) -> None:
    first = work_out_keys(rows, {}, frozenset(), "")
    known = dict(zip(first, rows, strict=True))
    order = list(range(len(rows)))
    random.shuffle(order)
    again = work_out_keys([rows[index] for index in order], known, frozenset(), "")
    assert sorted(again) == sorted(first)
    assert [known[key] for key in again] == [rows[index] for index in order]


def test_ods_sheets_are_read_with_their_types(tmp_path: Path) -> None:
    from whenvoca.places.sheet.ods_file import OdsFile

    rows = [
        ["No", "Day", "At", "Count", "What"],
        ["a", date(2027, 3, 17), time(21, 30), 3, "ä, b"],
        ["b", None, None, 2.5, None],
    ]
    grid = OdsFile().load(ods_workbook(rows), None)
    assert grid.tab == "Slots"
    assert grid.rows[1][:1] + grid.rows[1][3:] == ["a", 3, "ä, b"]
    assert grid.rows[1][1] == date(2027, 3, 17)
    for broken in (b"", b"no zip", zip_of({"mimetype": b"text/plain"})):
        with pytest.raises(SourceFault):
            OdsFile().load(broken, None)


def zip_of(parts: dict[str, bytes]) -> bytes:
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w") as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    return target.getvalue()
