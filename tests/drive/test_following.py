"""The examples of rows and events that change and go, through the program, as their first lines say."""

from __future__ import annotations

import csv
import re
import shutil
from datetime import datetime, timedelta

import pytest

from tests.conftest import EXAMPLES, Desk
from tests.places.workbooks import plain_workbook
from whenvoca.calendars.event import Event
from whenvoca.calendars.reader import read_events
from whenvoca.demo.larkmoor import HEADINGS
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
VISITS = "Answer;Booking;Visit no;School;Topic;Visit date;Begin;Finish;Pupils;Venue;Contact\n"
DUTIES = ["Answer", "Duty no", "Duty", "Person", "Day", "From", "To"]
LOG = "What,Where,Was,Is,Seen\n"


@pytest.fixture
def larkmoor(desk: Desk) -> Desk:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    return desk


def only(desk: Desk, *names: str) -> Desk:
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem not in names:
            path.unlink()
    return desk


def staff(desk: Desk) -> dict[str, Event]:
    path = desk.folder / "calendars/staff.ics"
    events = read_events(path.read_bytes(), AZORES) if path.exists() else []
    return {event.title: event for event in events}


def in_folder(desk: Desk, calendar: str) -> dict[str, Event]:
    paths = desk.events(f"calendars/{calendar}")
    return {event.title: event for path in paths for event in read_events(path.read_bytes(), AZORES)}


def duty(number: int, start: str = "20:00", answer: str | None = None) -> list[str | None]:
    return [answer, f"D-{number}", f"Watch {number}", "ines", f"{number + 10}.03.2027", start, "23:00"]


def write_duties(desk: Desk, *rows: list[str | None]) -> None:
    desk.write("duties.xlsx", plain_workbook([DUTIES, *rows], tab="Duties"))


# --- duties-mirror


@pytest.fixture
def rota(larkmoor: Desk) -> Desk:
    only(larkmoor, "duties-mirror")
    text = (
        (larkmoor.folder / "whenvoca.toml")
        .read_text()
        .replace('key  = "Duty no"', 'key  = "Duty no"\ndates = "day first"')
    )
    larkmoor.settings(text)
    write_duties(larkmoor, *(duty(n) for n in range(1, 7)))
    return larkmoor


def test_mirror_follows_changed_sorted_deleted_and_withdrawn_rows(rota: Desk) -> None:
    assert rota.run("check").code == 0
    assert rota.run("run").code == 0
    first = staff(rota)
    assert len(first) == 6
    write_duties(rota, duty(6, answer="withdrawn"), duty(5), duty(3), duty(2, "21:00"), duty(1))
    result = rota.run("run", "--json")
    assert result.code == 0
    effects = [effect["verb"] for run in result.json["runs"] for effect in run["effects"]]
    assert sorted(effects) == ["change event", "delete event", "delete event"]
    second = staff(rota)
    assert sorted(second) == ["Watch 1: ines", "Watch 2: ines", "Watch 3: ines", "Watch 5: ines"]
    moved = second["Watch 2: ines"]
    assert isinstance(moved.start, datetime)
    assert (moved.uid, moved.start.hour) == (first["Watch 2: ines"].uid, 21)
    assert [second[f"Watch {n}: ines"] for n in (1, 3, 5)] == [first[f"Watch {n}: ines"] for n in (1, 3, 5)]
    before = rota.snapshot()
    assert "nothing new" in rota.run("run").err
    assert rota.snapshot() == before


def test_mirror_reports_what_both_sides_changed_once_and_overwrites_neither(rota: Desk) -> None:
    rota.run("run")
    path = rota.folder / "calendars/staff.ics"
    path.write_bytes(
        path.read_bytes().replace(
            b"DTSTART;TZID=Atlantic/Azores:20270311T200000", b"DTSTART;TZID=Atlantic/Azores:20270311T190000"
        )
    )
    write_duties(rota, duty(1, "21:30"), *(duty(n) for n in range(2, 7)))
    result = rota.run("run", "--json")
    assert result.code == 1
    (told,) = [run["reason"] for run in result.json["runs"]]
    assert (
        "changed in staff by another hand, and not as its row says: start 11 Mar 2027 19:00 there, 11 Mar 2027 21:30 "
        "here" in told
    )
    start = staff(rota)["Watch 1: ines"].start
    assert isinstance(start, datetime)
    assert start.hour == 19
    assert rota.run("run").code == 0
    # another change, the same dispute
    write_duties(rota, duty(1, "21:30", answer="seen"), *(duty(n) for n in range(2, 7)))
    assert rota.run("run").code == 0


@pytest.mark.parametrize(("rule", "hour"), [("as in source", 21), ("as in copy", 19)])
def test_mirror_settles_a_dispute_as_it_is_told(rota: Desk, rule: str, hour: int) -> None:
    text = (rota.folder / "workflows/duties-mirror.voca").read_text().replace("left alone", rule)
    rota.workflow(text, "duties-mirror").run("run")
    path = rota.folder / "calendars/staff.ics"
    path.write_bytes(path.read_bytes().replace(b":20270311T200000", b":20270311T190000"))
    write_duties(rota, duty(1, "21:30"), *(duty(n) for n in range(2, 7)))
    assert rota.run("run").code == 0
    start = staff(rota)["Watch 1: ines"].start
    assert isinstance(start, datetime)
    assert start.hour == hour


def delete_by_hand(desk: Desk, uid: str) -> None:
    path = desk.folder / "calendars/staff.ics"
    path.write_bytes(
        re.sub(rb"BEGIN:VEVENT\r\nUID:%b.*?END:VEVENT\r\n" % uid.encode(), b"", path.read_bytes(), flags=re.DOTALL)
    )


def test_a_row_that_comes_again_after_it_and_its_event_were_deleted_by_hand_begins_anew(rota: Desk) -> None:
    write_duties(rota, duty(1), duty(2))
    assert rota.run("run").code == 0
    first = staff(rota)["Watch 1: ines"]
    delete_by_hand(rota, first.uid)
    write_duties(rota, duty(2))
    assert rota.run("run").code == 0
    assert list(staff(rota)) == ["Watch 2: ines"]
    write_duties(rota, duty(1), duty(2))
    assert rota.run("run").code == 0
    again = staff(rota)["Watch 1: ines"]
    assert again.uid != first.uid  # one that was taken away is never used again
    delete_by_hand(rota, again.uid)
    write_duties(rota, duty(1, "21:00"), duty(2))
    result = rota.run("run")
    assert (result.code, "taken out of staff by another hand" in result.err + result.out) == (1, True)


def test_emptied_sheet_deletes_nothing_without_a_yes(rota: Desk) -> None:
    write_duties(rota, *(duty(n) for n in range(1, 5)))
    rota.run("run")
    before = staff(rota)
    write_duties(rota)
    held = rota.run("run")
    assert held.code == 4
    assert "nothing is left of what it looks at, which would be 4 deletions" in held.err
    assert staff(rota) == before
    assert rota.run("run").code == 4  # derived anew, held again
    write_duties(rota, *(duty(n) for n in range(1, 5)))
    assert rota.run("run").code == 0  # the rows are back
    assert staff(rota) == before
    write_duties(rota)
    assert rota.run("run", "--yes").code == 0
    assert staff(rota) == {}


# --- visit-changes


def visit(
    number: int,
    *,
    day: str = "07/04/2027",
    begin: str = "10:00",
    end: str = "12:30",
    pupils: int = 24,
    answer: str = "",
    booking: str = "",
) -> str:
    return f"{answer};{booking};V-{number};School {number};Moon;{day};{begin};{end};{pupils};North dome;a@example.org\n"


def bookings(desk: Desk) -> dict[str, str]:
    rows = csv.DictReader(desk.read("school-visits.csv").splitlines(), delimiter=";")
    return {row["Visit no"]: row["Booking"] for row in rows}


def test_visit_changes(larkmoor: Desk) -> None:
    only(larkmoor, "school-visits", "visit-changes")
    larkmoor.write("school-visits.csv", VISITS + visit(11) + visit(12) + visit(14))
    assert larkmoor.run("check").code == 0
    assert larkmoor.run("run").code == 0
    uids = bookings(larkmoor)
    made = in_folder(larkmoor, "outreach")
    assert len(made) == 3
    text = larkmoor.read("school-visits.csv")
    lines = text.splitlines(keepends=True)
    lines[1] = lines[1].replace("10:00", "11:00").replace("12:30", "13:30")
    lines[2] = lines[2].replace("granted", "called off")
    lines[3] = lines[3].replace(";24;", ";30;")
    larkmoor.write("school-visits.csv", "".join(lines))
    result = larkmoor.run("run", "--json")
    assert result.code == 0, result
    assert sorted(run["subject"] for run in result.json["runs"]) == ["V-11", "V-12"]
    events = in_folder(larkmoor, "outreach")
    assert sorted(events) == ["School 11: Moon (24 pupils)", "School 14: Moon (24 pupils)"]
    moved = events["School 11: Moon (24 pupils)"]
    assert isinstance(moved.start, datetime)
    assert (moved.uid, moved.start.isoformat(), moved.end - moved.start) == (
        uids["V-11"],
        "2027-04-07T11:00:00+00:00",
        timedelta(hours=2.5),
    )  # type: ignore[operator]
    assert bookings(larkmoor)["V-12"] == ""
    assert "nothing new" in larkmoor.run("run").err


# --- slot-given-back


def test_slot_given_back(larkmoor: Desk) -> None:
    only(larkmoor, "slot-requests", "slot-given-back")
    head = list(HEADINGS)
    row: list[str | None] = [
        None,
        None,
        None,
        "R-104",
        "17.03.2027",
        "21:30",
        "02:00",
        "M 42",
        "wide camera",
        None,
        None,
    ]
    larkmoor.write("requests.xlsx", plain_workbook([[], [], [], head, row]))
    assert larkmoor.run("run").code == 0
    from tests.places.workbooks import read_cells

    booked = read_cells((larkmoor.folder / "requests.xlsx").read_bytes())[4]
    copy = [*booked[:3], "R-105", *booked[4:]]
    larkmoor.write("requests.xlsx", plain_workbook([[], [], [], head, booked, copy]))
    assert larkmoor.run("run").code == 0
    (path,) = larkmoor.events("calendars/domes")
    path.unlink()
    result = larkmoor.run("run", "--now", "2027-03-12 10:00")
    assert result.code == 0, result
    cells = read_cells((larkmoor.folder / "requests.xlsx").read_bytes())
    assert [row[:3] for row in cells[4:6]] == [["given back 12 Mar 2027", None, None]] * 2
    assert larkmoor.events("calendars/domes") == []
    cells[4][0] = None
    larkmoor.write("requests.xlsx", plain_workbook(cells))
    assert larkmoor.run("run").code == 0
    assert len(larkmoor.events("calendars/domes")) == 1
    (other,) = larkmoor.events("calendars/domes")
    assert other.name != path.name
    larkmoor.write("calendars/domes/x.ics", path_of_event("nobody", "Stray"))
    larkmoor.run("run")
    (larkmoor.folder / "calendars/domes/x.ics").unlink()
    assert larkmoor.run("run").code == 0  # an event that no request knows


def path_of_event(uid: str, title: str, start: str = "20270316T112000", more: str = "") -> str:
    return (
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//x//EN\r\nBEGIN:VEVENT\r\n"
        f"UID:{uid}\r\nDTSTAMP:20270101T000000Z\r\nDTSTART;TZID=Atlantic/Azores:{start}\r\nDURATION:PT1H\r\nSUMMARY:{title}\r\n{more}"
        "END:VEVENT\r\nEND:VCALENDAR\r\n"
    )


# --- change-log


def test_change_log(larkmoor: Desk) -> None:
    only(larkmoor, "change-log")
    text = (larkmoor.folder / "whenvoca.toml").read_text()
    begin, end = text.index('server   = "https://dav'), text.index("# --- tasks")
    larkmoor.settings(text[:begin], 'folder = "calendars/loans"\n', text[end:])
    larkmoor.write("log.csv", LOG)
    wash = path_of_event("wash", "Mirror wash", "20270302T112000", "RRULE:FREQ=WEEKLY;COUNT=8\r\n")
    larkmoor.write("calendars/domes/wash.ics", wash)
    larkmoor.write("calendars/domes/roof.ics", path_of_event("roof", "Roof check"))
    council = path_of_event("council", "Council call", more="ATTENDEE:mailto:ana@example.org\r\n")
    larkmoor.write("calendars/staff.ics", council)
    (larkmoor.folder / "calendars/outreach").mkdir()
    assert larkmoor.run("check").code == 0, larkmoor.run("check")
    now = ("--now", "2027-03-16 18:00")
    assert "nothing new" in larkmoor.run("run", *now).err
    own = wash[wash.index("BEGIN:VEVENT") : wash.index("END:VCALENDAR")].replace("RRULE:FREQ=WEEKLY;COUNT=8\r\n", "")
    own = own.replace(
        "DTSTART;TZID=Atlantic/Azores:20270302T112000",
        "RECURRENCE-ID;TZID=Atlantic/Azores:20270316T112000\r\nDTSTART;TZID=Atlantic/Azores:20270316T134000",
    )
    larkmoor.write("calendars/domes/wash.ics", wash.replace("END:VCALENDAR", own + "END:VCALENDAR"))
    assert larkmoor.run("run", *now).code == 0
    larkmoor.write("calendars/staff.ics", council.replace("ATTENDEE:", "ATTENDEE:mailto:rui@example.org\r\nATTENDEE:"))
    assert larkmoor.run("run", *now).code == 0
    (larkmoor.folder / "calendars/domes/roof.ics").unlink()
    assert larkmoor.run("run", *now).code == 0
    larkmoor.write(
        "calendars/staff.ics", council.replace("ATTENDEE:", "X-OTHER:1\r\nATTENDEE:mailto:rui@example.org\r\nATTENDEE:")
    )
    assert larkmoor.run("run", *now).code == 0
    rows = list(csv.DictReader(larkmoor.read("log.csv").splitlines(keepends=True)))
    assert [[row[name] for name in ("What", "Where", "Was", "Is")] for row in rows] == [
        ["Mirror wash", "domes", "start: 16 Mar 11:20, end: 16 Mar 12:20", "start: 16 Mar 13:40, end: 16 Mar 14:40"],
        ["Council call", "staff", "attendees: ana@example.org", "attendees: ana@example.org, rui@example.org"],
        ["Roof check", "domes", "2027-03-16 11:20", "lost"],
    ]
