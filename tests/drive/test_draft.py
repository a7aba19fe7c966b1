"""`draft`: from a strange spreadsheet to a workflow that passes check, and from a calendar to a sheet that it
follows."""

from __future__ import annotations

import csv
from datetime import date, datetime, time
from typing import Any

import openpyxl
import pytest

from tests.calendars.foreign import calendar, event, lines_of, zone
from tests.conftest import REQUESTS, SETTINGS, Desk
from tests.places.workbooks import plain_workbook, read_cells
from whenvoca.calendars.reader import read_events
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
CALENDARS = '[places.domes]\nkind = "calendar"\nfolder = "domes"\n'


@pytest.fixture
def empty(desk: Desk) -> Desk:
    return desk.settings(SETTINGS, CALENDARS)


def event_fields(desk: Desk) -> list[str]:
    lines = (
        (next((desk.folder / "workflows").glob("*.voca"))).read_text().split("create event in domes as booking\n")[1]
    )
    return [" ".join(line.split("#")[0].split()) for line in lines.split("\n\n")[0].splitlines()]


CASES: list[tuple[str, list[list[Any]], list[str], list[str]]] = [
    (
        "day and times apart",
        [
            ["List of nights"],
            [],
            ["Request no", "Night of", "From", "To", "Target", "Observers", "Remarks"],
            ["R-1", "17.03.2027", "21:30", "02:00", "M 42", "ines@example.org", "flats"],
            ["R-2", "18.03.2027", "20:00", "22:00", "M 13", "tomas@example.org", None],
        ],
        ["title Target", "start Night-of at From", "end Night-of at To", "attendees Observers", "details Remarks"],
        [],
    ),
    (
        "moments",
        [
            ["ID", "Starts", "Ends", "Event", "Room"],
            [1, datetime(2027, 3, 17, 9), datetime(2027, 3, 17, 10), "Talk", "Hall"],
            [2, datetime(2027, 3, 18, 9), datetime(2027, 3, 18, 10), "Tour", "Dome"],
        ],
        ["title Event", "start Starts", "end Ends", "location Room"],
        [],
    ),
    (
        "whole days",
        [
            ["Dome", "Work", "Closed from", "Closed to"],
            ["North", "Wash", date(2027, 3, 17), date(2027, 3, 19)],
            ["South", "Paint", date(2027, 4, 1), date(2027, 4, 2)],
        ],
        ["title Work", "first-day Closed-from", "last-day Closed-to", "location Dome"],
        ["tells the rows apart"],
    ),
    (
        "no end",
        [
            ["No", "Date", "Time", "Title"],
            [1, date(2027, 3, 17), time(9), "Talk"],
            [2, date(2027, 3, 18), time(9), "Tour"],
        ],
        ["title Title", "start Date at Time", "length 1 hour"],
        ["no column tells the end"],
    ),
    (
        "no end in some rows",
        [
            ["No", "Title", "Date", "From", "To"],
            [1, "Talk", date(2027, 3, 17), time(9), time(10)],
            [2, "Tour", date(2027, 3, 18), time(9), None],
        ],
        ["title Title", "start Date at From", "end Date at To or 1 hour"],
        ['some rows have no "To"'],
    ),
    (
        "minutes",
        [
            ["No", "Date", "Time", "Minutes", "Title"],
            [1, date(2027, 3, 17), time(9), 90, "Talk"],
            [2, date(2027, 3, 18), time(9), 45, "Tour"],
        ],
        ["title Title", "start Date at Time", "length Minutes minutes"],
        [],
    ),
    (
        "two readings",
        [
            ["No", "Date", "From", "To", "Title"],
            [1, "03/04/2027", "9:00", "10:00", "Talk"],
            [2, "05/04/2027", "9:00", "10:00", "Tour"],
        ],
        ["title Title", "start Date at From", "end Date at To"],
        ["can be read day first and month first; day first was taken"],
    ),
    (
        "the answers of a form, with a line of totals",
        [
            ["Evenings"],
            [],
            ["Timestamp", "Your name", "Which evening?", "Arrival", "Leaving", "People"],
            ["11/02/2026 18:22:31", "Ana", "03/15/2027", "7pm", "10pm", 12],
            ["11/03/2026 09:01:02", "Rui", "03/16/2027", "19.30", "22.00", 20],
            ["Total:", None, None, None, None, 32],
        ],
        ["title Your-name", "start Which-evening at Arrival", "end Which-evening at Leaving"],
        [
            "tells the rows apart",
            'month first was taken, as "Which evening?" is read',
            'row 6 ("Total:") was taken for a line of totals and makes no event',
        ],
    ),
    (
        "nothing but when it was sent",
        [["Submitted", "Title"], [datetime(2027, 3, 17, 9, 30), "Talk"], [datetime(2027, 3, 18, 9, 15), "Tour"]],
        ["title Title", "start Submitted", "length 1 hour"],
        ["tells the rows apart", "no column tells the end"],
    ),
    (
        "no dates",
        [["No", "Title"], [1, "Talk"], [2, "Tour"]],
        ["title Title", "start today at 09:00"],
        ["no column holds dates"],
    ),
]


@pytest.mark.parametrize(("rows", "fields", "unsure"), [case[1:] for case in CASES], ids=[case[0] for case in CASES])
def test_draft_passes_check_and_says_where_it_is_unsure(
    empty: Desk, rows: list[list[Any]], fields: list[str], unsure: list[str]
) -> None:
    empty.write("strange.xlsx", plain_workbook(rows))
    result = empty.run("draft", str(empty.folder / "strange.xlsx"), "--into", "domes", "--prepare", "--json")
    assert result.code == 0, result
    assert event_fields(empty) == fields
    told = result.json["unsure"]
    assert len(told) == len(unsure)
    assert all(part in said for part, said in zip(unsure, told, strict=True))
    assert empty.run("check").code == 0, empty.run("check").out
    assert empty.run("run").code == 0
    assert len(empty.events()) == 2
    text = (empty.folder / "workflows/strange.voca").read_text()
    assert all(f"# unsure: {said}" in text for said in told)


def test_prepare_adds_outcome_columns_and_date_validation_and_keeps_what_is_there(empty: Desk) -> None:
    path = empty.write("s.xlsx", plain_workbook(CASES[1][1]))
    assert empty.run("draft", str(path), "--into", "domes").code == 0
    assert read_cells(path.read_bytes())[0] == ["ID", "Starts", "Ends", "Event", "Room"]
    path = empty.write("t.xlsx", plain_workbook(CASES[2][1]))
    assert empty.run("draft", str(path), "--into", "domes", "--prepare").code == 0
    sheet = openpyxl.load_workbook(path).active
    assert sheet is not None
    assert [cell.value for cell in sheet[1]] == ["Dome", "Work", "Closed from", "Closed to", "Answer", "Booking"]
    rules = [(str(rule.sqref), rule.type) for rule in sheet.data_validations.dataValidation]
    assert [kind for _, kind in rules] == ["date", "date"]
    assert rules[0][0].startswith("C2:C")


def test_draft_never_writes_over_a_place_or_a_workflow(empty: Desk) -> None:
    path = empty.write("s.xlsx", plain_workbook(CASES[1][1]))
    assert empty.run("draft", str(path), "--into", "domes").code == 0
    before = empty.snapshot()
    assert empty.run("draft", str(path), "--into", "domes").code == 2
    assert empty.run("draft", str(path), "--into", "doms").code == 2
    assert empty.run("draft", str(path)).code == 2
    assert empty.run("draft", str(empty.folder / "none.xlsx"), "--into", "domes").code == 2
    assert empty.snapshot() == before


def test_events_are_filled_into_a_sheet_edited_there_and_adopted(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(
        "when requests gains a row\ncreate event in domes\n  title  Title\n  start  Day at From\n  end    Day at To\n"
    )
    desk.rows(",,R-1,M 1,17.03.2027,21:30,02:00", ",,R-2,M 2,18.03.2027,20:00,22:00")
    assert desk.run("run").code == 0
    before = {path.name: path.read_bytes() for path in desk.events()}
    sheet = desk.folder / "plan.csv"
    assert desk.run("draft", str(sheet), "--out-of", "domes").code == 0
    assert desk.run("check", "plan").code == 0
    assert [
        run["effects"]
        for run in desk.run("rehearse", "plan", "--json").json["runs"]
        if run["effects"] and run["effects"][0]["verb"] != "take event as made"
    ] == []
    assert desk.run("run", "plan").code == 0  # takes them over as they are
    desk.write("plan.csv", sheet.read_text().replace("M 2", "M 22"))
    pending = desk.run("rehearse", "plan", "--json").json["runs"]
    changes = [effect for run in pending for effect in run["effects"] if effect["verb"] == "change event"]
    assert [effect["after"] for effect in changes] == [{"title": "M 22"}]
    assert {path.name: path.read_bytes() for path in desk.events()} == before
    assert desk.run("run", "plan").code == 0
    titles = {event.title: event.uid for path in desk.events() for event in read_events(path.read_bytes(), AZORES)}
    assert sorted(titles) == ["M 1", "M 22"]
    assert {f"{uid}.ics" for uid in titles.values()} == set(before)
    rows = sheet.read_text().splitlines(keepends=True)
    desk.write("plan.csv", "".join(row for row in rows if "M 22" not in row))
    assert desk.run("run", "plan").code == 0
    assert len(desk.events()) == 1
    new = next(csv.reader([rows[1]]))
    new[0], new[1] = "", "Fresh"
    desk.write("plan.csv", "".join(row for row in rows if "M 22" not in row) + ",".join(new) + "\n")
    assert desk.run("run", "plan").code == 0
    assert len(desk.events()) == 2


@pytest.mark.parametrize("heading", ["Event id", "Event ID", "event_uid", "Booking", "Calendar id", "booking-id"])
def test_prepare_uses_the_column_that_is_there_and_leaves_the_totals_alone(empty: Desk, heading: str) -> None:
    head = ["No", "Title", "Date", "From", "To", heading, "Status"]
    rows = [
        head,
        ["T-1", "Talk", date(2027, 3, 17), time(9), time(10)],
        ["T-2", "Tour", date(2027, 3, 18), time(9), time(10)],
    ]
    path = empty.write("talks.xlsx", plain_workbook([*rows, ["Total", None, None]]))
    assert empty.run("draft", str(path), "--into", "domes", "--prepare").code == 0
    sheet = openpyxl.load_workbook(path).active
    assert [cell.value for cell in sheet[1]] == head
    assert [str(each.sqref) for each in sheet.data_validations.dataValidation] == ["C2:C3"]
    assert empty.run("run").code == 0
    filled = [row[5].value for row in openpyxl.load_workbook(path).active.iter_rows(min_row=2)]
    assert [bool(each) for each in filled] == [True, True, False]


@pytest.mark.parametrize("newline", ["\r\n", "\n"])
def test_a_calendar_of_another_program_filled_into_a_sheet_and_run_without_an_edit_is_not_touched(
    desk: Desk, newline: str
) -> None:
    name = "W. Europe Standard Time"
    data = calendar(
        zone(name),
        event("a", "LOCATION:Hall", "DURATION:PT1H", "X-A:b", "DESCRIPTION:two\\nlines\\, here"),
        event("day", "DTEND;VALUE=DATE:20270320", start="DTSTART;VALUE=DATE:20270318"),
        event(
            "b",
            f"DTEND;TZID={name}:20270317T110000",
            "CLASS:PRIVATE",
            "ATTENDEE;CN=Ines;ROLE=OPT-PARTICIPANT:mailto:ines@example.org",
            "ATTENDEE:mailto:rui@example.org",
            start=f"DTSTART;TZID={name}:20270317T100000",
        ),
        event("series", "RRULE:FREQ=DAILY;COUNT=3"),
        newline=newline,
    )
    desk.settings(SETTINGS, '[places.cal]\nkind = "calendar"\nfile = "all.ics"\n')
    path = desk.write("all.ics", data)
    drafted = desk.run("draft", str(desk.folder / "list.csv"), "--out-of", "cal")
    assert "one repeating event was left out" in drafted.err
    assert [each["outcome"] for each in desk.run("run", "--json").json["runs"]] == ["done"] * 3
    assert path.read_bytes() == data
    desk.write("list.csv", (desk.folder / "list.csv").read_text(encoding="utf-8").replace("day,day", "day,Holiday"))
    assert desk.run("run").code == 0
    assert set(lines_of(path.read_bytes())) - set(lines_of(data)) >= {"SUMMARY:Holiday"}
    assert set(lines_of(data)) - set(lines_of(path.read_bytes())) == {"SUMMARY:day"}
