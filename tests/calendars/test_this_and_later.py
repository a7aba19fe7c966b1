"""A series that is parted at one of its occurrences: both parts or none, and all of it."""

from __future__ import annotations

import pytest

from tests.calendars.foreign import calendar, event, lines_of, without
from tests.conftest import SETTINGS, Desk

BAND = event(
    "band",
    "DURATION:PT1H",
    "RRULE:FREQ=WEEKLY;COUNT=6",
    "EXDATE:20270331T100000Z",
    "RDATE:20270324T180000Z",
    "X-LOOK;A=b:c",
    "GEO:37.7;-25.6",
    start="DTSTART:20270303T100000Z",
)
OWN = event(
    "band", "RECURRENCE-ID:20270324T100000Z", "DURATION:PT1H", "LOCATION:Attic", start="DTSTART:20270324T110000Z"
)
MOVE = "move band on 17 march 2027 and all later ones to 15:00"
DELETE = "delete band on 17 march 2027 and all later ones"


@pytest.fixture(params=["folder", "file"])
def hall(desk: Desk, request: pytest.FixtureRequest) -> Desk:
    where = "cal" if request.param == "folder" else "cal/all.ics"
    desk.settings(SETTINGS, f'[places.cal]\nkind = "calendar"\n{request.param} = "{where}"\n')
    return desk


def agenda(hall: Desk) -> list[tuple[str, str]]:
    shown = hall.run("agenda", "--from", "2027-03-01", "--until", "2027-05-01", "--json").json["events"]
    return [(each["start"][:16], each["title"]) for each in shown]


def test_both_parts_are_whole(hall: Desk) -> None:
    path = hall.write("cal/all.ics", calendar(BAND))
    assert hall.say(MOVE, "--in", "cal").code == 0
    assert agenda(hall) == [
        ("2027-03-03T09:00", "band"),
        ("2027-03-10T09:00", "band"),
        ("2027-03-17T15:00", "band"),
        ("2027-03-24T15:00", "band"),
        ("2027-03-24T23:00", "band"),  # the date that was put in, as much later
        ("2027-04-07T15:00", "band"),  # the 31st stays out
    ]
    texts = [each.read_text(encoding="utf-8") for each in path.parent.glob("*.ics")]
    assert "".join(texts).count("X-LOOK;A=b:c") == "".join(texts).count("GEO:37.7") == 2
    assert hall.run("undo", "1", "--yes").code == 0
    names = ("DTSTAMP", "SEQUENCE", "RRULE", "RDATE")
    assert sorted(without(lines_of(path.read_bytes()), *names))[-1] == "X-LOOK;A=b:c"
    assert len(agenda(hall)) == 6
    assert {start[11:] for start, _ in agenda(hall)} == {"09:00", "10:00", "17:00"}


def test_nothing_is_done_where_a_changed_one_would_be_lost(hall: Desk) -> None:
    path = hall.write("cal/all.ics", calendar(BAND, OWN))
    said = hall.say(MOVE, "--in", "cal")
    assert said.code == 1
    assert 'of "band" one occurrence from 2027-03-24 on would be lost' in said.out
    assert path.read_bytes() == calendar(BAND, OWN)
    assert [each.name for each in path.parent.iterdir()] == ["all.ics"]


def test_deleting_takes_those_with_it_that_were_changed_and_undo_brings_them_back(hall: Desk) -> None:
    path = hall.write("cal/all.ics", calendar(BAND, OWN))
    before = agenda(hall)
    assert hall.say(DELETE, "--in", "cal").code == 0
    assert [start for start, _ in agenda(hall)] == ["2027-03-03T09:00", "2027-03-10T09:00"]
    assert hall.run("undo", "1", "--yes").code == 0
    assert agenda(hall) == before
    assert sorted(without(lines_of(path.read_bytes()), "DTSTAMP", "SEQUENCE")) == sorted(
        without(lines_of(calendar(BAND, OWN)), "DTSTAMP", "SEQUENCE")
    )


def test_single_dates_have_no_later_part(hall: Desk) -> None:
    data = calendar(event("band", "DURATION:PT1H", "RDATE:20270317T100000Z,20270324T100000Z"))
    path = hall.write("cal/all.ics", data.replace(b"20270317T100000Z\r\nSUMM", b"20270303T100000Z\r\nSUMM"))
    before = path.read_bytes()
    said = hall.say(DELETE, "--in", "cal")
    assert "stands on single dates" in said.out
    assert path.read_bytes() == before


@pytest.mark.parametrize(
    ("said", "code", "told"),
    [
        ("band @ 2027-03-17T11:00:00+01:00", 0, ""),
        ("band @ 2027-03-17T10:00Z", 0, ""),
        ("band @ 20270317T100000Z", 0, ""),
        ("band @ 2027-03-17T10:00", 2, '"2027-03-17T10:00" has no zone'),
        ("band @ 2027-03-18T10:00Z", 2, "there is no event band @ 20270318T100000Z"),
        ("band @ 2027-03-17", 2, "there is no event band @ 20270317"),
        ("band @ soon", 2, "there is no event band @ soon"),
    ],
)
def test_one_occurrence_is_chosen_by_its_original_start(hall: Desk, said: str, code: int, told: str) -> None:
    path = hall.write("cal/all.ics", calendar(BAND))
    hall.workflow('when asked about an event of cal\n\nchange event\n  location  "Attic"\n', "one")
    assert hall.run("run").code == 0  # the calendar is known
    result = hall.run("run", "one", "--event", said)
    assert (result.code, told in result.err) == (code, True), result
    lines = lines_of(path.read_bytes())
    assert lines.count("LOCATION:Attic") == lines.count("RECURRENCE-ID:20270317T100000Z") == (code == 0)
