"""Questions about how much time something took get the figure that the report gives, with the events behind it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from tests.conftest import SETTINGS, Desk, ids
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.patch import add_events
from whenvoca.calendars.writer import empty_calendar
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
NOW = ("--now", "2027-04-12 10:00")


@pytest.fixture
def hall(desk: Desk) -> Desk:
    desk.settings(SETTINGS, '[places.domes]\nkind = "calendar"\nfolder = "domes"\n')
    ines, tomas = Attendee("ines@example.org"), Attendee("tomas@example.org")
    nights: list[dict[str, Any]] = [
        {"title": "M 42", "start": (3, 5, 22), "location": "West dome", "attendees": (ines,)},
        {"title": "M 81", "start": (3, 31, 22), "location": "West dome", "attendees": (ines, tomas)},
        {"title": "Tour", "start": (3, 9, 10), "location": "Hall", "attendees": (tomas,)},
        {"title": "Day off", "start": (3, 10, 10), "location": "Hall", "busy": "no"},
        {"title": "Roof work", "start": (4, 6, 9), "location": "East dome"},
        {"title": "Autumn fair", "start": (10, 9, 9), "year": 2026, "location": "Hall"},
    ]
    (desk.folder / "domes").mkdir()
    for number, each in enumerate(nights):
        start = datetime(each.pop("year", 2027), *each.pop("start"), tzinfo=AZORES)
        event = Event(uid=str(number), start=start, end=start + timedelta(hours=4), **each)
        (desk.folder / f"domes/{number}.ics").write_bytes(add_events(empty_calendar(), [event], STAMP))
    return desk


QUESTIONS = [
    ("how many hours was the west dome booked last month?", "6 hours in 2 events, Mon 1 Mar to Wed 31 Mar", 2),
    ("how many hours were booked in march", "10 hours in 3 events, Mon 1 Mar to Wed 31 Mar", 3),
    ("how many hours did tomas have in march?", "6 hours in 2 events", 2),
    ("how much time did tomas spend in the hall in march?", "4 hours in 1 event", 1),
    ("how many hours were booked this month?", "6 hours in 2 events, Thu 1 Apr to Fri 30 Apr", 2),
    ("how many hours was the hall used in october?", "4 hours in 1 event, Thu 1 Oct 2026 to Sat 31 Oct 2026", 1),
    ("how long was roof work last week?", "4 hours in 1 event, Mon 5 Apr to Sun 11 Apr", 1),
    ("how many hours was the moon base booked last month?", "0 hours in 0 events", 0),
]


@pytest.mark.parametrize(("text", "told", "count"), QUESTIONS, ids=ids(QUESTIONS))
def test_the_figure_and_the_events_behind_it(hall: Desk, text: str, told: str, count: int) -> None:
    lines = hall.run("say", text, *NOW).out.splitlines()
    assert lines[0].startswith(told)
    assert len(lines) == 1 + count


def test_who_had_the_most_is_what_the_report_tells(hall: Desk) -> None:
    told = hall.run("say", "who had the most time in march?", *NOW).out.splitlines()
    assert told == ["10 hours in 3 events, Mon 1 Mar to Wed 31 Mar", "  ines: 6 hours", "  tomas: 6 hours"]
    report = hall.run("report", "--from", "2027-03-01", "--until", "2027-04-01", "--by", "person", "--json", *NOW).json
    assert report["total"] == {"hours": 10.0, "count": 3}
    assert {row["person"]: row["hours"] for row in report["tables"][0]["rows"]} == {"ines": 6.0, "tomas": 6.0}


OTHERS = [
    "how many events are on friday?",
    "how long is the tour?",
    "who had the keys?",
    "how many hours until the tour?",
]


@pytest.mark.parametrize("text", OTHERS)
def test_other_questions_are_left_to_others(hall: Desk, text: str) -> None:
    assert " hours in " not in hall.run("say", text, *NOW).out
