"""The example workflows do what their first lines say, through the installed program."""

from __future__ import annotations

import csv
import shutil
from datetime import date, datetime, timedelta

import pytest

from tests.conftest import EXAMPLES, Desk
from tests.places.workbooks import plain_workbook, read_cells
from whenvoca.calendars.event import Event
from whenvoca.calendars.reader import read_events
from whenvoca.demo.larkmoor import HEADINGS
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
REQUESTS = list(HEADINGS)
VISITS = "Answer;Booking;Visit no;School;Topic;Visit date;Begin;Finish;Pupils;Venue;Contact\n"


@pytest.fixture
def larkmoor(desk: Desk) -> Desk:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    return desk


def events_of(desk: Desk, calendar: str) -> dict[str, Event]:
    found = {}
    for path in desk.events(f"calendars/{calendar}"):
        for event in read_events(path.read_bytes(), AZORES):
            found[event.title] = event
    return found


def test_slot_requests(larkmoor: Desk) -> None:
    rows = [
        ["Requests"],
        [],
        [],
        REQUESTS,
        [
            None,
            None,
            None,
            "R-104",
            "17.03.2027",
            "21:30",
            "02:00",
            "M 42",
            "wide camera",
            "ines@example.org, tomas@example.org",
            "x",
        ],
        [None, None, None, "R-105", "31.02.2027", "21:30", "02:00", "M 42", "wide camera", "ines@example.org", None],
        [None, None, None, "R-106", "18.03.2027", "21:30", "02:00", "M 1", None, None, None],
    ]
    larkmoor.write("requests.xlsx", plain_workbook(rows))
    assert larkmoor.drive("check", "slot-requests").code == 0
    assert larkmoor.drive("run", "slot-requests").code == 1
    events = events_of(larkmoor, "domes")
    assert list(events) == ["M 42 with wide camera"]
    event = events["M 42 with wide camera"]
    assert isinstance(event.start, datetime)
    assert isinstance(event.end, datetime)
    assert event.start.isoformat() == "2027-03-17T21:30:00-01:00"
    assert event.end.isoformat() == "2027-03-18T02:00:00-01:00"
    assert [each.address for each in event.attendees] == ["ines@example.org", "tomas@example.org"]
    assert [each.to_timedelta() for each in event.alarms] == [timedelta(minutes=-25)]
    cells = read_cells((larkmoor.folder / "requests.xlsx").read_bytes())
    assert cells[4][:3] == [
        "granted",
        event.uid,
        (larkmoor.folder / f"calendars/domes/{event.uid}.ics").resolve().as_uri(),
    ]
    assert cells[5][0] == "not granted: requests.xlsx, Slots!E6: 31.02.2027 is no date: February 2027 has 28 days"
    assert cells[6][0] is None
    before = larkmoor.snapshot()
    assert larkmoor.drive("run", "slot-requests").code == 0
    assert larkmoor.snapshot() == before


def test_school_visits(larkmoor: Desk) -> None:
    larkmoor.write(
        "school-visits.csv",
        VISITS + ";;V-11;Sea School;Moon;07/04/2027;10:00;12:30;24;North dome;a@example.org\n;;V-12;Hill "
        "School;Sun;08/04/2027;;;18;Hall;\n"
        ";;V-13;Port School;Stars;31/04/2027;14:00;15:00;20;Hall;\n",
    )
    assert larkmoor.drive("run", "school-visits").code == 1
    events = events_of(larkmoor, "outreach")
    assert sorted(events) == ["Hill School: Sun (18 pupils)", "Sea School: Moon (24 pupils)"]
    first, second = events["Sea School: Moon (24 pupils)"], events["Hill School: Sun (18 pupils)"]
    assert isinstance(first.start, datetime)
    assert first.start.isoformat() == "2027-04-07T10:00:00+00:00"
    assert (first.colour, first.location, first.categories) == ("teal", "North dome", ("school",))
    assert (second.start, second.end, second.last_day) == (date(2027, 4, 8), date(2027, 4, 9), date(2027, 4, 8))
    told = {
        row["Visit no"]: row["Answer"]
        for row in csv.DictReader(larkmoor.read("school-visits.csv").splitlines(), delimiter=";")
    }
    assert told == {
        "V-11": "granted",
        "V-12": "granted",
        "V-13": "not granted: school-visits.csv, F4: 31/04/2027 is no date: April 2027 has 30 days",
    }


def test_every_field_of_an_event_is_written(larkmoor: Desk) -> None:
    larkmoor.write(
        "requests.xlsx",
        plain_workbook(
            [
                [],
                [],
                [],
                REQUESTS,
                [None, None, None, "R-1", "17.03.2027", "21:30", None, "M 42", "x", "ines", "every week on wednesday"],
            ]
        ),
    )
    (larkmoor.folder / "workflows/slot-requests.voca").write_text(
        'when requests gains a row\ncreate event in staff as slot\n  title "Night"\n  zone "Europe/Lisbon"\n  start '
        "Night-of at From\n  length 1 hour 15 minutes\n"
        '  location "Dome"\n  details """\n    One, two\n    {Target}\n    """\n  attendees Observers, "tomas"\n  '
        'optional "rui@example.org"\n  invite yes\n  answer-wanted yes\n'
        "  reminder 40 minutes before, 1 day before\n  repeat every 2 weeks on wednesday until 2027-04-30\n  busy "
        'tentative\n  priority 1\n  colour "teal"\n'
        '  category "a, b", "c"\n  private yes\n  clash allow\n\nchange row\n  Answer slot.zone\n  Link '
        "slot.whole-day\n  Booking slot.length\n",
        encoding="utf-8",
    )
    assert larkmoor.drive("run", "slot-requests").code == 0
    (event,) = read_events((larkmoor.folder / "calendars/staff.ics").read_bytes(), AZORES)
    assert isinstance(event.start, datetime)
    assert str(event.start.tzinfo) == "Europe/Lisbon"
    assert event.start.hour == 21
    assert event.end - event.start == timedelta(minutes=75)  # type: ignore[operator]
    assert (event.location, event.details, event.busy, event.priority, event.private) == (
        "Dome",
        "One, two\nM 42",
        "tentative",
        1,
        True,
    )
    assert (event.colour, event.categories, event.organizer) == ("teal", ("a, b", "c"), "desk@example.org")
    assert [(each.address, each.optional, each.answer, each.answer_wanted) for each in event.attendees] == [
        ("ines@example.org", False, "NEEDS-ACTION", True),
        ("tomas@example.org", False, "NEEDS-ACTION", True),
        ("rui@example.org", True, "NEEDS-ACTION", True),
    ]
    assert sorted(event.rule.split(";")) == ["BYDAY=WE", "FREQ=WEEKLY", "INTERVAL=2", "UNTIL=20270430T225959Z"]
    assert [each.to_seconds() for each in event.alarms] == [-2400, -86400]
    assert read_cells((larkmoor.folder / "requests.xlsx").read_bytes())[4][0] == "Europe/Lisbon"
