"""A place that is called otherwise: with `formerly` all goes on, without it nothing is done a second time unasked."""

from __future__ import annotations

import contextlib
import sqlite3

import pytest

from tests.conftest import REQUESTS, SETTINGS, WORKFLOW, Desk
from whenvoca.engine.ledger.renaming import TABLES_OF_PLACES

POST = '[places.post]\nkind = "outbox"\nfolder = "post"\nfrom = "desk@example.org"\n'
TELLS = '\nsend email to "ines"\n  text  "{Title}"\n'
ROWS = (",,R-1,M 42,17.03.2027,20:00,22:00", ",,R-2,M 13,18.03.2027,20:00,22:00")


def renamed(desk: Desk, old: str, new: str, formerly: str = "") -> None:
    """Gives a place another name, in the settings and in the workflow."""
    settings = desk.read("whenvoca.toml").replace(f"[places.{old}]", f"[places.{new}]\n{formerly}")
    desk.settings(settings)
    desk.workflow(desk.read("workflows/slots.voca").replace(old, new))


@pytest.fixture
def told(desk: Desk) -> Desk:
    desk.settings(SETTINGS, REQUESTS, POST).workflow(WORKFLOW.split("if anything")[0] + TELLS)
    desk.rows(*ROWS)
    assert desk.run("run").code == 0
    return desk


def test_renamed_sheet_goes_on_with_formerly(told: Desk) -> None:
    renamed(told, "requests", "wishes", 'formerly = "Requests"\n')
    assert told.run("check", "--json").json["warnings"] == []
    assert told.run("run").err.startswith("nothing new")
    told.write("requests.csv", told.read() + ",,R-3,M 81,19.03.2027,20:00,22:00\n")
    assert [each["subject"] for each in told.run("run", "--json").json["runs"]] == ["R-3"]
    assert (len(told.events()), len(list((told.folder / "post").iterdir()))) == (3, 3)
    assert told.run("undo", "1", "--yes").out.count("domes") == 1  # what was done under the old name is known


def test_renamed_sheet_without_formerly_asks_first(told: Desk) -> None:
    renamed(told, "requests", "wishes")
    (said,) = told.run("check", "--json").json["warnings"]
    assert said.endswith('write into whenvoca.toml, below [places.wishes]: formerly = "requests"')
    refused = told.run("run")
    assert (refused.code, len(list((told.folder / "post").iterdir()))) == (4, 2)
    assert 'formerly = "requests"; or, if it is a new one: --yes' in refused.err
    assert told.run("run", "--yes").code == 0
    assert told.run("check", "--json").json["warnings"] == []


@pytest.mark.parametrize("formerly", ['formerly = "domes"\n', ""])
def test_events_in_a_renamed_calendar_are_made_once(desk: Desk, formerly: str) -> None:
    mirror = (
        "when requests gains, changes or loses a row\n\nmirror event in domes\n  title  Title\n  start  Day at From\n"
        "  end    Day at To\n"
    )
    desk.settings(SETTINGS, REQUESTS).workflow(mirror).rows(*ROWS)
    assert desk.run("run").code == 0
    renamed(desk, "domes", "nights", formerly)
    desk.rows(ROWS[0].replace("M 42", "M 43"), ROWS[1])
    warnings = desk.run("check", "--json").json["warnings"]
    assert [each.rpartition(": ")[2] for each in warnings] == ([] if formerly else ['formerly = "domes"'])
    reasons = [each["reason"] for each in desk.run("run", "--json").json["runs"]]
    titles = sorted(path.read_text().split("SUMMARY:")[1].split("\n")[0].strip() for path in desk.events())
    if formerly:
        assert (set(reasons), titles) == ({""}, ["M 13", "M 43"])
    else:  # what was made is known by its marks, and nobody knows what was changed by hand meanwhile
        assert any("left as it is" in each for each in reasons)
        assert titles == ["M 13", "M 42"]


def test_another_trigger_of_the_same_file_is_no_renamed_place(told: Desk) -> None:
    told.workflow("when clock reads 10:00\n\nadd row to log\n  What  now\n")
    assert told.run("check", "--json").json["warnings"] == []


def test_every_table_that_names_places_follows(told: Desk) -> None:
    with contextlib.closing(sqlite3.connect(told.folder / ".whenvoca/ledger.sqlite")) as ledger:
        tables = [name for (name,) in ledger.execute("SELECT name FROM sqlite_master WHERE type='table'")]
        named = {each for each in tables if "place" in {row[1] for row in ledger.execute(f"PRAGMA table_info({each})")}}
    assert named == set(TABLES_OF_PLACES)
