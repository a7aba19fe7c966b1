"""The step `write report of`: the file, its figures, and what the ledger saw to be moved and called off."""

from __future__ import annotations

import contextlib
import csv
import email
import email.policy
import io
import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace
from openpyxl import Workbook, load_workbook

from tests.conftest import EXAMPLES, SETTINGS, Desk, ids
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.patch import add_events
from whenvoca.calendars.writer import empty_calendar
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
LOG = '[places.log]\nkind = "sheet"\nfile = "log.csv"\n'
DOMES = '[places.domes]\nkind = "calendar"\nfolder = "domes"\n'
REPORT = """title "Hours"
when asked

write report of domes as page
  from     2027-03-15
  until    2027-03-22
  measure  hours, count, moved, called-off
  by       location
  into     "reports/hours.html"
"""


def at(day: int, hour: int) -> datetime:
    return datetime(2027, 3, day, hour, tzinfo=AZORES)


def event(uid: str, start: datetime, hours: float = 2, **more: Any) -> Event:
    end = start.astimezone(UTC) + timedelta(hours=hours)
    return Event(uid=uid, title=f"Night {uid}", start=start, end=end.astimezone(AZORES), **more)


def named_workbook(tabs: dict[str, list[list[Any]]]) -> bytes:
    book, out = Workbook(), io.BytesIO()
    book.remove(book.active)
    for name, rows in tabs.items():
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append(row)
    book.save(out)
    return out.getvalue()


def rows_in(desk: Desk) -> list[list[Any]]:
    with contextlib.closing(load_workbook(desk.folder / "activity.xlsx")) as book:
        return [list(row) for row in book["Compare"].iter_rows(values_only=True)]


def keep(folder: Path, *events: Event) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for each in events:
        (folder / f"{each.uid}.ics").write_bytes(add_events(empty_calendar(), [each], STAMP))


SERIES = event("s", at(15, 10), 1, location="West dome", rule="FREQ=DAILY;COUNT=5")


@pytest.fixture
def domes(desk: Desk) -> Desk:
    desk.settings(SETTINGS, DOMES).workflow(REPORT, "hours")
    keep(
        desk.folder / "domes",
        event("a", at(16, 22), location="West dome"),
        event("b", at(17, 22), location="East dome"),
        event("c", at(18, 22), location="East dome"),
        SERIES,
    )
    return desk


def only(desk: Desk, name: str) -> None:
    """Leaves one of the example workflows."""
    for each in (desk.folder / "workflows").iterdir():
        if each.stem != name:
            each.unlink()


def rows_of(desk: Desk, *arguments: str) -> dict[str, dict[str, Any]]:
    more = arguments or ("--measure", "hours,count,moved,called-off", "--by", "location")
    told = desk.run("report", "domes", "--from", "2027-03-15", "--until", "2027-03-22", *more, "--json").json
    return {row["location"]: row for row in told["tables"][0]["rows"]}


def test_the_week_that_is_over(desk: Desk) -> None:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    only(desk, "monday-report")
    folder = desk.folder / "calendars/domes"
    people = (Attendee("ines@example.org"), Attendee("tomas@example.org"))
    nights = [event(f"n{day}", at(day, 22), 3, location="West dome", attendees=people[:1]) for day in range(15, 22)]
    nights += [event("late", at(16, 9), 1, location="East dome"), event("off", at(17, 9), 1, location="East dome")]
    keep(folder, *nights)
    assert desk.drive("run", "--now", "2027-03-14T12:00").code == 0
    keep(folder, replace(nights[7], start=at(19, 9), end=at(19, 10)))
    (folder / "off.ics").unlink()
    assert desk.drive("run", "--now", "2027-03-22T07:00").code == 0
    page = desk.read("reports/week-2027-11.html")
    for told in ("<b>21.0</b> hours", "<b>8</b> events", "<b>1</b> moved", "<b>1</b> called off", "West dome", "ines"):
        assert told in page
    (sent,) = (desk.folder / "outbox").glob("*.eml")
    message = email.message_from_bytes(sent.read_bytes(), policy=email.policy.default)
    assert message["subject"] == "Week 11: 21.0 hours"
    (attached,) = message.iter_attachments()
    assert (attached.get_filename(), attached.get_content()) == ("week-2027-11.html", page)
    before = desk.snapshot()
    assert desk.drive("run", "--now", "2027-03-22T07:05").code == 0
    assert desk.snapshot() == before


def test_booked_hours_beside_written_hours(desk: Desk) -> None:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    only(desk, "hours-compared")
    ines = (Attendee("ines@example.org"),)
    begins = [datetime(2027, 1, 31, 22), datetime(2027, 2, 3, 22), datetime(2027, 2, 10, 22), datetime(2027, 2, 28, 22)]
    nights = [event(f"n{n}", each.replace(tzinfo=AZORES), 4.5, attendees=ines) for n, each in enumerate(begins)]
    keep(desk.folder / "calendars/domes", *nights)
    desk.write("hours.csv", "Person,Month,Hours\nines,2027-02,12\ntomas,2027-02,2\ntomas,2027-03,6\n")
    desk.write("people.csv", "Name,Address\nines,ines@example.org\ntomas,tomas@example.org\n")
    head = ["Person", "Booked", "Written", "Gap"]
    desk.write("activity.xlsx", named_workbook({"Events": [[]], "Compare": [head]}))
    assert desk.drive("run", "--now", "2027-02-27T12:00").code == 0
    assert desk.drive("run", "--now", "2027-03-01T06:50").code == 0
    assert rows_in(desk) == [head, ["ines", 13.5, 12, 1.5], ["tomas", 0, 2, -2]]
    assert desk.drive("run", "--now", "2027-04-01T06:50").code == 0
    assert rows_in(desk) == [head, ["ines", 0, 0, 0], ["tomas", 0, 6, -6]]


def test_moved_and_called_off_belong_to_the_time_that_events_had(domes: Desk) -> None:
    folder = domes.folder / "domes"
    assert rows_of(domes)["West dome"] == {
        "location": "West dome", "hours": 7.0, "count": 6, "moved": None, "called_off": None,
    }  # fmt: skip
    assert "not known" in domes.run("report", "domes", "--from", "2027-03-15", "--measure", "hours,moved").out
    domes.run("run", "hours")
    assert rows_of(domes)["West dome"]["moved"] == 0
    keep(folder, event("a", at(25, 22), location="West dome"))  # to another week
    (folder / "b.ics").unlink()
    keep(folder, event("s", at(15, 11), 1, location="West dome", rule="FREQ=DAILY;COUNT=5", excluded=(at(18, 11),)))
    domes.run("run", "hours")
    found = rows_of(domes)
    assert [found[each]["moved"] for each in ("West dome", "East dome")] == [6, 0]
    assert [found[each]["called_off"] for each in ("West dome", "East dome")] == [0, 1]
    assert [found[each]["hours"] for each in ("West dome", "East dome")] == [4.0, 2.0]
    later = domes.run(
        "report", "domes", "--from", "2027-03-22", "--until", "2027-03-29", "--measure", "moved", "--json"
    )
    assert later.json["total"] == {"moved": 0}


CHANGES = [
    ("retitled", {"title": "Another"}, 0, 0),
    ("longer", {"end": at(15, 12)}, 0, 0),
    ("cancelled", {"cancelled": True}, 0, 5),
    ("one left out", {"excluded": (at(17, 10),)}, 0, 1),
    ("an hour later", {"start": at(15, 11), "end": at(15, 12)}, 5, 0),
    ("shorter", {"rule": "FREQ=DAILY;COUNT=3"}, 0, 2),
    ("gone elsewhere", {"start": at(25, 10), "end": at(25, 11)}, 5, 0),
]  # fmt: skip


@pytest.mark.parametrize(("name", "change", "moved", "called_off"), CHANGES, ids=ids(CHANGES))
def test_what_becomes_of_a_series(domes: Desk, name: str, change: dict[str, Any], moved: int, called_off: int) -> None:
    domes.run("run", "hours")
    keep(
        domes.folder / "domes",
        replace(event("s", at(15, 10), 1, location="West dome", rule="FREQ=DAILY;COUNT=5"), **change),
    )
    domes.run("run", "hours")
    found = rows_of(domes)["West dome"]
    assert (found["moved"], found["called_off"]) == (moved, called_off)


def test_an_occurrence_that_is_moved_counts_once(domes: Desk) -> None:
    domes.run("run", "hours")
    changed = replace(event("s", at(19, 15), 1, location="West dome"), occurrence=at(17, 10))
    path = domes.folder / "domes/s.ics"
    path.write_bytes(add_events(empty_calendar(), [SERIES, changed], STAMP))
    domes.run("run", "hours")
    assert rows_of(domes)["West dome"]["moved"] == 1


def test_what_stands_again_was_not_called_off(domes: Desk) -> None:
    path = domes.folder / "domes/b.ics"
    kept = path.read_bytes()
    domes.run("run", "hours")
    path.unlink()
    keep(domes.folder / "domes", replace(SERIES, excluded=(at(18, 10),)))
    domes.run("run", "hours")
    found = rows_of(domes)
    assert [found[each]["called_off"] for each in ("West dome", "East dome")] == [1, 1]
    path.write_bytes(kept)
    keep(domes.folder / "domes", SERIES)
    domes.run("run", "hours")
    found = rows_of(domes)
    assert [found[each]["called_off"] for each in ("West dome", "East dome")] == [0, 0]


def test_what_an_undo_brought_back_was_not_called_off(domes: Desk) -> None:
    domes.run("run", "hours")
    domes.workflow('when asked\n\ndelete event in domes\n  where  title is "Night b"\n', "less")
    domes.run("run", "less")
    assert rows_of(domes)["East dome"]["called_off"] == 1
    (run, *_) = domes.run("runs", "--json").json["runs"]
    assert domes.run("undo", str(run["run"]), "--yes").code == 0
    assert rows_of(domes)["East dome"]["called_off"] == 0


def test_a_broken_calendar_that_only_a_report_is_about_stops_no_other_workflow(domes: Desk) -> None:
    domes.settings(SETTINGS, DOMES.replace("folder", "file").replace('"domes"', '"domes.ics"'), LOG)
    domes.write("domes.ics", "no calendar")
    domes.write("log.csv", "What\n")
    domes.workflow(REPORT, "hours").workflow('when asked\n\nadd row to log\n  What  "ran"\n', "other")
    domes.run("run", "hours", "other")
    assert domes.read("log.csv").splitlines() == ["What", "ran"]


def test_the_file_is_written_taken_back_and_never_over_another(domes: Desk) -> None:
    assert domes.run("run", "hours").code == 0
    path = domes.folder / "reports/hours.html"
    first = path.read_bytes()
    (again,) = domes.run("run", "hours", "--json").json["runs"]
    assert again["effects"] == []
    keep(domes.folder / "domes", event("d", at(20, 10), location="Hall"))
    rehearsed = domes.run("rehearse", "hours")
    assert path.read_bytes() == first
    assert "reports/hours.html" in rehearsed.out
    domes.run("run", "hours")
    assert b"Hall" in path.read_bytes()
    newest = domes.run("runs", "--json").json["runs"][0]["run"]
    assert domes.run("undo", str(newest), "--yes").code == 0
    assert path.read_bytes() == first
    path.write_text("mine", encoding="utf-8")
    refused = domes.run("run", "hours")
    assert refused.code == 1
    assert "published by a workflow" in refused.out + refused.err
    assert path.read_text(encoding="utf-8") == "mine"


def test_lines_of_a_report_fill_a_sheet_and_csv_is_read_again(domes: Desk) -> None:
    domes.write("sums.csv", "Where,Hours\n")
    domes.settings(SETTINGS, DOMES, '[places.sums]\nkind = "sheet"\nfile = "sums.csv"\n')
    text = REPORT.replace("hours.html", "hours.csv").replace("  by ", "  where    location is not empty\n  by ")
    domes.workflow(f"{text}\nfill sheet sums for each r in page.rows\n  Where  r.label\n  Hours  r.hours\n", "hours")
    assert domes.run("run", "hours").code == 0
    assert domes.read("sums.csv").splitlines() == ["Where,Hours", "West dome,7", "East dome,4"]
    (first, _) = csv.DictReader(io.StringIO(domes.read("reports/hours.csv")))
    assert first == {
        "table": "location", "label": "West dome", "with": "",
        "hours": "7.0", "count": "6", "moved": "0", "called-off": "0",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("change", "told"), [("hours.txt", "does not end in .html or .csv"), ('hours.csv"\n  as "html', "end in .html")]
)
def test_the_file_is_written_as_its_ending_says(domes: Desk, change: str, told: str) -> None:
    domes.workflow(REPORT.replace('hours.html"', f'{change}"').replace('"html"', "html"), "hours")
    refused = domes.run("run", "hours", "--json")
    assert refused.code == 1
    assert told in refused.json["runs"][0]["reason"]


FAULTS = [
    ("no until", ("  until    2027-03-22\n", ""), "until is missing" ),
    ("no file", ('  into     "reports/hours.html"\n', ""), "into is missing"),
    ("another measure", ("hours, count", "hours, costs"), 'measure is never "costs"'),
    ("another table", ("by       location", "by       moon"), 'by is never "moon"'),
]  # fmt: skip


@pytest.mark.parametrize(("name", "change", "told"), FAULTS, ids=ids(FAULTS))
def test_check_tells_what_is_wrong(domes: Desk, name: str, change: tuple[str, str], told: str) -> None:
    domes.workflow(REPORT.replace(*change), "hours")
    checked = domes.run("check")
    assert checked.code == 1
    assert told in checked.out + checked.err
