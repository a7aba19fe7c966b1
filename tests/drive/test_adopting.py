"""What a mirror takes as its own: by a UID, or what its workflow made before it was a mirror."""

from __future__ import annotations

import re
import shutil

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk, Result

FIELDS = "  title  Title\n  start  Day at From\n  end    Day at To\n"
CREATE = f"when requests gains a row\n\ncreate event in domes\n{FIELDS}"
MIRROR = f"when requests gains, changes or loses a row\n\nmirror event in domes\n{FIELDS}"
ADOPT = f"{MIRROR}  uid    Booking\n"
OTHER = f"\nmirror event in domes as second\n{FIELDS}  clash  allow\n"
ROWS = [f",,R-{n},M {n},0{n}.03.2027,20:00,22:00" for n in (1, 2, 3)]


@pytest.fixture
def kept(desk: Desk) -> Desk:
    return desk.settings(SETTINGS, REQUESTS, '[places.east]\nkind = "calendar"\nfolder = "east"\n')


def titles(desk: Desk) -> list[str]:
    found = [re.search(rb"SUMMARY:([^\r]*)", path.read_bytes()) for path in desk.events()]
    return sorted(each[1].decode() for each in found if each)


def reasons(result: Result) -> str:
    return " | ".join(each["reason"] for each in result.json["runs"])


def retitle(desk: Desk, old: str, new: str) -> str:
    (path,) = [each for each in desk.events() if f"SUMMARY:{old}\r".encode() in each.read_bytes()]
    path.write_bytes(path.read_bytes().replace(f"SUMMARY:{old}".encode(), f"SUMMARY:{new}".encode()))
    return path.stem


def test_create_that_becomes_a_mirror_keeps_the_events_it_made(kept: Desk) -> None:
    kept.workflow(CREATE).rows(*ROWS)
    kept.run("run")
    before = {path.name for path in kept.events()}
    kept.workflow(MIRROR)
    assert kept.run("run").code == 0
    assert {path.name for path in kept.events()} == before
    kept.rows(ROWS[0].replace("M 1", "M 9"), *ROWS[1:])
    assert kept.run("run").code == 0
    assert titles(kept) == ["M 2", "M 3", "M 9"]
    kept.rows(ROWS[0], ROWS[1])
    assert kept.run("run").code == 0
    assert titles(kept) == ["M 1", "M 2"]


def test_create_that_becomes_a_mirror_without_its_ledger_keeps_them_too(kept: Desk) -> None:
    kept.workflow(CREATE).rows(*ROWS)
    kept.run("run")
    before = {path.name: path.read_bytes() for path in kept.events()}
    shutil.rmtree(kept.folder / ".whenvoca")
    kept.workflow(MIRROR)
    assert kept.run("run").code == 0
    assert {path.name: path.read_bytes() for path in kept.events()} == before


def test_what_a_person_changed_before_the_mirror_is_a_dispute_of_that_field_alone(kept: Desk) -> None:
    kept.workflow(CREATE).rows(*ROWS)
    kept.run("run")
    retitle(kept, "M 1", "Mine")
    kept.rows(ROWS[0].replace("20:00", "21:00"), *ROWS[1:]) and kept.workflow(MIRROR)
    done = kept.run("run", "--json")
    assert done.code == 1
    assert "changed in domes by another hand, and not as its row says: title Mine there, M 1 here" in reasons(done)
    assert titles(kept) == ["M 2", "M 3", "Mine"]
    (mine,) = [path for path in kept.events() if b"SUMMARY:Mine" in path.read_bytes()]
    assert b"T210000" in mine.read_bytes()  # the start, which only the row changed, was written
    assert "nothing new" in kept.run("run").err  # told once


def test_uid_of_an_event_of_our_own_that_a_person_retitled_is_a_dispute(kept: Desk) -> None:
    kept.workflow(CREATE).rows(ROWS[0])
    kept.run("run")
    uid = retitle(kept, "M 1", "Mine")
    kept.workflow(ADOPT).rows(ROWS[0].replace(",,", f",{uid},", 1))
    done = kept.run("run", "--json")
    assert (done.code, titles(kept)) == (1, ["Mine"])
    assert "title Mine there, M 1 here; left as it is" in reasons(done)


FOREIGN = (
    "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//y//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20270101T000000Z\r\n"
    "DTSTART;TZID=Atlantic/Azores:202703{day:02d}T200000\r\nDTEND;TZID=Atlantic/Azores:202703{day:02d}T220000\r\n"
    "SUMMARY:{title}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
)


def foreign(desk: Desk) -> list[str]:
    """Three events of another program, the first with another title than its row; the rows that name them."""
    for n, title in ((1, "theirs"), (2, "M 2"), (3, "M 3")):
        desk.write(f"domes/f{n}.ics", FOREIGN.format(uid=f"f{n}", day=n, title=title))
    return [row.replace(",,", f",f{n},", 1) for n, row in enumerate(ROWS, 1)]


def test_event_of_another_program_is_adopted_as_it_is_and_what_differs_is_told(kept: Desk) -> None:
    kept.workflow(ADOPT).rows(*foreign(kept))
    done = kept.run("run", "--json")
    assert (done.code, titles(kept)) == (1, ["M 2", "M 3", "theirs"])
    assert "stands in domes already, and not as its row says: title theirs there, M 1 here" in reasons(done)
    assert "nothing new" in kept.run("run").err


def test_as_in_source_writes_over_it_and_shows_old_and_new(kept: Desk) -> None:
    kept.workflow(f"{ADOPT}  disputed  as in source\n").rows(*foreign(kept))
    assert "title: theirs → M 1" in kept.run("rehearse").out
    assert kept.run("run").code == 0
    assert titles(kept) == ["M 1", "M 2", "M 3"]


@pytest.mark.parametrize("workflow", [MIRROR, ADOPT], ids=["made", "adopted"])
def test_row_that_goes_while_the_workflow_is_edited_is_not_forgotten(kept: Desk, workflow: str) -> None:
    rows = foreign(kept) if workflow is ADOPT else ROWS
    kept.workflow(workflow).rows(*rows)
    kept.run("run")
    kept.workflow(workflow + OTHER.replace("in domes", "in east")).rows(*rows[:2])
    held = kept.run("run")
    assert held.code == 4
    assert "1 of its events belong to rows that are not there" in held.err
    kept.run("run", "--yes")
    assert len(kept.events()) == 2


def test_check_tells_of_rows_with_several_events_before_a_mirror_runs(kept: Desk) -> None:
    kept.workflow(CREATE + OTHER.replace("mirror", "create")).rows(*ROWS[:1])
    kept.run("run")
    assert len(kept.events()) == 2
    kept.workflow(MIRROR)
    told = kept.run("check")
    assert "2 events in domes were made of R-1 before, and a mirror keeps one" in told.err
    failed = kept.run("run", "--json")
    assert (failed.code, len(kept.events())) == (1, 2)
    assert "2 events in domes were made of it before" in reasons(failed)


def test_mirror_that_also_writes_to_its_row_takes_away_that_of_a_lost_row(kept: Desk) -> None:
    kept.workflow(f'{MIRROR}\nchange row\n  Answer  "in"\n').rows(*ROWS)
    assert kept.run("run").code == 0
    kept.rows(*(row.replace(",", "in,", 1) for row in ROWS[:2]))
    assert kept.run("run").code == 0
    assert titles(kept) == ["M 1", "M 2"]
