"""Rows stay who they are when their sheet is given another key, and a workflow when its file is given another name:
nothing is made a second time, nothing is lost."""

from __future__ import annotations

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.calendars.reader import read_events
from whenvoca.values.zones import load_zone

MIRROR = "when requests gains, changes or loses a row\n\nmirror event in domes\n  title  Title\n  start  Day at 20:00\n"
CREATE = 'when requests gains a row\n\ncreate event in domes\n  title  "once {Title}"\n  start  Day at 20:00\n'
LOG = 'when requests changes a row\n\nadd row to log\n  What  "{row.No}: {row.Title}"\n'
HEAD = "No,Title,Day\n"
ROWS = ["1,A,2027-03-12", "2,B,2027-03-13", "3,C,2027-03-14", "4,C,2027-03-14"]


def key(desk: Desk, setting: str) -> None:
    desk.settings(SETTINGS, REQUESTS.replace('key = "No"\n', setting).replace('dates = "day first"\n', ""))


def events(desk: Desk) -> dict[str, list[str]]:
    """UIDs by title."""
    found: dict[str, list[str]] = {}
    for path in desk.events():
        for event in read_events(path.read_bytes(), load_zone("Atlantic/Azores")):
            found.setdefault(event.title, []).append(event.uid)
    return {title: sorted(uids) for title, uids in sorted(found.items())}


@pytest.fixture
def rows(desk: Desk) -> Desk:
    key(desk, "")
    for name, text in (("keep", MIRROR), ("once", CREATE), ("told", LOG)):
        desk.workflow(text, name)
    desk.rows(*ROWS, head=HEAD)
    assert desk.run("run").code == 0
    return desk


@pytest.mark.parametrize(
    "settings", [['key = "No"\n'], ['key = ["No", "Day"]\n'], ['key = "No"\n', 'key = ["Title", "No"]\n', ""]]
)
def test_rows_stay_who_they_are_when_their_key_is_another(rows: Desk, settings: list[str]) -> None:
    before = events(rows)
    assert len(before["A"]) == len(before["once A"]) == 1
    for setting in settings:
        key(rows, setting)
        assert all(each["would_run_for"] == [] for each in rows.run("check", "--json").json["workflows"])
        assert rows.run("rehearse", "--json").json["runs"] == []
        assert rows.run("run").err.startswith("nothing new")
        assert events(rows) == before
    rows.rows("4,C,2027-03-14", "3,C2,2027-03-14", "1,A,2027-03-12", "5,D,2027-03-15", head=HEAD)
    assert rows.run("run").code == 0
    after = events(rows)
    assert (after["A"], after["once B"], "B" in after) == (before["A"], before["once B"], False)
    assert sorted(after["C"] + after["C2"]) == before["C"]
    assert (len(after["D"]), len(after["once D"]), "once C2" in after) == (1, 1, False)
    assert rows.run("explain", "--row", "2").code == 0


def test_keys_that_change_places_are_told_apart(rows: Desk) -> None:
    key(rows, 'key = "Title"\n')
    rows.rows("A,B,2027-03-12", "B,A,2027-03-13", head=HEAD)  # another table: each title is the other's number
    rows.run("run", "--yes")
    before = events(rows)
    key(rows, 'key = "No"\n')
    assert rows.run("run").err.startswith("nothing new")
    assert events(rows) == before
    rows.rows("A,B,2027-03-12", head=HEAD)
    assert rows.run("run").code == 0
    assert {title: uids for title, uids in events(rows).items() if title in "AB"} == {"B": before["B"]}


def test_a_row_that_was_edited_meanwhile_is_another_and_takes_nobodys_name(rows: Desk) -> None:
    key(rows, 'key = "Title"\n')
    rows.rows("1,2,2027-03-12", "2,1,2027-03-13", head=HEAD)
    rows.run("run", "--yes")
    before = events(rows)
    key(rows, 'key = "No"\n')
    rows.rows("1,2,2027-03-22", "2,1,2027-03-13", head=HEAD)  # the first row is not as it was
    assert rows.run("run").code == 0
    after = events(rows)
    assert (after["1"], len(after["2"]), len(after["once 2"])) == (before["1"], 1, 2)
    assert after["2"] != before["2"]


def test_a_key_that_not_every_row_has_is_refused_and_nothing_is_lost(rows: Desk) -> None:
    before = events(rows)
    key(rows, 'key = "Title"\n')
    refused = rows.run("run")
    assert refused.code == 2
    assert "its rows are to be told apart by another key, and not each has one" in refused.err
    assert 'Title "C" stands in row 5 too' in refused.err
    assert events(rows) == before
    key(rows, "")
    assert rows.run("run").err.startswith("nothing new")


def test_a_mirror_that_is_edited_afterwards_knows_its_events(rows: Desk) -> None:
    before = events(rows)
    key(rows, 'key = "No"\n')
    assert rows.run("run").code == 0
    rows.workflow(
        MIRROR.replace("  title  Title", '  where  No is not "4"\n  title  Title')
        .replace("\n\nmirror", "\n  where  Title is filled\n\nmirror")
        .replace('  where  No is not "4"\n', ""),
        "keep",
    )
    assert rows.run("run").code == 0
    assert events(rows) == before


def test_what_was_done_before_the_key_is_explained_and_taken_back(rows: Desk) -> None:
    key(rows, 'key = "No"\n')
    assert rows.run("run").code == 0
    mine = [each["run"] for each in rows.run("runs", "--workflow", "once", "--json").json["runs"]]
    assert len(mine) == 4
    assert rows.run("explain", str(mine[0])).code == 0
    assert rows.run("undo", *map(str, mine), "--yes").code == 0
    assert [title for title in events(rows) if title.startswith("once")] == []
    assert rows.run("run").err.startswith("nothing new")
    assert rows.run("retry", str(mine[0])).code == 0
    assert len([title for title in events(rows) if title.startswith("once")]) == 1


def rename(desk: Desk, old: str, new: str, head: str = "") -> None:
    path = desk.folder / f"workflows/{old}.voca"
    desk.workflow(head + path.read_text(), new)
    path.unlink()


def test_a_workflow_whose_file_has_another_name_does_not_run_before_somebody_says_what_it_is(rows: Desk) -> None:
    before, files = events(rows), rows.snapshot()
    rename(rows, "once", "other")
    assert (
        "it is the same workflow, everything would be done a second time; write into workflows/other.voca: formerly "
        '"once"' in (rows.run("check").err.replace("\n", " "))
    )
    held = rows.run("run")
    assert held.code == 4
    assert 'write into workflows/other.voca: formerly "once"; or, if it is a new one: --yes' in held.err
    assert rows.run("run", "--json").code == 4
    assert rows.run("watch", "--once", "--quiet").code == 0
    assert {name for name in rows.snapshot() if not name.startswith("workflows")} == {
        name for name in files if not name.startswith("workflows")
    }
    assert events(rows) == before
    rename(rows, "other", "third", 'formerly "once"\n\n')
    assert rows.run("run").err.startswith("nothing new")
    assert events(rows) == before


def test_a_new_workflow_beside_others_or_in_the_place_of_one_runs(rows: Desk) -> None:
    rows.workflow(CREATE.replace("once", "twice"), "more")
    assert rows.run("run").code == 0
    rename(rows, "once", "other")
    assert rows.run("run", "--yes").code == 0
    assert len(events(rows)["once A"]) == 2
    assert rows.run("run").err.startswith("nothing new")
