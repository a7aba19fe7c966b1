"""What a ledger forgets, and that nothing a later run, undo or identity needs is among it."""

from __future__ import annotations

import contextlib
import sqlite3
from datetime import UTC, datetime, timedelta

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk

MIRROR = (
    "when requests gains, changes or loses a row\n\nmirror event in domes\n  title  Title\n  start  Day at From\n"
    "  end    Day at To\n"
)
EVERYTHING = SETTINGS.replace("[workspace]", '[workspace]\nhistory = "everything"')
TABLES = ("runs", "effects", "occurrences", "observations", "reads")


def row(number: int, title: str = "") -> str:
    return f",,R-{number},{title or f'M {number}'},17.03.2027,{number % 20:02}:00,{number % 20 + 1:02}:00"


def age(desk: Desk, days: int) -> None:
    """Makes everything that the ledger knows that many days older."""
    with contextlib.closing(sqlite3.connect(desk.folder / ".whenvoca/ledger.sqlite")) as ledger, ledger:
        for table, column in (("runs", "started"), ("occurrences", "at"), ("observations", "seen_at")):
            for number, at in ledger.execute(f"SELECT rowid, {column} FROM {table}").fetchall():
                older = (datetime.fromisoformat(at) - timedelta(days=days)).astimezone(UTC).isoformat()
                ledger.execute(f"UPDATE {table} SET {column}=? WHERE rowid=?", (older, number))
        ledger.execute("DELETE FROM meta WHERE name='pruned'")


def sizes(desk: Desk) -> dict[str, int]:
    with contextlib.closing(sqlite3.connect(desk.folder / ".whenvoca/ledger.sqlite")) as ledger:
        return {table: ledger.execute(f"SELECT count(*) FROM {table}").fetchone()[0] for table in TABLES}


@pytest.fixture
def mirrored(desk: Desk) -> Desk:
    """Three rows, changed three times, two hundred days between."""
    desk.settings(EVERYTHING, REQUESTS).workflow(MIRROR)
    for title in ("A", "B", "C"):
        desk.rows(*(row(n, f"{title} {n}") for n in range(3)))
        assert desk.run("run").code == 0
        age(desk, 200)
    return desk


def pruned(desk: Desk) -> Desk:
    """After a run that finds nothing to do but to forget."""
    desk.settings(SETTINGS, REQUESTS)
    assert desk.run("run").err.startswith("nothing new")
    return desk


def test_what_is_over_and_old_is_forgotten_and_the_next_run_finds_all_as_it_was(mirrored: Desk) -> None:
    before, after = sizes(mirrored), sizes(pruned(mirrored))
    assert (before["runs"], after["runs"]) == (9, 3)  # A was 600 days ago, B a moment more than 400
    assert all(after[table] < before[table] for table in ("effects", "occurrences", "observations"))
    mirrored.rows(*(row(n, f"D {n}") for n in range(3)))
    assert [each["outcome"] for each in mirrored.run("run", "--json").json["runs"]] == ["done"] * 3
    assert len(mirrored.events()) == 3
    assert mirrored.run("undo", "10", "--yes").code == 0
    assert "M" not in "".join(path.read_text().split("SUMMARY:")[1][:1] for path in mirrored.events())


def test_nothing_is_forgotten_of_what_stands_waits_or_failed(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(MIRROR).rows(row(0), ",,R-1,x,17.03.2027,,", row(2))
    assert desk.run("run").code == 1
    age(desk, 5000)
    before = sizes(desk)
    assert desk.run("run").err.startswith("nothing new")
    assert sizes(desk) == before
    desk.rows(row(0), row(1), row(2))  # corrected, it runs
    assert [each["subject"] for each in desk.run("run", "--json").json["runs"]] == ["R-1"]
    desk.rows(row(1), row(2))  # and what went takes its event away
    assert [each["effects"][0]["verb"] for each in desk.run("run", "--json").json["runs"]] == ["delete event"]


def test_identity_outlives_the_history(mirrored: Desk) -> None:
    """A row that was lost with its event, and comes again years later, gets a new event; one that stands keeps its."""
    mirrored.rows(row(1, "C 1"), row(2, "C 2"))
    assert mirrored.run("run").code == 0
    uids = {path.name for path in mirrored.events()}
    age(mirrored, 5000)
    assert sizes(pruned(mirrored))["effects"] < 5
    mirrored.rows(row(0, "again"), row(1, "C 1"), row(2, "E 2"))
    runs = mirrored.run("run", "--json").json["runs"]
    assert sorted(each["effects"][0]["verb"] for each in runs) == ["change event", "create event"]
    assert len(mirrored.events()) == 3
    assert uids < {path.name for path in mirrored.events()}


def test_run_numbers_go_on(mirrored: Desk) -> None:
    mirrored.rows()
    assert mirrored.run("run", "--yes").code == 0
    age(mirrored, 5000)
    pruned(mirrored).rows(row(7))
    assert mirrored.run("run", "--json").json["runs"][0]["run"] == 13


def test_file_shrinks(desk: Desk) -> None:
    desk.settings(EVERYTHING, REQUESTS).workflow(MIRROR)
    path = desk.folder / ".whenvoca/ledger.sqlite"
    for title in "ABC":
        desk.rows(*(row(n, f"{title} {n} {'x' * 200}") for n in range(300)))
        assert desk.run("run", "--quiet").code == 0
        age(desk, 500)
    size = path.stat().st_size
    pruned(desk)
    assert path.stat().st_size < size * 2 / 3


@pytest.mark.parametrize(
    ("history", "runs"), [('"1000 days"', 9), ('"everything"', 9), ('"30 days"', 3), ('"2 years"', 9)]
)
def test_how_long_is_a_setting(mirrored: Desk, history: str, runs: int) -> None:
    mirrored.settings(SETTINGS.replace("[workspace]", f"[workspace]\nhistory = {history}"), REQUESTS)
    assert mirrored.run("run").err.startswith("nothing new")
    assert sizes(mirrored)["runs"] == runs


@pytest.mark.parametrize("history", ['"soon"', '"2 hours"', "400", '""'])
def test_history_that_is_none_is_refused(mirrored: Desk, history: str) -> None:
    mirrored.settings(SETTINGS.replace("[workspace]", f"[workspace]\nhistory = {history}"), REQUESTS)
    told = mirrored.run("run")
    assert (told.code, "is no duration of a day or more" in told.err) == (2, True)


def test_played_time_forgets_nothing(mirrored: Desk) -> None:
    before = sizes(mirrored.settings(SETTINGS, REQUESTS))
    mirrored.run("run", "--now", "2090-01-01")
    assert sizes(mirrored) == before
