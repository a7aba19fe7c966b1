"""The rules that decide the hard cases, each by the failure that it prevents."""

from __future__ import annotations

import json
import os
import shutil
import threading
import time
from pathlib import Path

import pytest

from tests.conftest import HEAD, REQUESTS, SETTINGS, WORKFLOW, Desk
from whenvoca.calendars.reader import read_events
from whenvoca.engine.lineage import Lineage
from whenvoca.places.files import wait_settled
from whenvoca.values.zones import load_zone

R1, R2 = ",,R-1,M 42,17.03.2027,21:30,02:00", ",,R-2,M 13,18.03.2027,20:00,22:00"
BAD = ",,R-3,M 81,31.02.2027,20:00,22:00"


def lose_ledger(desk: Desk) -> None:
    shutil.rmtree(desk.folder / ".whenvoca")


def answers(desk: Desk) -> dict[str, str]:
    import csv

    return {row["No"]: row["Answer"] for row in csv.DictReader(desk.read().splitlines())}


# --- identity


def test_running_twice_makes_nothing_twice_and_writes_no_byte(slots: Desk) -> None:
    slots.rows(R1, R2)
    assert slots.run("run").code == 0
    before = slots.snapshot()
    again = slots.run("run")
    assert again.code == 0
    assert "nothing new" in again.err
    assert slots.snapshot() == before
    assert len(slots.events()) == 2


def test_lost_ledger_makes_nothing_twice(slots: Desk) -> None:
    slots.rows(R1, R2)
    slots.run("run")
    before = slots.snapshot()
    lose_ledger(slots)
    slots.run("run")
    assert slots.snapshot() == before


def test_lost_ledger_and_emptied_answer_take_the_event_as_made(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    events = slots.snapshot()
    lose_ledger(slots)
    slots.rows(R1)  # Answer and Booking empty again
    result = slots.run("run", "--json")
    assert result.code == 0
    assert [effect["verb"] for effect in result.json["runs"][0]["effects"]] == ["take event as made", "change row"]
    assert slots.snapshot() == events


def test_event_that_a_person_changed_is_not_overwritten_but_named(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    (path,) = slots.events()
    path.write_bytes(path.read_bytes().replace(b"SUMMARY:M 42", b"SUMMARY:Mine"))
    slots.rows(R1)
    result = slots.run("run")
    assert result.code == 1
    assert 'its event "Mine" stands already and was changed by another hand (title)' in " ".join(result.out.split())
    assert b"SUMMARY:Mine" in path.read_bytes()


def test_event_as_we_last_wrote_it_follows_its_row(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    slots.rows(R1.replace("M 42", "M 43"))  # answered again after a change
    assert slots.run("run").code == 0
    (path,) = slots.events()
    (event,) = read_events(path.read_bytes(), load_zone("Atlantic/Azores"))
    assert (event.title, event.sequence) == ("M 43", 1)


def test_event_that_was_deleted_comes_again_under_a_new_uid(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    (path,) = slots.events()
    path.unlink()
    slots.rows(R1)
    slots.run("run")
    (fresh,) = slots.events()
    assert fresh.name != path.name


def test_renamed_workflow_stays_the_same_by_formerly(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    (slots.folder / "workflows/slots.voca").unlink()
    slots.workflow('formerly "slots"\n' + WORKFLOW, "bookings")
    slots.rows(R1)
    assert slots.run("run").code == 0
    assert len(slots.events()) == 1


def test_new_title_or_inserted_step_makes_nothing_twice(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    slots.workflow(WORKFLOW.replace('"Requests"', '"Other"').replace("create event", "let x = 1\n\ncreate event"))
    slots.rows(R1)
    slots.run("run")
    assert len(slots.events()) == 1


def test_repetition_keeps_its_identity_when_the_list_is_sorted(slots: Desk) -> None:
    text = (
        "when requests gains a row\n  where  Answer is empty\nfor each name in split(Title)\n  create event in "
        'domes as one\n    title  name\n    start  Day at From\nchange row\n  Answer  "x"\n'
    )
    slots.workflow(text).rows(",,R-1,a; b; a,17.03.2027,21:30,22:00")
    assert slots.run("run").code == 0
    assert len(slots.events()) == 3
    names = {path.name for path in slots.events()}
    slots.rows(",,R-1,a; a; b,17.03.2027,21:30,22:00")
    assert slots.run("run").code == 0
    assert {path.name for path in slots.events()} == names


def test_mark_goes_there_and_back() -> None:
    lineage = Lineage("root", "my flow", "R/1 · é", "slot", "x.1/y.2")
    assert Lineage.from_mark(lineage.to_mark()) == lineage
    assert lineage.to_uid(1) != lineage.to_uid(2)
    assert Lineage.from_mark("else") is None


def test_marks_of_another_root_are_another_hand(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    assert slots.run("claim", "--new-root").code == 0
    slots.rows(R1)
    slots.run("run")
    assert len(slots.events()) == 2


def test_copied_workspace_refuses_to_run_until_claim(slots: Desk, tmp_path: Path) -> None:
    slots.rows(R1)
    slots.run("run")
    copy = tmp_path / "copy"
    shutil.copytree(slots.folder, copy)
    original, slots.folder = slots.folder, copy
    refused = slots.run("run")
    assert refused.code == 2
    assert "copied or moved" in refused.err
    assert "whenvoca claim" in refused.err
    assert slots.run("claim").code == 0
    assert slots.run("run").code == 0
    slots.folder = original


def test_missing_root_is_written_and_said(desk: Desk) -> None:
    desk.settings(SETTINGS.replace('root = "5b0c6a54-6f0e-4f0b-9a43-2f6a3f0c1d7e"\n', "# kept\n"), REQUESTS).workflow(
        WORKFLOW
    ).rows(R1)
    result = desk.run("check")
    assert "had no root of identities" in result.err
    text = (desk.folder / "whenvoca.toml").read_text()
    assert 'root = "' in text
    assert "# kept" in text
    assert "had no root" not in desk.run("run").err


# --- seeing


def test_own_writes_set_nothing_off_in_the_workflow_that_wrote_them(slots: Desk) -> None:
    slots.workflow('when requests gains a row\nadd row to requests\n  No     "{row.No}-copy"\n  Title  Title\n').rows(
        R1
    )
    slots.run("run")
    assert [*answers(slots)] == ["R-1", "R-1-copy"]
    slots.run("run")
    assert [*answers(slots)] == ["R-1", "R-1-copy"]


def test_writes_of_one_workflow_start_another_in_the_same_run(slots: Desk) -> None:
    slots.workflow(
        'when requests gains a row\n  where  Answer is "granted"\nadd row to log\n  What  Title\n', "tell"
    ).rows(R1)
    assert slots.run("run").code == 0
    assert slots.read("log.csv").splitlines() == ["What", "M 42"]
    slots.run("run")
    assert len(slots.read("log.csv").splitlines()) == 2


def test_workflows_that_start_each_other_are_stopped_with_the_chain(desk: Desk) -> None:
    places = REQUESTS + '[places.second]\nkind = "sheet"\nfile = "second.csv"\nkey = "No"\n'
    desk.settings(SETTINGS, places).rows(",,1,x,,,")
    desk.rows(name="second.csv", head="No,Title\n")
    there = (
        'when requests gains a row\n  where  Title is filled\nadd row to second\n  No     "{row.No}1"\n  Title  Title\n'
    )
    desk.workflow(there, "there")
    desk.workflow(there.replace("requests", "first").replace("second", "requests").replace("first", "second"), "back")
    result = desk.run("run")
    assert result.code == 1
    assert "there → back → there would go round without end" in result.err
    assert len(desk.read().splitlines()) == 3


def test_circle_that_can_be_seen_is_a_fault_of_check(desk: Desk) -> None:
    places = REQUESTS + '[places.second]\nkind = "sheet"\nfile = "second.csv"\nkey = "No"\n'
    desk.settings(SETTINGS, places).rows()
    desk.rows(name="second.csv", head="No\n")
    desk.workflow("when requests gains a row\nadd row to second\n  No  row.No\n", "there")
    desk.workflow("when second gains a row\nadd row to requests\n  No  row.No\n", "back")
    result = desk.run("check")
    assert result.code == 1
    assert "these workflows would start each other without end: back → there → back" in result.out


def test_editing_a_where_sets_nothing_off_for_rows_seen_before(slots: Desk) -> None:
    slots.workflow(WORKFLOW.replace("Answer is empty", 'Title is "none"')).rows(R1)
    slots.run("run")
    slots.workflow(WORKFLOW)
    assert "nothing new" in slots.run("run").err


def test_existing_no_leaves_what_was_there_before(slots: Desk) -> None:
    slots.workflow(WORKFLOW.replace("  where  Answer is empty", "  existing  no")).rows(R1)
    slots.run("run")
    assert slots.events() == []
    slots.rows(R1, R2)
    slots.run("run")
    assert len(slots.events()) == 1


def test_a_row_that_comes_into_the_set_is_gained(slots: Desk) -> None:
    slots.workflow(WORKFLOW.replace("Answer is empty", "Answer is empty and Title is filled")).rows(
        ",,R-1,,17.03.2027,21:30,02:00"
    )
    slots.run("run")
    assert slots.events() == []
    slots.rows(R1)
    slots.run("run")
    assert len(slots.events()) == 1


def test_corrected_row_runs_again_after_a_failed_run(slots: Desk) -> None:
    slots.rows(R1, BAD)
    assert slots.run("run").code == 1
    assert answers(slots)["R-3"] == "not granted: requests.csv, E3: 31.02.2027 is no date: February 2027 has 28 days"
    quiet = slots.run("run")
    assert quiet.code == 0
    assert "1 row that failed before waits for a correction" in quiet.err
    slots.write("requests.csv", slots.read().replace(",31.02.2027,", ",28.02.2027,"))
    assert slots.run("run").code == 0
    assert answers(slots)["R-3"] == "granted"
    assert len(slots.events()) == 2


def test_emptied_answer_of_a_failed_row_runs_again(slots: Desk) -> None:
    slots.rows(BAD)
    slots.run("run")
    slots.rows(BAD)
    assert slots.run("run").code == 1
    assert slots.run("run").code == 0


def test_row_that_was_answered_by_hand_after_a_failure_does_not_run(slots: Desk) -> None:
    slots.rows(BAD)
    slots.run("run")
    slots.rows("withdrawn" + BAD)
    assert "nothing new" in slots.run("run").err
    assert answers(slots)["R-3"] == "withdrawn"


# --- rows without a key


def test_without_a_key_inserting_sorting_and_deleting_make_no_row_look_new(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS.replace('key = "No"\n', "")).workflow(
        WORKFLOW.replace("Answer is empty", "Title is filled")
    )
    desk.rows(R1, R2, BAD.replace("31.02", "27.02"))
    assert desk.run("run").code == 0
    head, *rows = desk.read().splitlines()
    desk.write("requests.csv", "\n".join([head, rows[2], "", ",,R-9,M 99,19.03.2027,20:00,22:00", rows[0]]) + "\n")
    assert desk.run("run").code == 0
    assert len(desk.events()) == 4
    assert "told apart by their content" in desk.run("check").err


def test_without_key_and_ledger_an_edited_row_is_known_by_its_booking(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS.replace('key = "No"\n', "")).workflow(
        WORKFLOW.replace("Answer is empty", "Title is filled")
    )
    desk.rows(R1)
    desk.run("run")
    lose_ledger(desk)
    desk.write("requests.csv", desk.read().replace(",R-1,", ",R-1b,"))
    assert desk.run("run").code == 0
    assert len(desk.events()) == 1


# --- where stays open


def test_rows_with_open_dates_wait_and_run_when_the_setting_is_there(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS.replace('dates = "day first"\n', "")).workflow(WORKFLOW)
    desk.rows(",,R-1,a,03/04/2027,21:30,22:00", ",,R-2,b,2027-05-05,21:30,22:00")
    result = desk.run("run")
    assert result.code == 1
    assert 'dates = "day first" or dates = "month first"' in result.err
    assert answers(desk) == {"R-1": "", "R-2": "granted"}
    assert desk.run("run").code == 1  # still waits, and still says so
    desk.settings(SETTINGS, REQUESTS)
    assert desk.run("run").code == 0
    assert answers(desk) == {"R-1": "granted", "R-2": "granted"}


def test_gap_and_overlap_of_the_clocks_are_reported_not_moved(slots: Desk) -> None:
    slots.rows(",,R-1,a,28.03.2027,00:30,03:00", ",,R-2,b,31.10.2027,00:30,03:00")
    assert slots.run("run").code == 1
    told = answers(slots)
    assert "does not exist in Atlantic/Azores" in told["R-1"]
    assert "comes twice in Atlantic/Azores" in told["R-2"]
    assert slots.events() == []


# --- one worker


def test_second_run_at_the_same_time_waits_and_says_so(slots: Desk) -> None:
    slots.rows(*(R1.replace("R-1", f"R-{n}") for n in range(300)))
    results = []
    threads = [threading.Thread(target=lambda: results.append(slots.drive("run"))) for _ in range(2)]
    for thread in threads:
        thread.start()
        time.sleep(0.05)
    for thread in threads:
        thread.join()
    assert sorted(result.code for result in results) == [0, 0]
    assert len(slots.events()) == 300
    assert sum("nothing new" in result.err for result in results) == 1


def test_lock_names_who_holds_it(tmp_path: Path) -> None:
    from whenvoca.engine.clock import RealClock
    from whenvoca.engine.workspace.lock import worker_lock
    from whenvoca.errors import PlaceTrouble

    told: list[str] = []
    with (
        worker_lock(tmp_path / "l", RealClock(), patience=0),
        pytest.raises(PlaceTrouble, match=r"another whenvoca \(process \d+\) is at work"),
    ):
        with worker_lock(tmp_path / "l", RealClock(), patience=0.2, tell=told.append):
            pass
    assert len(told) == 1


# --- sheets


def test_workbook_open_elsewhere_leaves_its_rows_pending(slots: Desk) -> None:
    slots.rows(R1)
    lock = slots.write(".~lock.requests.csv#", "somebody")
    result = slots.run("run")
    assert result.code == 3
    assert "is open elsewhere" in result.out
    assert answers(slots) == {"R-1": ""}
    lock.unlink()
    assert slots.run("run").code == 0
    assert answers(slots) == {"R-1": "granted"}
    assert len(slots.events()) == 1


@pytest.mark.parametrize(("age", "waits"), [(0.4, True), (0.99, True), (1.0, False), (90.0, False), (-5.0, False)])
def test_sheet_is_read_once_it_has_stood_for_a_second(slots: Desk, age: float, *, waits: bool) -> None:
    changed = slots.rows(R1).stat().st_mtime
    now = [changed + age]
    wait_settled(slots.folder / "requests.csv", lambda: now[0], lambda seconds: now.append(now.pop() + seconds))
    assert (now[0] > changed + age) is waits
    assert now[0] >= changed + 1 or not waits


def test_clashes_are_seen_among_rows_of_one_batch(slots: Desk) -> None:
    slots.workflow(WORKFLOW.replace("  end    Day at To\n", "  end    Day at To\n  clash  refuse\n"))
    slots.rows(
        R1,
        R1.replace("R-1", "R-2").replace("21:30", "23:00"),
        R1.replace("R-1", "R-4").replace("21:30,02:00", "02:00,03:00"),
    )
    assert slots.run("run").code == 1
    told = answers(slots)
    assert told["R-1"] == told["R-4"] == "granted"
    assert told["R-2"] == 'not granted: "M 42" takes that time, 17 Mar 2027 21:30 to 18 Mar 2027 02:00'


def test_journal_is_of_its_owner_only(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    assert (slots.folder / ".whenvoca").stat().st_mode & 0o777 == 0o700
    assert json.loads(slots.run("runs", "--json").out)["runs"][0]["subject"] == "R-1"


def test_file_outside_the_workspace_is_never_touched(slots: Desk) -> None:
    slots.rows(R1)
    around = sorted(path.name for path in slots.folder.parent.iterdir())
    slots.run("run")
    assert sorted(path.name for path in slots.folder.parent.iterdir()) == around
    assert HEAD.strip() in slots.read()


def test_row_is_never_written_over_a_totals_line(slots: Desk) -> None:
    totals = '[places.sums]\nkind = "sheet"\nfile = "sums.csv"\ntotals = "last row"\n'
    slots.settings(SETTINGS, REQUESTS, totals).workflow(
        "when requests gains a row\nadd row to sums\n  What  Title\n"
    ).rows(R1)
    path = slots.write("sums.csv", "What,Hours\na,1\nTotal,1\n")
    result = slots.run("run")
    assert result.code == 2
    assert "below the rows of sums stands a totals line" in result.err
    assert path.read_text() == "What,Hours\na,1\nTotal,1\n"


def test_two_rows_of_one_key_are_not_both_added(slots: Desk) -> None:
    keyed = '[places.names]\nkind = "sheet"\nfile = "names.csv"\nkey = "Name"\n'
    slots.settings(SETTINGS, REQUESTS, keyed).workflow(
        "when requests gains a row\nadd row to names\n  Name   Title\n  First  row.No\n"
    )
    slots.write("names.csv", "Name,First\n")
    slots.rows(R1, R1.replace("R-1", "R-2"))
    result = slots.run("run")
    assert result.code == 1
    assert 'a row "M 42" is being added already' in result.out
    assert slots.read("names.csv").splitlines() == ["Name,First", "M 42,R-1"]


# --- identity, with rows that go and come back


def test_row_that_was_lost_in_between_never_takes_over_the_event_of_the_earlier_one(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    slots.rows()
    slots.run("run")
    slots.rows(R1.replace("M 42", "Another"))
    result = slots.run("run")
    assert result.code == 1
    assert "was made for an earlier row of this key" in answers(slots)["R-1"]
    assert b"SUMMARY:M 42" in slots.events()[0].read_bytes()


def test_occurrences_of_changes_make_things_of_their_own(slots: Desk) -> None:
    slots.workflow(
        "when requests changes a row\n  fields  Title\ncreate event in domes\n  title  Title\n  start  Day at From\n"
    ).rows(R1)
    slots.run("run")
    for title in ("B", "M 42"):  # there and back are two changes
        slots.rows(R1.replace("M 42", title))
        assert slots.run("run").code == 0
    titles = sorted(
        event.title for path in slots.events() for event in read_events(path.read_bytes(), load_zone("Atlantic/Azores"))
    )
    assert titles == ["B", "M 42"]


# --- seeing


MIRROR = (
    'when requests gains, changes or loses a row\n  where  Title is not "none"\n\nmirror event in domes\n  title '
    " Title\n  start  Day at From\n  end    Day at To\n"
)


def titles_of(desk: Desk) -> list[str]:
    zone = load_zone("Atlantic/Azores")
    return sorted(event.title for path in desk.events() for event in read_events(path.read_bytes(), zone))


def test_editing_the_where_of_a_mirror_reconciles_it(slots: Desk) -> None:
    slots.workflow(MIRROR).rows(R1, R2)
    slots.run("run")
    assert titles_of(slots) == ["M 13", "M 42"]
    slots.workflow(MIRROR.replace('is not "none"', 'is "M 13"'))
    slots.run("run", "--yes")
    assert titles_of(slots) == ["M 13"]
    slots.workflow(MIRROR)
    slots.run("run")
    assert titles_of(slots) == ["M 13", "M 42"]


def test_editing_the_fields_of_a_mirror_reaches_what_it_made(slots: Desk) -> None:
    slots.workflow(MIRROR).rows(R1, R2)
    slots.run("run")
    slots.workflow(MIRROR.replace("title  Title", 'title  "{Title}!"'))
    assert slots.run("run").code == 0
    assert titles_of(slots) == ["M 13!", "M 42!"]


def test_columns_that_a_workflow_writes_never_make_its_rows_changed(slots: Desk) -> None:
    text = 'when requests changes a row\nchange row\n  Answer  "seen {Title}"\n'
    slots.workflow(text).rows(R1)
    slots.run("run")
    slots.rows(R1.replace(",,R-1", "by hand,,R-1"))
    assert "nothing new" in slots.run("run").err
    slots.workflow(text.replace("\nchange row", "\n  fields  Answer\nchange row"), "slots")
    slots.rows(R1.replace(",,R-1", "again by hand,,R-1"))
    assert slots.run("run").code == 0
    assert answers(slots)["R-1"] == "seen M 42"


def test_lost_row_is_told_as_it_last_was(slots: Desk) -> None:
    slots.workflow(
        'when requests loses a row\n  where  Title is filled\nadd row to log\n  What  "{old.Title} {Title} '
        '{happened}"\n'
    ).rows(R1, R2)
    slots.run("run")
    slots.rows(R2)
    assert slots.run("run").code == 0
    slots.rows(R2.replace("M 13", ""))  # out of the set, though it still stands
    assert slots.run("run").code == 0
    assert slots.read("log.csv").splitlines() == ["What", "M 42 M 42 lost", "M 13 M 13 lost"]


def test_rows_that_come_back_before_the_run_are_not_lost(slots: Desk) -> None:
    slots.workflow(
        "brake  0 deletions\nwhen requests loses a row\ndelete event in domes\n  where  title is old.Title\n  missing "
        " pass\n",
        "drop",
    )
    slots.rows(R1)
    slots.run("run")
    slots.rows()
    assert slots.run("run").code == 4
    slots.rows(R1.replace(",,R-1", "kept,,R-1"))
    slots.run("run")
    assert len(slots.events()) == 1


def test_file_of_the_same_size_changed_within_two_seconds_is_seen(slots: Desk) -> None:
    slots.workflow("when domes changes an event\nadd row to log\n  What  event.title\n", "tell").rows(R1)
    slots.run("run")
    (path,) = slots.events()
    before = path.stat()
    path.write_bytes(path.read_bytes().replace(b"SUMMARY:M 42", b"SUMMARY:M 43"))
    os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns))
    assert slots.run("run").code == 0
    assert "M 43" in slots.read("log.csv")


# --- running


def test_a_run_goes_on_after_a_crash_with_what_it_had_found(slots: Desk) -> None:
    """Killed between its look-up and the end, it goes on with the events it found, not with those there now."""
    import signal
    import subprocess
    import sys

    from tests.engine.running.test_crash import KILLER, LEDGER

    slots.rows(R1, R2)
    slots.run("run", "slots")
    slots.workflow("paused  yes\n" + WORKFLOW)
    slots.workflow(
        'when requests gains a row\n  where  Title is "go"\n\nfind events in domes as all-of-them\n\nadd row to log\n'
        '  What  "{count(all-of-them)} found"\n\nfor each e in all-of-them\n  change event e\n    location  "seen"\n',
        "look",
    )
    slots.rows(R1, R2, ",,R-9,go,,,")
    command = [sys.executable, "-c", KILLER, LEDGER, "commit", "after", "2", str(slots.folder)]
    assert subprocess.run(command, capture_output=True, timeout=60).returncode == -signal.SIGKILL
    (slots.folder / "domes/late.ics").write_bytes(slots.events()[0].read_bytes().replace(b"UID:", b"UID:late"))
    assert slots.run("run").code == 0
    seen = [path for path in slots.events() if b"LOCATION:seen" in path.read_bytes()]
    assert len(seen) == 2
    assert slots.read("log.csv").split() == ["What", "2", "found"]


# --- changing


def test_change_is_decided_anew_when_another_hand_was_quicker(slots: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    from whenvoca.engine.acting.workspace_stage import WorkspaceStage

    slots.rows(R1)
    slots.run("run")
    (path,) = slots.events()
    slots.workflow(
        'when requests changes a row\nchange event in domes as e\n  where  uid is row.Booking\n  details  "{e.title}: '
        '{row.Title}"\n',
        "follow",
    )
    slots.run("run")
    real, quicker = WorkspaceStage.find_event, [2]

    def find(self: WorkspaceStage, place: str, key: str) -> object:
        stored = real(self, place, key)
        if quicker[0]:
            quicker[0] -= 1
            path.write_bytes(path.read_bytes().replace(b"SUMMARY:", b"SUMMARY:x"))
        return stored

    monkeypatch.setattr(WorkspaceStage, "find_event", find)
    slots.write("requests.csv", slots.read().replace("M 42", "M 99"))
    assert slots.run("run", "follow").code == 0
    assert b"DESCRIPTION:xxM 42: M 99" in path.read_bytes()
    quicker[0] = 100
    slots.write("requests.csv", slots.read().replace("M 99", "M 77"))
    result = slots.run("run", "follow", "--json")
    assert result.code == 1
    assert "was changed by another hand meanwhile" in result.json["runs"][0]["reason"]


def test_several_that_fit_are_listed_in_the_fault(slots: Desk) -> None:
    slots.rows(R1, R2)
    slots.run("run")
    slots.workflow(
        'when requests gains a row\n  where  Title is "go"\nchange event in domes\n  where  title begins with "M"\n  '
        'location  "x"\n',
        "one",
    )
    slots.rows(R1, R2, ",,R-9,go,,,")
    result = slots.run("run", "one", "--json")
    assert 'fit: "M 42" 17 Mar 2027 21:30; "M 13" 18 Mar 2027 20:00' in result.json["runs"][0]["reason"]
    assert "several first, several all" in result.json["runs"][0]["fix"]


@pytest.mark.parametrize(("missing", "code"), [("fail", 1), ("pass", 0), ("make", 0)])
def test_what_is_missing_fails_passes_or_is_made(slots: Desk, missing: str, code: int) -> None:
    slots.write("log.csv", "What,Is\nold,1\n")
    slots.workflow(
        f"when requests gains a row\nchange row in log\n  where    What is row.Title\n  missing  {missing}\n  What    "
        ' row.Title\n  Is       "new"\n'
    )
    slots.rows(R1)
    assert slots.run("run").code == code
    assert ("M 42,new" in slots.read("log.csv")) == (missing == "make")
