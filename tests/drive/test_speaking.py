"""The calendar speaks: events, the clock and a hand start workflows; the examples of that kind do what their first
lines say."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

import pytest

from tests.conftest import EXAMPLES, Desk
from tests.places.workbooks import plain_workbook, read_cells
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.task import Task
from whenvoca.calendars.writer import write_calendar
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=AZORES)


@pytest.fixture
def larkmoor(desk: Desk) -> Desk:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for name in ("domes", "outreach"):
        (desk.folder / "calendars" / name).mkdir(parents=True)
    return desk


def put(desk: Desk, calendar: str, uid: str, title: str, start: Any, end: Any, **more: Any) -> Event:
    """Puts an event into a calendar folder, as another program would."""
    more["attendees"] = tuple(Attendee(each) for each in more.get("attendees", ()))
    event = Event(uid=uid, title=title, start=start, end=end, **more)
    desk.write(f"calendars/{calendar}/{uid}.ics", write_calendar(event, STAMP))
    return event


def said_in(desk: Desk, room: str) -> list[str]:
    path = desk.folder / f"chat/rooms/{room}.jsonl"
    return [json.loads(line)["text"] for line in path.read_text().splitlines()] if path.exists() else []


def shown(desk: Desk, person: str) -> tuple[str, str]:
    path = desk.folder / f"chat/presence/{person}.json"
    if not path.exists():
        return ("free", "")
    data = json.loads(path.read_text())
    return data["show"], data["status"]


def show(desk: Desk, person: str, kind: str, status: str) -> None:
    desk.write(f"chat/presence/{person}.json", json.dumps({"show": kind, "status": status, "symbol": ""}))


def tasks_of(desk: Desk) -> list[Task]:
    found = [read_events(path.read_bytes(), AZORES, noun="task")[0] for path in desk.events("chores")]
    return sorted(found, key=lambda task: task.title)  # type: ignore[return-value]


def go(desk: Desk, moment: str, *names: str, code: int = 0) -> Any:
    result = desk.run("run", *names, "--now", moment, "--json")
    assert result.code == code, result.err + result.out
    return result.json


def test_evening_sheet(larkmoor: Desk) -> None:
    put(larkmoor, "domes", "a", "M 42 with wide camera", at("2027-03-17T21:30"), at("2027-03-18T02:00"))
    put(larkmoor, "domes", "b", "East dome closed", date(2027, 3, 17), date(2027, 3, 18), categories=("upkeep",))
    put(larkmoor, "outreach", "c", "Planetarium evening", at("2027-03-17T19:00"), at("2027-03-17T20:30"))
    go(larkmoor, "2027-03-17 16:20", "evening-sheet")
    wanted = (
        "2 bookings tonight\n19:00–20:30 · Planetarium evening [outreach]\n21:30–02:00 · M 42 with wide camera [domes]"
    )
    assert said_in(larkmoor, "dome-floor") == [wanted]
    # nothing that night: no message, the run is done
    (told,) = go(larkmoor, "2027-03-18 16:20", "evening-sheet")["runs"]
    assert (told["outcome"], said_in(larkmoor, "dome-floor")) == ("done", [wanted])


def test_evening_sheet_too_late_is_missed_and_told(larkmoor: Desk) -> None:
    for other in (larkmoor.folder / "workflows").glob("*.voca"):
        if other.stem != "evening-sheet":
            other.unlink()
    put(larkmoor, "domes", "a", "M 42", at("2027-03-17T21:30"), at("2027-03-18T02:00"))
    assert go(larkmoor, "2027-03-17 12:00")["runs"] == []
    (missed,) = go(larkmoor, "2027-03-17 19:30")["runs"]
    assert (missed["outcome"], missed["reason"]) == ("missed", "was due at 2027-03-17 16:20")
    assert go(larkmoor, "2027-03-17 19:31")["runs"] == []
    assert larkmoor.run("runs", "--json").json["runs"][0]["outcome"] == "missed"
    (done,) = go(larkmoor, "2027-03-18 19:00")["runs"]  # within three hours of 16:20
    assert (done["outcome"], done["reason"]) == ("done", "late by 2 hours 40 minutes")
    assert said_in(larkmoor, "dome-floor") == []


def test_observer_presence(larkmoor: Desk) -> None:
    show(larkmoor, "ines", "free", "in the library")
    ines = ("ines@example.org", "guest@example.org")
    put(larkmoor, "domes", "a", "M 42", at("2027-03-17T21:30"), at("2027-03-18T02:00"), attendees=ines)
    put(larkmoor, "domes", "b", "M 81", at("2027-03-18T01:30"), at("2027-03-18T03:00"), attendees=ines)
    put(larkmoor, "domes", "c", "closed", date(2027, 3, 17), date(2027, 3, 18), attendees=ines)
    put(larkmoor, "domes", "d", "talk", at("2027-03-17T20:00"), at("2027-03-17T21:00"), attendees=ines, busy="no")
    name = "observer-presence"
    steps = [
        ("2027-03-17 19:00", ("free", "in the library")),
        ("2027-03-17 21:17", ("free", "in the library")),
        ("2027-03-17 21:18", ("dnd", "at the eyepiece, back 02:00")),
        ("2027-03-18 01:18", ("dnd", "at the eyepiece, back 03:00")),
        ("2027-03-18 02:00", ("dnd", "at the eyepiece, back 03:00")),
        ("2027-03-18 02:30", ("dnd", "at the eyepiece, back 03:00")),
        ("2027-03-18 03:00", ("free", "in the library")),
    ]
    for moment, wanted in steps:
        go(larkmoor, moment, name)
        assert shown(larkmoor, "ines") == wanted, moment
    assert go(larkmoor, "2027-03-18 03:01", name)["runs"] == []


def test_presence_cleared(larkmoor: Desk) -> None:
    show(larkmoor, "ines", "free", "")
    show(larkmoor, "rui", "away", "back at 15:00")
    quiet = ("--give", "who=ines", "--give", "span=6 hours")
    assert larkmoor.run("run", "quiet-hours", *quiet, "--now", "2027-03-19 14:00").code == 0
    assert shown(larkmoor, "ines") == ("dnd", "quiet hours in the domes")
    only(larkmoor, "presence-cleared", "quiet-hours")
    go(larkmoor, "2027-03-19 17:39")
    go(larkmoor, "2027-03-19 17:40")
    assert (shown(larkmoor, "ines"), shown(larkmoor, "rui")) == (("free", ""), ("free", ""))
    go(larkmoor, "2027-03-19 20:00")
    assert shown(larkmoor, "ines") == ("free", "")
    show(larkmoor, "ana", "away", "gone sailing")
    for moment in ("2027-03-20 17:40", "2027-03-21 17:40", "2027-03-22 17:39"):
        go(larkmoor, moment)
        assert shown(larkmoor, "ana") == ("away", "gone sailing")
    go(larkmoor, "2027-03-22 17:40")
    assert shown(larkmoor, "ana") == ("free", "")


def only(desk: Desk, *names: str) -> None:
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem not in names:
            path.unlink()


def test_quiet_hours(larkmoor: Desk) -> None:
    show(larkmoor, "ines", "away", "lunch")
    nobody = larkmoor.run("run", "quiet-hours", "--now", "2027-03-18 14:00")
    assert nobody.code == 2
    assert '"who" is not given' in nobody.err
    given = ("--give", "who=ines", "--give", "words=aligning the mirror", "--give", "span=1 hour 30 minutes")
    assert larkmoor.run("run", "quiet-hours", *given, "--now", "2027-03-18 14:00").code == 0
    assert shown(larkmoor, "ines") == ("dnd", "aligning the mirror")
    assert larkmoor.run("run", "quiet-hours", "--give", "who=rui", "--now", "2027-03-18 14:10").code == 0
    assert shown(larkmoor, "rui") == ("dnd", "quiet hours in the domes")
    only(larkmoor, "quiet-hours")
    go(larkmoor, "2027-03-18 14:54")
    assert shown(larkmoor, "rui")[0] == "dnd"
    go(larkmoor, "2027-03-18 14:55")
    assert shown(larkmoor, "rui") == ("free", "")
    go(larkmoor, "2027-03-18 15:30")
    assert shown(larkmoor, "ines") == ("away", "lunch")
    wrong = larkmoor.run("run", "quiet-hours", "--give", "who=paulo", "--now", "2027-03-18 16:00")
    assert (wrong.code, "none of the choices" in wrong.err) == (2, True)


def test_visit_list_and_its_followers(larkmoor: Desk) -> None:
    only(larkmoor, "visit-list", "visit-list-follows")
    headings = ["Event", "Title", "Venue", "Date", "Begin", "Moves"]
    larkmoor.write("visit-list.xlsx", plain_workbook([headings]))
    go(larkmoor, "2027-03-10 09:00")
    sea = put(
        larkmoor,
        "outreach",
        "sea",
        "Sea School looks at the Moon",
        at("2027-03-19T10:40"),
        at("2027-03-19T11:50"),
        location="North dome",
        categories=("school",),
    )
    put(larkmoor, "outreach", "lamps", "New lamps", at("2027-03-20T10:00"), at("2027-03-20T11:00"))
    go(larkmoor, "2027-03-11 09:00")
    rows = read_cells((larkmoor.folder / "visit-list.xlsx").read_bytes())
    assert rows[1] == ["sea", "Sea School looks at the Moon", "North dome", datetime(2027, 3, 19), time(10, 40), 0]
    assert len(rows) == 2
    put(
        larkmoor,
        "outreach",
        "lamps",
        "New lamps",
        at("2027-03-20T10:00"),
        at("2027-03-20T11:00"),
        categories=("school",),
    )
    put(
        larkmoor,
        "outreach",
        "sea",
        sea.title,
        at("2027-03-19T11:20"),
        at("2027-03-19T12:10"),
        location="South dome",
        categories=("school",),
    )
    go(larkmoor, "2027-03-12 09:00")
    rows = read_cells((larkmoor.folder / "visit-list.xlsx").read_bytes())
    assert rows[1] == ["sea", sea.title, "South dome", datetime(2027, 3, 19), time(11, 20), 1]
    assert rows[2][1] == "New lamps"
    (message,) = said_in(larkmoor, "front-desk")
    assert message.split("\n") == [
        f"{sea.title}: start 19 Mar 10:40 → 19 Mar 11:20",
        f"{sea.title}: end 19 Mar 11:50 → 19 Mar 12:10",
        f"{sea.title}: location North dome → South dome",
    ]


def test_visit_never_listed_is_a_failed_run(larkmoor: Desk) -> None:
    only(larkmoor, "visit-list-follows")
    larkmoor.write("visit-list.xlsx", plain_workbook([["Event", "Title", "Venue", "Date", "Begin", "Moves"]]))
    put(
        larkmoor, "outreach", "x", "Hill School", at("2027-03-19T10:40"), at("2027-03-19T11:50"), categories=("school",)
    )
    go(larkmoor, "2027-03-10 09:00")
    put(
        larkmoor, "outreach", "x", "Hill School", at("2027-03-19T12:40"), at("2027-03-19T13:50"), categories=("school",)
    )
    (told,) = go(larkmoor, "2027-03-11 09:00", code=1)["runs"]
    assert told["reason"] == "Hill School is not listed"
    log = larkmoor.read("log.csv").splitlines()
    assert len(log) == 2
    assert "2027-03-19 10:40" in log[1]
    assert "x" in log[1]
    assert said_in(larkmoor, "front-desk") == []


def test_dome_upkeep(larkmoor: Desk) -> None:
    heads = ["Booking", "Dome", "Work", "Closed from", "Closed to", "Crew", "Notes"]
    filled = [[None, "West dome", f"job {n}", date(2027, 2, n), date(2027, 2, n), None, None] for n in range(1, 10)]
    row = [
        None,
        "East dome",
        "shutter",
        date(2027, 3, 23),
        date(2027, 3, 24),
        "ines@example.org, tomas@example.org",
        None,
    ]
    larkmoor.write("upkeep.xlsx", plain_workbook([heads, *filled, row], tab="2027"))
    before = read_cells((larkmoor.folder / "upkeep.xlsx").read_bytes(), tab="2027")
    asked = larkmoor.run("run", "dome-upkeep", "--now", "2027-03-01 09:00")
    assert asked.code == 2
    assert "which row is meant?" in asked.err
    assert "row 11 (East dome, shutter" in asked.err
    assert larkmoor.run("run", "dome-upkeep", "--row", "11", "--now", "2027-03-01 09:00").code == 0
    (path,) = larkmoor.events("calendars/domes")
    (event,) = read_events(path.read_bytes(), AZORES)
    assert (event.title, event.start, event.end) == ("East dome closed: shutter", date(2027, 3, 23), date(2027, 3, 25))
    assert [each.address for each in event.attendees] == ["ines@example.org", "tomas@example.org"]
    rows = read_cells((larkmoor.folder / "upkeep.xlsx").read_bytes(), tab="2027")
    assert rows[10][0] == event.uid
    assert [each[1:] for each in rows] == [each[1:] for each in before]
    standing = larkmoor.snapshot()
    assert larkmoor.run("run", "dome-upkeep", "--row", "11", "--now", "2027-03-02 09:00").code == 0
    assert larkmoor.snapshot() == standing


def test_past_five_weeks(larkmoor: Desk) -> None:
    start = at("2027-02-15T20:00")
    for number in range(29):
        begin = start + timedelta(days=number, hours=1)
        put(
            larkmoor,
            "domes",
            f"d{number:02}",
            f"night {number}",
            begin,
            begin + timedelta(hours=2),
            organizer="ines@example.org",
        )
    for number in range(6):
        begin = start + timedelta(days=number, hours=3)
        put(larkmoor, "domes", f"u{number}", "upkeep", begin, begin + timedelta(hours=1), categories=("upkeep",))
    for number in range(2):
        begin = start + timedelta(days=number, hours=4)
        put(larkmoor, "outreach", f"n{number}", "not busy", begin, begin + timedelta(hours=1), busy="no")
    put(larkmoor, "outreach", "sun", "Sunday before", at("2027-02-14T14:00"), at("2027-02-14T16:00"))
    put(larkmoor, "outreach", "mon", "First of them", at("2027-02-15T09:00"), at("2027-02-15T10:30"))
    put(larkmoor, "outreach", "last", "Last of them", at("2027-03-21T22:00"), at("2027-03-21T23:00"))
    larkmoor.write("activity.xlsx", _activity())
    go(larkmoor, "2027-03-22 06:40", "past-five-weeks")
    data = (larkmoor.folder / "activity.xlsx").read_bytes()
    rows = read_cells(data, tab="Events")[3:]
    assert len(rows) == 32
    assert rows[0][:5] == ["outreach", "First of them", datetime(2027, 2, 15, 9), datetime(2027, 2, 15, 10, 30), 1.5]
    assert [row[2] for row in rows[:31]] == sorted(row[2] for row in rows[:31])
    assert rows[30][1] == "Last of them"
    assert rows[31][0] == "Total"
    assert "SUM(E4:E34)" in _formula_of(data, "Events")
    assert read_cells(data, tab="Compare") == read_cells(_activity(), tab="Compare")
    go(larkmoor, "2027-03-22 06:40", "past-five-weeks")
    assert (larkmoor.folder / "activity.xlsx").read_bytes() == data


def _activity() -> bytes:
    import io

    import xlsxwriter

    out = io.BytesIO()
    book = xlsxwriter.Workbook(out)
    sheet, other = book.add_worksheet("Events"), book.add_worksheet("Compare")
    day = book.add_format({"num_format": "yyyy-mm-dd hh:mm"})
    sheet.write(0, 0, "The past five weeks")
    sheet.write_row(2, 0, ["Calendar", "Title", "Start", "End", "Hours", "Organizer"])
    for row in range(3, 6):
        sheet.write_row(row, 0, ["domes", f"old {row}"])
        sheet.write_datetime(row, 2, datetime(2027, 1, row), day)
        sheet.write_datetime(row, 3, datetime(2027, 1, row, 2), day)
        sheet.write_number(row, 4, 2)
    sheet.write(6, 0, "Total")
    sheet.write_formula(6, 4, "=SUM(E4:E6)")
    chart = book.add_chart({"type": "column"})
    chart.add_series({"values": "=Events!$E$4:$E$6"})
    sheet.insert_chart("H3", chart)
    other.write_row(0, 0, ["Person", "Booked", "Written", "Gap"])
    book.close()
    return out.getvalue()


def _formula_of(data: bytes, tab: str) -> str:
    import io

    import openpyxl

    sheet = openpyxl.load_workbook(io.BytesIO(data))[tab]
    return " ".join(str(cell.value) for row in sheet.iter_rows() for cell in row if str(cell.value).startswith("="))


def test_visit_chores_and_chore_done(larkmoor: Desk) -> None:
    only(larkmoor, "visit-chores", "chore-done")
    put(
        larkmoor,
        "outreach",
        "early",
        "Hill School",
        at("2027-03-29T10:00"),
        at("2027-03-29T11:00"),
        categories=("school",),
    )
    go(larkmoor, "2027-03-10 09:00")
    (hill,) = tasks_of(larkmoor)
    assert (hill.start, hill.end) == (at("2027-03-27T10:00"), at("2027-03-28T10:00"))
    assert hill.start.utcoffset() != hill.end.utcoffset()  # type: ignore[union-attr]
    v11 = put(
        larkmoor,
        "outreach",
        "v11",
        "Sea School: Moon (24 pupils)",
        at("2027-04-07T10:00"),
        at("2027-04-07T12:00"),
        categories=("school",),
        colour="teal",
    )
    go(larkmoor, "2027-03-11 09:00")
    chore = tasks_of(larkmoor)[1]
    assert (chore.title, chore.section, chore.person, chore.source) == (
        f"Pack for {v11.title}",
        "packing",
        "tomas",
        "v11",
    )
    assert (chore.start, chore.end) == (at("2027-04-05T10:00"), at("2027-04-06T10:00"))
    put(
        larkmoor,
        "outreach",
        "v11",
        v11.title,
        at("2027-04-07T11:00"),
        at("2027-04-07T13:00"),
        categories=("school",),
        colour="teal",
    )
    go(larkmoor, "2027-03-12 09:00")
    moved = tasks_of(larkmoor)[1]
    assert (moved.uid, moved.start, moved.end) == (chore.uid, at("2027-04-05T11:00"), at("2027-04-06T11:00"))
    path = next(each for each in larkmoor.events("chores") if chore.uid in each.name)
    ticked = path.read_bytes().replace(b"STATUS:NEEDS-ACTION", b"STATUS:COMPLETED\r\nCOMPLETED:20270405T160500Z")
    larkmoor.write(f"chores/{path.name}", ticked)
    go(larkmoor, "2027-04-05 16:06")
    assert said_in(larkmoor, "front-desk") == [f"Pack for {v11.title} done at 16:05"]
    (event,) = read_events((larkmoor.folder / "calendars/outreach/v11.ics").read_bytes(), AZORES)
    assert event.colour == "seagreen"
    assert path.read_bytes() == ticked
    go(larkmoor, "2027-04-05 16:10")
    assert len(said_in(larkmoor, "front-desk")) == 1
    (larkmoor.folder / "calendars/outreach/early.ics").unlink()
    go(larkmoor, "2027-04-06 09:00")
    assert [task.title for task in tasks_of(larkmoor)] == [chore.title]


def test_night_ended(larkmoor: Desk) -> None:
    only(larkmoor, "night-ended")
    put(
        larkmoor,
        "domes",
        "m81",
        "M 81 with wide camera",
        at("2027-03-27T22:00"),
        at("2027-03-28T03:00"),
        attendees=("ines@example.org",),
    )
    put(larkmoor, "domes", "gone", "M 1", at("2027-03-27T22:00"), at("2027-03-28T02:30"))
    go(larkmoor, "2027-03-27 20:00")
    (larkmoor.folder / "calendars/domes/gone.ics").unlink()
    go(larkmoor, "2027-03-28 02:00")
    (told,) = go(larkmoor, "2027-03-28 03:20")["runs"]
    assert told["reason"] == "late by 20 minutes"
    rows = read_cells((larkmoor.folder / "night-book.xlsx").read_bytes(), tab="Sheet1")
    assert rows[1] == [datetime(2027, 3, 27), time(22), time(3), 4, "M 81 with wide camera"]
    assert len(rows) == 2
    (task,) = tasks_of(larkmoor)
    assert (task.title, task.person, task.end) == ("Note on M 81 with wide camera", "ines", at("2027-03-29T12:00"))
    assert go(larkmoor, "2027-03-28 03:21")["runs"] == []
