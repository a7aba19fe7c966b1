"""Workflows about events: gained, changed, lost, in folder and file; look-ups of rows; choosing and explaining
events."""

from __future__ import annotations

import csv

import pytest

from tests.conftest import SETTINGS, Desk
from tests.drive.test_following import path_of_event

PLACES = """
[places.outreach]
kind = "calendar"
folder = "outreach"
[places.staff]
kind = "calendar"
file = "staff.ics"
[places.list]
kind = "sheet"
file = "list.csv"
key = "Event"
kinds = { Moves = "number" }
[places.log]
kind = "sheet"
file = "log.csv"
create = true
"""


@pytest.fixture
def hall(desk: Desk) -> Desk:
    desk.settings(SETTINGS, PLACES)
    desk.write("list.csv", "Event,Title,Venue,Moves\n")
    desk.write("outreach/a.ics", path_of_event("a", "Sea School", more="CATEGORIES:school\r\n"))
    return desk


def rows(desk: Desk, name: str = "list.csv") -> list[dict[str, str]]:
    return list(csv.DictReader(desk.read(name).splitlines()))


ENTER = (
    'when outreach gains an event\n  where  category is "school"\nadd row to list\n  Event  event.uid\n  Title  '
    "title\n  Moves  0\n"
)
FOLLOW = (
    "when outreach changes an event\n  fields  start, location\nchange row in list as entry\n  where  Event is "
    "event.uid\n"
    "  Venue  event.location\n  Moves  entry.Moves + 1\nif it fails\n  add row to log\n    What  event.title\n    Is  "
    "  reason\n"
    '  fail "{event.title} is not listed"\n'
)


def test_events_that_come_into_the_set_become_rows_and_others_do_not(hall: Desk) -> None:
    hall.workflow(ENTER, "enter")
    assert "nothing new" in hall.run("run").err  # what was there before does not count
    hall.write("outreach/b.ics", path_of_event("b", "Hill School", more="CATEGORIES:school\r\n"))
    hall.write("outreach/c.ics", path_of_event("c", "New lamps"))
    assert hall.run("run").code == 0
    assert [row["Title"] for row in rows(hall)] == ["Hill School"]
    hall.write("outreach/c.ics", path_of_event("c", "New lamps", more="CATEGORIES:school\r\n"))
    assert hall.run("run").code == 0
    assert [row["Title"] for row in rows(hall)] == ["Hill School", "New lamps"]
    assert "nothing new" in hall.run("run").err


def test_existing_yes_takes_up_what_was_there(hall: Desk) -> None:
    hall.workflow(ENTER.replace("\nadd row", "\n  existing  yes\nadd row"), "enter")
    assert hall.run("run").code == 0
    assert [row["Title"] for row in rows(hall)] == ["Sea School"]


def test_only_named_fields_count_as_a_change_and_an_unlisted_event_is_a_fault(hall: Desk) -> None:
    hall.workflow(FOLLOW, "follow").write("list.csv", "Event,Title,Venue,Moves\na,Sea School,,0\n")
    hall.run("run")
    hall.write("outreach/a.ics", path_of_event("a", "Other title", more="CATEGORIES:school\r\n"))
    assert "nothing new" in hall.run("run").err
    hall.write("outreach/a.ics", path_of_event("a", "Other title", "20270316T120000", "LOCATION:South dome\r\n"))
    assert hall.run("run").code == 0
    assert [(row["Venue"], row["Moves"]) for row in rows(hall)] == [("South dome", "1")]
    hall.write("outreach/z.ics", path_of_event("z", "Stray"))
    hall.run("run")
    hall.write("outreach/z.ics", path_of_event("z", "Stray", "20270317T120000"))
    result = hall.run("run", "--json")
    assert result.code == 1
    assert result.json["runs"][0]["reason"] == "Stray is not listed"
    assert rows(hall, "log.csv")[0]["Is"].startswith("no row of list fits: where  Event is event.uid (event z)")


def test_one_event_is_chosen_and_explained(hall: Desk) -> None:
    hall.workflow(ENTER, "enter")
    hall.run("run")
    told = hall.run("explain", "--event", "a", "--json").json["explanations"]
    assert "was so before the workflow looked for the first time" in told[0]["reason"]
    assert told[0]["fields"]["title"] == "Sea School"
    assert hall.run("run", "--event", "a").code == 0
    assert [row["Event"] for row in rows(hall)] == ["a"]
    assert hall.run("run", "--event", "none").code == 2
    assert hall.run("run", "--row", "3").code == 2


def test_several_calendars_and_any_calendar(hall: Desk) -> None:
    hall.workflow(
        'when outreach, staff loses an event\nadd row to log\n  What  "{event.title} of {event.calendar}"\n', "two"
    )
    hall.workflow('when any calendar loses an event\nadd row to log\n  What  "any: {event.title}"\n', "any")
    hall.write("staff.ics", path_of_event("s", "Council call"))
    assert hall.run("check").code == 0
    hall.run("run")
    (hall.folder / "outreach/a.ics").unlink()
    hall.write("staff.ics", path_of_event("t", "Another"))
    assert hall.run("run").code == 0
    assert sorted(row["What"] for row in rows(hall, "log.csv")) == [
        "Council call of staff",
        "Sea School of outreach",
        "any: Council call",
        "any: Sea School",
    ]


def test_an_event_made_by_one_workflow_starts_another_in_the_same_run(hall: Desk) -> None:
    hall.workflow(ENTER, "enter").workflow(
        "when log gains a row\ncreate event in outreach\n  title     What\n  start     2027-04-01 at 10:00\n  "
        'category  "school"\n',
        "make",
    )
    hall.write("log.csv", "What\n")
    hall.run("run")
    hall.write("log.csv", "What\nPort School\n")
    result = hall.run("run", "--json")
    assert [(run["workflow"], run["outcome"]) for run in result.json["runs"]] == [("enter", "done"), ("make", "done")]
    assert [row["Title"] for row in rows(hall)] == ["Port School"]
    number = next(run["run"] for run in result.json["runs"] if run["workflow"] == "make")
    taken = hall.run("undo", str(number), "--yes", "--json")
    assert [run["workflow"] for run in taken.json["runs"]] == ["enter", "make"]
    assert rows(hall) == []


def test_broken_file_is_told_and_its_event_is_not_lost(hall: Desk) -> None:
    hall.workflow("when outreach loses an event\nadd row to log\n  What  event.title\n", "lost")
    hall.run("run")
    hall.write("outreach/a.ics", path_of_event("a", "Sea School")[:80])
    result = hall.run("run")
    assert result.code == 1
    assert "outreach/a.ics" in result.err
    assert "is cut in the middle" in result.err
    assert not (hall.folder / "log.csv").exists()
    hall.write("outreach/a.ics", path_of_event("a", "Sea School", more="CATEGORIES:school\r\n"))
    assert hall.run("run").code == 0
    assert not (hall.folder / "log.csv").exists()


def test_rows_are_found_and_gone_through(hall: Desk) -> None:
    hall.write("list.csv", "Event,Title,Venue,Moves\na,One,Hall,1\nb,Two,Dome,2\nc,Three,Hall,\n")
    hall.write("log.csv", "What\n")
    hall.workflow(
        'when log gains a row\n  where  What is filled\nfind rows in list as halls\n  where  Venue is "hall" and '
        "Moves is filled\n\n"
        'find row in list as three\n  where  Title is "THREE"\n\nfor each one in halls\n  change row one\n    Moves  '
        "one.Moves + 1\n\n"
        'change row three\n  Venue  "{count(halls)} halls"\n',
        "count",
    )
    hall.run("run")
    hall.write("log.csv", "What\ngo\n")
    assert hall.run("run").code == 0
    assert [(row["Venue"], row["Moves"]) for row in rows(hall)] == [("Hall", "2"), ("Dome", "2"), ("1 halls", "")]


MASTER = path_of_event("wash", "Mirror wash", more="RRULE:FREQ=WEEKLY;COUNT=4\r\n")


def with_override(hour: int) -> str:
    """The series, its second occurrence moved to that hour."""
    inner = MASTER[MASTER.index("BEGIN:VEVENT") : MASTER.index("END:VCALENDAR")]
    start = inner[inner.index("DTSTART") :].split("\r\n")[0].partition(":")[2]
    second = f"{start[:6]}{int(start[6:8]) + 7:02}"
    lines = [
        f"RECURRENCE-ID;TZID=Atlantic/Azores:{second}{start[8:]}"
        if each.startswith("RRULE")
        else f"DTSTART;TZID=Atlantic/Azores:{second}T{hour:02}0000"
        if each.startswith("DTSTART")
        else f"DTEND;TZID=Atlantic/Azores:{second}T{hour + 1:02}0000"
        if each.startswith("DTEND")
        else each
        for each in inner.split("\r\n")
    ]
    return MASTER.replace("END:VCALENDAR", "\r\n".join(lines) + "END:VCALENDAR")


def test_a_moved_occurrence_that_another_program_puts_back_is_a_change(hall: Desk) -> None:
    hall.write("log.csv", "What,Was,Is\n")
    hall.workflow(
        "when outreach changes an event\n  fields  start\nadd row to log\n  What  title\n  Was  old.start as time\n  "
        "Is  event.start as time\n",
        "log",
    )
    told = []
    for text in (MASTER, with_override(7), with_override(8), MASTER, with_override(9)):
        hall.write("outreach/wash.ics", text)
        assert hall.run("run").code == 0
        told = [(row["Was"], row["Is"]) for row in rows(hall, "log.csv")]
    usual = told[0][0]
    assert told == [(usual, "07:00"), ("07:00", "08:00"), ("08:00", usual), (usual, "09:00")]
    assert "nothing new" in hall.run("run").err
