"""Several events in one file, several of one UID, and events without any: each is known, or the change is refused."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.calendars.foreign import calendar, event, lines_of, without
from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.engine.clock import RealClock
from whenvoca.errors import SourceFault
from whenvoca.places.calendar.folder import FolderCalendar
from whenvoca.values.zones import load_zone

BOOKKEEPING = ("DTSTAMP", "SEQUENCE", "LAST-MODIFIED")
HOLIDAYS = [event(f"day {n}", start=f"DTSTART;VALUE=DATE:202704{n:02}") for n in range(1, 9)]
FIND = "when requests gains a row\n\nfind events in cal as days\n  where  start after 2027-04-01\n"


@pytest.fixture(params=["folder", "file"])
def hall(desk: Desk, request: pytest.FixtureRequest) -> Desk:
    where = "cal" if request.param == "folder" else "cal/all.ics"
    desk.settings(SETTINGS, REQUESTS, f'[places.cal]\nkind = "calendar"\n{request.param} = "{where}"\n')
    return desk


def compact(path: Path) -> list[str]:
    return without(lines_of(path.read_bytes()), *BOOKKEEPING)


def test_each_of_a_batch_is_changed(hall: Desk) -> None:
    path = hall.write("cal/all.ics", calendar(*HOLIDAYS))
    hall.workflow('when cal gains an event\n  existing  yes\n\nchange event\n  location  "Hall"\n')
    done = hall.run("run", "--json").json["runs"]
    assert [each["outcome"] for each in done] == ["done"] * 8
    assert path.read_bytes().count(b"LOCATION:Hall") == 8
    assert hall.run("run", "--json").json["runs"] == []  # our own writes are ours
    assert hall.run("undo", *(str(each["run"]) for each in done), "--yes").code == 0
    assert sorted(compact(path)) == sorted(without(lines_of(calendar(*HOLIDAYS)), *BOOKKEEPING))
    assert [each.name for each in path.parent.iterdir()] == ["all.ics"]


def test_what_is_deleted_comes_back_into_its_file(hall: Desk) -> None:
    path = hall.write("cal/all.ics", calendar(*HOLIDAYS).replace(b"PRODID:x", b"PRODID:x\r\nX-WR-CALNAME:Days"))
    before = path.read_bytes()
    hall.workflow("when cal gains an event\n  existing  yes\n\ndelete event\n")
    done = hall.run("run", "--yes", "--json")
    assert [each["outcome"] for each in done.json["runs"]] == ["done"] * 8, done.out
    assert hall.run("agenda", "--from", "2027-04-01", "--json").json["events"] == []
    assert hall.run("undo", *(str(each["run"]) for each in done.json["runs"]), "--yes").code == 0
    assert [each.name for each in path.parent.glob("*.ics")] == ["all.ics"]
    assert sorted(lines_of(path.read_bytes())) == sorted(lines_of(before))


TWINS = (
    event("same", "LOCATION:Attic").replace("SUMMARY:same", "SUMMARY:Choir"),
    event("same", "LOCATION:Hall", start="DTSTART:20270318T100000Z").replace("SUMMARY:same", "SUMMARY:Band"),
)


@pytest.mark.parametrize("said", ["rename band to Rehearsal", "delete band on 18 march 2027", "move band to 17:00"])
def test_one_of_two_with_one_uid_is_not_changed(hall: Desk, said: str) -> None:
    path = hall.write("cal/all.ics", calendar(*TWINS))
    assert len(hall.run("agenda", "--from", "2027-03-15", "--json").json["events"]) == 2
    told = hall.say(said, "--in", "cal", "--now", "2027-03-15 10:00")
    assert told.code != 0
    assert 'several events have the UID "same"' in told.out + told.err
    assert path.read_bytes() == calendar(*TWINS)


def test_two_files_with_one_uid(desk: Desk) -> None:
    desk.settings(SETTINGS, '[places.cal]\nkind = "calendar"\nfolder = "cal"\n')
    paths = [desk.write(f"cal/{name}.ics", calendar(part)) for name, part in zip(("same", "copy"), TWINS, strict=True)]
    told = desk.say("rename band to Rehearsal", "--in", "cal", "--now", "2027-03-15 10:00")
    assert told.code != 0
    assert "cal/copy.ics and cal/same.ics" in told.out + told.err
    assert [each.read_bytes() for each in paths] == [calendar(part) for part in TWINS]


@pytest.mark.parametrize("order", [1, -1])
def test_of_several_versions_the_newest_counts_and_the_others_stay(hall: Desk, order: int) -> None:
    old = event("same", "LOCATION:Attic", "SEQUENCE:1")
    new = event("same", "LOCATION:Hall", "SEQUENCE:3", start="DTSTART:20270318T100000Z")
    path = hall.write("cal/all.ics", calendar(*(old, new)[::order]))
    (shown,) = hall.run("agenda", "--from", "2027-03-15", "--json").json["events"]
    assert shown["location"] == "Hall"
    assert hall.say("rename same to Rehearsal", "--in", "cal", "--now", "2027-03-15 10:00").code == 0
    assert calendar(old)[40:-20] in path.read_bytes()
    (shown,) = hall.run("agenda", "--from", "2027-03-15", "--json").json["events"]
    assert (shown["title"], shown["location"]) == ("Rehearsal", "Hall")


def test_an_event_without_a_uid_is_shown_changed_and_undone(hall: Desk) -> None:
    data = calendar(event("", "LOCATION:Hall").replace("SUMMARY:", "SUMMARY:Band"), event("other"))
    path = hall.write("cal/all.ics", data)
    shown = hall.run("agenda", "--from", "2027-03-15", "--json").json["events"]
    (uid,) = (each["uid"] for each in shown if each["title"] == "Band")
    assert hall.say("rename band to Rehearsal", "--in", "cal", "--now", "2027-03-15 10:00").code == 0
    assert f"UID:{uid}" in lines_of(path.read_bytes())
    assert hall.say("move rehearsal to 17:00", "--in", "cal", "--now", "2027-03-15 10:00").code == 0
    assert hall.run("undo", "2", "1", "--yes").code == 0
    assert {"SUMMARY:Band", "DTSTART:20270317T100000Z", f"UID:{uid}"} <= set(lines_of(path.read_bytes()))
    assert hall.say("delete band on 17 march 2027", "--in", "cal", "--now", "2027-03-15 10:00").code == 0
    assert b"SUMMARY:Band" not in path.read_bytes()
    assert b"UID:other" in path.read_bytes()


def test_twins_that_somebody_told_apart_meanwhile_are_changed(tmp_path: Path) -> None:
    for name, part in zip(("same", "copy"), TWINS, strict=True):
        (tmp_path / f"{name}.ics").write_bytes(calendar(part))
    place = FolderCalendar("cal", tmp_path, "cal", load_zone("Atlantic/Azores"), clock=RealClock())
    assert len(place.all_events()) == 2
    with pytest.raises(SourceFault, match="several events have the UID"):
        place.find_event("same")
    (tmp_path / "copy.ics").write_bytes(calendar(event("other")))
    found = place.find_event("same")
    assert found is not None
    assert found.event.title == "Choir"


@pytest.mark.parametrize("line", ["X-WHENVOCA-FILE:notes.txt", "X-WHENVOCA-FILE:../other.ics"])
def test_a_calendar_does_not_say_into_which_file_it_is_put_back(desk: Desk, line: str) -> None:
    desk.settings(SETTINGS, '[places.cal]\nkind = "calendar"\nfolder = "cal"\n')
    notes = desk.write("cal/notes.txt", b"mine")
    path = desk.write("cal/band.ics", calendar(event("band")).replace(b"PRODID:x", f"PRODID:x\r\n{line}".encode()))
    assert desk.say("delete band on 17 march 2027", "--in", "cal").code == 0
    assert not path.exists()
    assert desk.run("undo", "1", "--yes").code == 0
    assert notes.read_bytes() == b"mine"
    assert [each.name for each in path.parent.glob("*.ics")] == ["band.ics"]
