"""Lists in sheets: computed columns, formulas that go on, thousands of rows at once; and of attendees."""

from __future__ import annotations

import io
import shutil
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import openpyxl
import pytest
import xlsxwriter

from tests.conftest import EXAMPLES, SETTINGS, Desk
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.patch import add_events
from whenvoca.calendars.writer import empty_calendar, write_calendar
from whenvoca.places.sheet.xlsx_cells import SheetXml
from whenvoca.places.sheet.xlsx_package import Package

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
PLACES = """
[places.domes]
kind = "calendar"
file = "domes.ics"
[places.halls]
kind = "calendar"
file = "halls.ics"
[places.list]
kind = "sheet"
file = "list.xlsx"
header = 1
"""
FILL = """
when asked

find events in domes, halls as all
fill sheet list for each e in all sort by e.start
  Title  e.title
  Hours  (e.end - e.start) / 1 hour
"""


def visit(number: int, **more: object) -> Event:
    start = datetime(2027, 3, 1, 10, tzinfo=AZORES) + timedelta(hours=number)
    return Event(uid=f"e{number}", title=f"Visit {number}", start=start, end=start + timedelta(hours=1), **more)  # type: ignore[arg-type]


def fill_calendars(desk: Desk, count: int) -> None:
    for name, numbers in (("domes", range(0, count, 2)), ("halls", range(1, count, 2))):
        data = add_events(empty_calendar(), [visit(number) for number in numbers], STAMP)
        (desk.folder / f"{name}.ics").write_bytes(data)


def workbook(*, totals: bool = False) -> bytes:
    """A table whose last column is reckoned, by formulas of their own and shared ones, with an array beside it."""
    target = io.BytesIO()
    with xlsxwriter.Workbook(target, {"in_memory": True}) as book:
        money, sheet = book.add_format({"num_format": "0.00"}), book.add_worksheet("List")
        sheet.write_row(0, 0, ["Title", "Hours", "Cost", "Note"])
        for row in (1, 2):
            sheet.write_row(row, 0, [f"Old {row}", row])
            sheet.write_formula(row, 2, f'=IF($B{row + 1}>0,B{row + 1}*F$1,"<none>")', money)
        sheet.write(0, 5, 12)
        sheet.write_array_formula("D3:D3", "{=SUM(B2:B3*2)}")
        if totals:
            sheet.write_row(3, 0, ["Total"])
            sheet.write_formula(3, 1, "=SUM(B2:B3)")
    return target.getvalue()


def cells(desk: Desk) -> list[tuple[object, ...]]:
    sheet = openpyxl.load_workbook(desk.folder / "list.xlsx").active
    assert sheet is not None
    return [tuple(row) for row in sheet.iter_rows(min_row=2, max_col=3, values_only=True)]


def formula(row: int) -> str:
    return f'=IF($B{row}>0,B{row}*F$1,"<none>")'


@pytest.fixture
def lists(desk: Desk) -> Desk:
    desk.settings(SETTINGS, PLACES)
    (desk.folder / "list.xlsx").write_bytes(workbook())
    return desk


def test_new_rows_keep_the_formulas_of_the_row_above(lists: Desk) -> None:
    fill_calendars(lists, 5)
    lists.workflow(FILL, "fill")
    before = (lists.folder / "list.xlsx").read_bytes()
    assert lists.run("run", "fill").code == 0
    assert cells(lists) == [(f"Visit {n}", 1, formula(n + 2)) for n in range(5)]
    filled = (lists.folder / "list.xlsx").read_bytes()
    assert lists.run("run", "fill").code == 0
    assert (lists.folder / "list.xlsx").read_bytes() == filled
    assert lists.run("undo", "1", "--yes").code == 0
    assert cells(lists)[:2] == [("Old 1", 1, formula(2)), ("Old 2", 2, formula(3))]
    assert before != filled


def test_rows_put_in_above_the_totals_keep_them_too(lists: Desk) -> None:
    lists.settings(SETTINGS, PLACES + 'totals = "last row"\n')
    (lists.folder / "list.xlsx").write_bytes(workbook(totals=True))
    fill_calendars(lists, 4)
    lists.workflow(FILL, "fill")
    done = lists.run("run", "fill")
    assert done.code == 0, done
    assert cells(lists) == [*((f"Visit {n}", 1, formula(n + 2)) for n in range(4)), ("Total", "=SUM(B2:B5)", None)]


def test_a_row_that_is_added_keeps_them_and_a_written_column_does_not(lists: Desk) -> None:
    lists.workflow('when asked\n\nadd row to list\n  Title  "New"\n  Hours  3\n', "one")
    lists.workflow('when asked\n\nadd row to list\n  Title  "Free"\n  Cost   0\n', "two")
    for name in ("one", "two"):
        assert lists.run("run", name).code == 0
    assert cells(lists)[2:] == [("New", 3, formula(4)), ("Free", None, 0)]


def test_shared_formulas_are_written_out(lists: Desk) -> None:
    book = openpyxl.load_workbook(lists.folder / "list.xlsx")
    book.save(lists.folder / "list.xlsx")
    data = (lists.folder / "list.xlsx").read_bytes()
    package = Package(data)
    part = package.sheets()["List"]
    xml = package.read(part)
    first, second = (
        f"<f>{formula(row)[1:]}</f>".replace(">0", "&gt;0").replace("<none>", "&lt;none&gt;") for row in (2, 3)
    )
    assert first.encode() in xml
    xml = xml.replace(first.encode(), first.replace("<f>", '<f t="shared" ref="C2:C3" si="0">').encode())
    xml = xml.replace(second.encode(), b'<f t="shared" si="0"/>')
    assert b'<f t="shared" si="0"/>' in xml
    (lists.folder / "list.xlsx").write_bytes(package.rewrite({part: xml}))
    assert (2, 2) in set(SheetXml(xml).find_formulas())
    fill_calendars(lists, 4)
    lists.workflow(FILL, "fill")
    assert lists.run("run", "fill").code == 0
    assert [row[2] for row in cells(lists)][2:] == [formula(4), formula(5)]


def test_thousands_of_rows_are_one_operation(lists: Desk) -> None:
    fill_calendars(lists, 5000)
    lists.workflow(FILL, "fill")
    assert lists.run("run", "fill").code == 0
    assert len(cells(lists)) == 5000
    assert cells(lists)[4999] == ("Visit 4999", 1, formula(5001))


def test_a_list_of_attendees(lists: Desk) -> None:
    ines, rui = Attendee("ines@example.org"), Attendee("rui@example.org", answer="DECLINED")
    events = [visit(1, attendees=(ines, rui)), visit(2, attendees=(ines,))]
    (lists.folder / "domes.ics").write_bytes(add_events(empty_calendar(), events, STAMP))
    lists.write("people.csv", "Address,Event\n")
    lists.settings(SETTINGS, PLACES + '[places.people]\nkind = "sheet"\nfile = "people.csv"\n')
    lists.workflow(
        "when asked\n\nfind attendees in domes as who\n  from  2027-03-01\n  until  2027-04-01\n\n"
        "fill sheet people for each p in who\n  Address  p.address\n  Event  p.event.title\n",
        "who",
    )
    done = lists.run("run", "who")
    assert done.code == 0, done
    assert sorted(lists.read("people.csv").splitlines()[1:])[0].startswith("ines@example.org")


def test_the_example_of_a_month(desk: Desk) -> None:
    """24 bookings: by place, the longest first, with shares that add up to one; run again no byte changes."""
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem != "month-list":
            path.unlink()
    for number in range(24):
        start = datetime(2027, 3, 1 + number, 20, tzinfo=AZORES)
        place = ("West dome", "East dome")[number % 2]
        end = start + timedelta(minutes=30 + 10 * (number % 7))
        event = Event(uid=f"b{number}", title=f"Booking {number}", start=start, end=end, location=place)
        desk.write(f"calendars/domes/b{number}.ics", write_calendar(event, STAMP))
    assert desk.run("check").code == 0
    assert desk.run("run", "month-list", "--now", "2027-04-01 07:00").code == 0
    path = desk.folder / "activity.xlsx"
    rows = list(openpyxl.load_workbook(path)["Month"].iter_rows(values_only=True))
    assert rows[0] == ("Location", "Title", "Start", "Hours", "Share")
    assert len(rows) == 25
    told = [(row[0], -row[3]) for row in rows[1:]]
    assert told == sorted(told)
    assert sum(row[4] for row in rows[1:]) == pytest.approx(1)
    before = path.read_bytes()
    assert desk.run("run", "month-list", "--now", "2027-04-01 07:00").code == 0
    assert path.read_bytes() == before
