"""Many events at once: changed, deleted, by occurrences or as a whole; each listed first, and taken back."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest
from msgspec.structs import replace

from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.event import Event
from whenvoca.calendars.writer import write_calendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
PLACES = '[places.domes]\nkind = "calendar"\nfolder = "domes"\n[places.halls]\nkind = "calendar"\nfolder = "halls"\n'


def made(uid: str, day: str, hour: int, **more: object) -> Event:
    start = datetime.fromisoformat(f"2027-{day}").replace(hour=hour, tzinfo=AZORES)
    return replace(Event(uid=uid, title=uid, start=start, end=start.replace(hour=hour + 1)), **more)


@pytest.fixture
def full(desk: Desk) -> Desk:
    desk.settings(SETTINGS, PLACES)
    weekly = made("weekly", "03-22", 10, rule="FREQ=WEEKLY;COUNT=4", location="Hall")
    for each in (weekly, made("once", "03-23", 9, location="Hall"), made("other", "03-24", 9, location="Dome")):
        desk.write(f"domes/{each.uid}.ics", write_calendar(each, STAMP))
    desk.write("halls/guest.ics", write_calendar(made("guest", "03-25", 9, location="hall"), STAMP))
    return desk


def starts(desk: Desk) -> list[str]:
    told = desk.run("agenda", "--from", "2027-03-20", "--until", "2027-05-01", "--json").json["events"]
    return sorted(f"{each['title']} {each['start'][5:16]}" for each in told)


BEFORE = [
    *("guest 03-25T09:00", "once 03-23T09:00", "other 03-24T09:00"),
    *(f"weekly {day}T10:00" for day in ("03-22", "03-29", "04-05", "04-12")),
]
LATER = 'where  location is "Hall"\n  start  e.start + 2 hours\n'
CASES = [
    (
        f"change events in domes, halls as e\n  from  2027-03-21\n  until  2027-03-30\n  {LATER}",
        [
            *("guest 03-25T11:00", "once 03-23T11:00", "other 03-24T09:00"),
            *("weekly 03-22T12:00", "weekly 03-29T12:00", "weekly 04-05T10:00", "weekly 04-12T10:00"),
        ],
    ),
    (
        f"change events in domes as e\n  {LATER}",
        [
            *("guest 03-25T09:00", "once 03-23T11:00", "other 03-24T09:00"),
            *(f"weekly {day}T12:00" for day in ("03-22", "03-29", "04-05", "04-12")),
        ],
    ),
    (
        'delete events in domes\n  from  2027-03-21\n  until  2027-03-30\n  where  location is "Hall"\n',
        ["guest 03-25T09:00", "other 03-24T09:00", "weekly 04-05T10:00", "weekly 04-12T10:00"],
    ),
    ('delete events in all calendars\n  where  location is "Hall"\n', ["other 03-24T09:00"]),
    ('delete events in domes\n  where  location is "nowhere"\n', BEFORE),
]


@pytest.mark.parametrize(("step", "wanted"), CASES)
def test_all_that_fit_are_changed_and_taken_back(full: Desk, step: str, wanted: list[str]) -> None:
    assert starts(full) == sorted(BEFORE)
    full.workflow(f"when asked\n\n{step}", "many")
    rehearsed = full.run("rehearse", "many")
    assert rehearsed.code == 0, rehearsed
    assert starts(full) == sorted(BEFORE)
    assert full.run("run", "many").code == 0
    assert starts(full) == sorted(wanted)
    assert full.run("undo", "1", "--yes").code == 0
    assert starts(full) == sorted(BEFORE)


def test_many_deletions_stop_at_the_brake(full: Desk) -> None:
    for number in range(25):
        full.write(f"domes/n{number}.ics", write_calendar(made(f"n{number}", "04-20", 9), STAMP))
    full.workflow('when asked\n\ndelete events in domes\n  where  title begins with "n"\n', "many")
    held = full.run("run", "many")
    assert held.code == 4
    assert len(starts(full)) == len(BEFORE) + 25
    assert full.run("run", "many", "--yes").code == 0
    assert starts(full) == sorted(BEFORE)


PLAN = """
when asked

create event in domes as first
  title   "Clean mirror"
  start   2027-04-20 at 09:00
create event in halls as second
  title   "Clean hall"
  start   2027-04-20 at 11:00
create event in halls as third
  title   "Clean stairs"
  start   2027-04-21 at 11:00
"""


@pytest.mark.parametrize(
    ("step", "gone"),
    [
        ('take back "plan" in domes', {"Clean mirror"}),
        ('take back "plan" in domes, halls', {"Clean mirror", "Clean hall"}),
        ('take back "plan" in all calendars\n  where  title is not "Clean hall"', {"Clean mirror"}),
        ('take back "plan" in all calendars\n  from  2027-04-20 at 10:00\n  until  2027-04-21', {"Clean hall"}),
        ('take back "other" in all calendars', set()),
    ],
)
def test_what_a_workflow_made_goes_and_what_a_person_changed_stays(full: Desk, step: str, gone: set[str]) -> None:
    full.workflow(PLAN, "plan").workflow(f"when asked\n\n{step}\n", "away")
    ran = full.run("run", "plan")
    assert ran.code == 0, ran
    [changed] = [each for each in full.folder.glob("halls/*.ics") if "Clean stairs" in each.read_text()]
    full.write(str(changed.relative_to(full.folder)), changed.read_text().replace("Clean stairs", "Sweep stairs"))
    made = {"Clean mirror", "Clean hall", "Sweep stairs"}
    result = full.run("run", "away")
    assert result.code == 0, result
    assert {each[:-12] for each in starts(full)} & {*made, "Clean stairs"} == made - gone
    touched = "which somebody has changed" in " ".join(full.run("runs", "--json").out.split())
    assert touched is (step.endswith("halls") or "where" in step)
    assert full.run("undo", "2", "--yes").code == 0
    assert {each[:-12] for each in starts(full)} >= made
