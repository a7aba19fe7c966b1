"""A mirror below `for each` keeps one thing for each element: those whose element left the list go."""

from __future__ import annotations

import csv
import shutil
from collections.abc import Sequence

import pytest

from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.reader import read_events
from whenvoca.values.zones import load_zone

PLACES = """
[places.talks]
kind = "sheet"
file = "talks.csv"
key = "No"
[places.cal]
kind = "calendar"
{calendar}
[places.rota]
kind = "sheet"
file = "rota.csv"
key = ["Talk", "Person"]
"""
WHEN = "when talks gains, changes or loses a row\n  where  Day is filled\n\n"
EVENTS = f"""{WHEN}for each person in split(Speakers)
  mirror event in cal
    title  "{{person}}: {{row.No}}"
    start  Day at 20:00
"""
ROWS = f"""{WHEN}for each person in split(Speakers)
  mirror row in rota
    Talk    row.No
    Person  person
    Room    Room
"""
NESTED = f"""{WHEN}for each person in split(Speakers)
  for each hall in split(Room)
    mirror event in cal
      title  "{{person}} in {{hall}}"
      start  Day at 20:00
"""


@pytest.fixture(params=['folder = "cal"', 'file = "cal.ics"'])
def talks(desk: Desk, request: pytest.FixtureRequest) -> Desk:
    desk.settings(SETTINGS, PLACES.format(calendar=request.param))
    desk.write("rota.csv", "Talk,Person,Room,Done\n")
    return desk


def put(desk: Desk, *rows: Sequence[str]) -> None:
    path = desk.folder / "talks.csv"
    with path.open("w", encoding="utf-8", newline="") as file:
        csv.writer(file).writerows([["No", "Day", "Speakers", "Room"], *rows])
    desk.write("talks.csv", path.read_bytes())


def titles(desk: Desk) -> list[str]:
    """What stands in the calendar."""
    zone = load_zone("Atlantic/Azores")
    paths = [*desk.events("cal"), *desk.folder.glob("cal.ics")]
    return sorted(event.title for path in paths for event in read_events(path.read_bytes(), zone))


def test_events_follow_the_elements_of_a_list(talks: Desk) -> None:
    talks.workflow(EVENTS)
    put(talks, ["1", "2027-03-12", "ana; rui; ana", ""], ["2", "2027-03-13", "ana", ""])
    assert talks.run("run").code == 0
    assert titles(talks) == ["ana: 1", "ana: 1", "ana: 2", "rui: 1"]
    put(talks, ["2", "2027-03-13", "", ""], ["1", "2027-03-12", "zoe; ana", ""])
    assert [e["verb"] for each in talks.run("rehearse", "--json").json["runs"] for e in each["effects"]].count(
        "delete event"
    ) == 3
    assert talks.run("run").code == 0
    assert titles(talks) == ["ana: 1", "zoe: 1"]
    assert talks.run("undo", "3", "4", "--yes").code == 0
    assert titles(talks) == ["ana: 1", "ana: 1", "ana: 2", "rui: 1"]
    put(talks)
    assert talks.run("run", "--yes").code == 0
    assert titles(talks) == []


def test_rows_follow_the_elements_of_a_list_and_what_another_hand_changed_stays(talks: Desk) -> None:
    talks.workflow(ROWS)
    put(talks, ["1", "2027-03-12", "ana; rui; zoe", "A"])
    assert talks.run("run").code == 0
    talks.write("rota.csv", talks.read("rota.csv").replace("1,rui,A", "1,rui,B"))
    put(talks, ["1", "2027-03-12", "ana", "A"])
    ran = talks.run("run", "--json")
    assert (ran.code, [each["outcome"] for each in ran.json["runs"]]) == (1, ["failed"])
    assert "its row was changed by another hand (Room); it is left there" in ran.json["runs"][0]["reason"]
    assert [line for line in talks.read("rota.csv").splitlines() if line] == [
        "Talk,Person,Room,Done",
        "1,ana,A,",
        "1,rui,B,",
    ]


def test_elements_of_a_list_within_a_list_go_with_either(talks: Desk) -> None:
    talks.workflow(NESTED)
    put(talks, ["1", "2027-03-12", "ana; rui", "A; B"])
    assert talks.run("run").code == 0
    put(talks, ["1", "2027-03-12", "ana; rui", "B; C"])
    assert talks.run("run").code == 0
    assert titles(talks) == ["ana in B", "ana in C", "rui in B", "rui in C"]
    put(talks, ["1", "2027-03-12", "rui", "C"])
    assert talks.run("run").code == 0
    assert titles(talks) == ["rui in C"]


def test_elements_that_go_are_found_by_their_marks_where_the_ledger_is_lost(talks: Desk) -> None:
    talks.workflow(EVENTS)
    put(talks, ["1", "2027-03-12", "ana; rui", ""])
    assert talks.run("run").code == 0
    shutil.rmtree(talks.folder / ".whenvoca")
    put(talks, ["1", "2027-03-12", "rui", ""])
    assert talks.run("run").code == 0
    assert titles(talks) == ["rui: 1"]


def test_the_brake_counts_elements_that_go(talks: Desk) -> None:
    talks.workflow("brake  2 deletions\n" + EVENTS)
    put(talks, ["1", "2027-03-12", "a; b; c; d", ""])
    assert talks.run("run").code == 0
    put(talks, ["1", "2027-03-12", "a", ""])
    held = talks.run("run")
    assert (held.code, len(titles(talks))) == (4, 4)
    assert "slots: 3 deletions at once, and its brake allows 2" in held.err
    assert talks.run("run", "--yes").code == 0
    assert titles(talks) == ["a: 1"]
