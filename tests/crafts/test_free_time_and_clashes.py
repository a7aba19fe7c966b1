"""When people and places are free, and what is booked twice."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import EXAMPLES, Desk
from whenvoca.calendars.clashing import WAYS, TakenTime, find_clashes
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.writer import write_calendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
NOW = "2027-03-17 12:00"


def at(text: str) -> datetime:
    return datetime.fromisoformat(f"2027-{text}").replace(tzinfo=AZORES)


def event(
    title: str, begin: str, end: str, *people: str, location: str = "", busy: str = "yes", answer: str = ""
) -> Event:
    attendees = tuple(Attendee(f"{each}@example.org", answer=answer) for each in people)
    return Event(
        uid=title, title=title, start=at(begin), end=at(end), attendees=attendees, location=location, busy=busy
    )  # type: ignore[arg-type]


@pytest.fixture
def hall(desk: Desk) -> Desk:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    return desk


def put(desk: Desk, calendar: str, *events: Event) -> None:
    for each in events:
        desk.write(f"calendars/{calendar}/{each.uid}.ics", write_calendar(each, STAMP))


def only(desk: Desk, name: str) -> None:
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem != name:
            path.unlink()


def said(desk: Desk, path: str) -> list[str]:
    file = desk.folder / "chat" / f"{path}.jsonl"
    return [json.loads(line)["text"] for line in file.read_text().splitlines()] if file.exists() else []


def test_free_nights(hall: Desk) -> None:
    only(hall, "free-nights")
    put(hall, "domes", event("M 42", "03-17 20:30", "03-18 04:00"))
    hall.write("calendars/staff.ics", write_calendar(event("Away", "03-18 19:00", "03-19 04:00", "ines"), STAMP))
    assert hall.run("check").code == 0
    assert hall.run("run", "free-nights", "--give", "span=3 hours", "--now", NOW).code == 0
    nights = ["Fri 19 Mar 20:00 to 05:00", "Sat 20 Mar 20:00 to 05:00", "Sun 21 Mar 20:00 to 05:00"]
    assert said(hall, "rooms/front-desk") == ["\n".join(["Free for 3 hours:", *nights])]
    put(hall, "domes", event("All week", "03-17 12:00", "03-25 12:00"))
    assert hall.run("run", "free-nights", "--give", "span=3 hours", "--now", NOW).code == 0
    assert said(hall, "rooms/front-desk")[1:] == ["No free night of 3 hours in the next 7."]


def test_free_hour(hall: Desk) -> None:
    only(hall, "free-hour")
    hall.write(
        "calendars/staff.ics", write_calendar(event("Ines teaches", "03-22 08:30", "03-22 16:30", "ines"), STAMP)
    )
    put(
        hall,
        "domes",
        event("Tomas works", "03-23 08:30", "03-23 10:00", "tomas"),
        event("Somebody else", "03-24 08:30", "03-24 17:30", "rui"),
        event("For nobody", "03-25 08:30", "03-25 17:30"),
        event("Declined", "03-26 08:30", "03-26 17:30", "ines", answer="DECLINED"),
    )
    assert hall.run("run", "free-hour", "--now", NOW).code == 0
    wanted = "Tue 23 Mar 10:15\nWed 24 Mar 08:30\nFri 26 Mar 08:30"
    assert said(hall, "people/ines") == said(hall, "people/tomas") == [wanted]


STEP = "when asked\n\nfind free-time in domes as gaps\n  from  2027-03-22\n  until  2027-03-24\n{fields}"
STEP += 'add row to log\n  What  join(each g in gaps: g.start as "d HH:mm", " ")\n'
STEP += '  Is    join(each g in gaps: g.end as "d HH:mm", " ")\n'
LENGTHS = [
    ("", "22 00:00 22 12:00", "22 10:00 24 00:00"),
    ("  length  13 hours\n", "22 12:00", "24 00:00"),
    ("  between  09:00 and 17:00\n", "22 09:00 22 12:00 23 09:00", "22 10:00 22 17:00 23 17:00"),
    (
        "  between  09:00 and 17:00\n  apart  30 minutes\n  length  30 minutes\n",
        "22 09:00 22 12:30 23 09:00",
        "22 09:30 22 17:00 23 17:00",
    ),
    ("  between  09:00 and 13:00\n  every  2 hours\n", "22 09:00 23 09:00 23 11:00", "22 10:00 23 10:00 23 12:00"),
    ("  days  tuesday\n", "23 08:30", "23 17:30"),
    ("  days  tuesday, monday\n  first  1\n", "22 08:30", "22 10:00"),
    ("  each  day\n", "22 00:00 23 00:00", "22 10:00 24 00:00"),
    ("  between  22:00 and 02:00\n", "22 00:00 22 22:00 23 22:00", "22 02:00 23 02:00 24 00:00"),
]


@pytest.mark.parametrize(("fields", "starts", "ends"), LENGTHS, ids=[each[0].strip() or "whole" for each in LENGTHS])
def test_stretches_of_free_time(hall: Desk, fields: str, starts: str, ends: str) -> None:
    put(
        hall,
        "domes",
        event("Busy", "03-22 10:00", "03-22 12:00"),
        event("Not busy", "03-22 13:00", "03-22 15:00", busy="no"),
    )
    hall.workflow(STEP.format(fields=fields), "gaps")
    done = hall.run("run", "gaps", "--now", NOW)
    assert done.code == 0, done
    row = hall.read("log.csv").splitlines()[1].split(",")
    assert [row[0], row[3]] == [starts, ends]


WRONG = [
    ("  between  09:00\n", "between takes two times of day"),
    ("  between  09:00 and 3\n", "between takes times of day"),
    ("  days  the 1st\n", "days takes days of the week"),
    ("  resources  halls\n", 'there is no calendar "halls"'),
    ("  each  week\n", 'each is never "week"'),
    ('  people  "nobody"\n', 'there is nobody "nobody"'),
]


@pytest.mark.parametrize(("fields", "told"), WRONG, ids=[each[1] for each in WRONG])
def test_what_is_written_wrongly_is_a_fault(hall: Desk, fields: str, told: str) -> None:
    only(hall, "")
    done = hall.workflow(STEP.format(fields=fields), "gaps").run("check")
    assert done.code == 1
    assert told in done.out


def test_clash_list(hall: Desk) -> None:
    only(hall, "clash-list")
    put(
        hall,
        "domes",
        event("M 42", "03-18 21:30", "03-19 02:00", "ines", location="West dome"),
        event("Flat fields", "03-19 01:00", "03-19 02:00", "ines", location="west  Dome"),
    )
    put(hall, "outreach", event("Visit", "03-20 10:00", "03-20 11:00", "ines"))
    assert hall.run("run", "clash-list", "--now", "2027-03-17 08:00").code == 0
    line = "M 42 and Flat fields, Fri 19 Mar 01:00–02:00"
    assert said(hall, "people/ana") == [f"Booked twice:\nWest dome: {line}\nines: {line}"]
    shown = hall.run("agenda", "domes", "outreach", "--clashes", "--from", "2027-03-17")
    assert shown.out.count("Flat fields [domes]") == 3
    told = hall.run("agenda", "domes", "--clashes", "--from", "2027-03-17", "--json").json["clashes"]
    assert [each["by"] for each in told] == ["calendar", "location", "person"]
    (hall.folder / "calendars/domes/Flat fields.ics").unlink()
    assert hall.run("run", "clash-list", "--now", "2027-03-18 08:00").code == 0
    assert len(said(hall, "people/ana")) == 1
    assert "nothing is booked twice" in hall.run("agenda", "domes", "--clashes", "--from", "2027-03-17").err


def test_month_list(hall: Desk) -> None:
    only(hall, "month-list")
    for number in range(24):
        place = ("West dome", "East dome")[number % 2]
        day, hours = f"03-{number + 1:02d}", number % 5 + 1
        put(hall, "domes", event(f"E {number}", f"{day} 08:00", f"{day} {8 + hours:02d}:00", location=place))
    assert hall.run("run", "month-list", "--now", "2027-04-01 07:00").code == 0
    read = hall.run("read", "sheet", "month-list", "--json").json
    columns = {each["name"]: [cell["value"] for cell in each["cells"]] for each in read["columns"]}
    places, hours_of = columns["Location"], columns["Hours"]
    assert places == ["East dome"] * 12 + ["West dome"] * 12
    assert hours_of[:12] == sorted(hours_of[:12], reverse=True)
    assert hours_of[12:] == sorted(hours_of[12:], reverse=True)
    assert round(sum(float(each) for each in columns["Share"]), 9) == 1
    before = (hall.folder / "activity.xlsx").read_bytes()
    assert hall.run("run", "month-list", "--now", "2027-04-01 08:00").code == 0
    assert (hall.folder / "activity.xlsx").read_bytes() == before


SPANS = st.lists(st.tuples(st.integers(0, 60), st.integers(1, 12), st.integers(0, 2)), max_size=12)


@given(SPANS)
def test_clashes_are_those_of_each_pair(spans: list[tuple[int, int, int]]) -> None:
    base = datetime(2027, 3, 27, 20, tzinfo=UTC)
    held = []
    for number, (begin, length, place) in enumerate(spans):
        start = base + timedelta(minutes=15 * begin)
        made = Event(uid=f"{number}", start=start, end=start + timedelta(minutes=15 * length), location=f"P{place}")
        held.append(TakenTime("domes", made))
    found = find_clashes(held, {"domes": AZORES}, WAYS)
    told = {(each.way, *sorted((each.first.event.uid, each.second.event.uid))) for each in found}
    wanted = set()
    for i, one in enumerate(held):
        for other in held[:i]:
            a, b = one.event, other.event
            if a.start < b.end and b.start < a.end:  # type: ignore[operator]
                wanted.add(("calendar", *sorted((a.uid, b.uid))))
                if a.location == b.location:
                    wanted.add(("location", *sorted((a.uid, b.uid))))
    assert told == wanted
    assert len(found) == len(wanted)
    assert all(each.start < each.end for each in found)
