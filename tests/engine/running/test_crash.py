"""A kill at any instruction leaves no double, no loss, no half-written file.

The program is killed by itself in a process of its own, right before or after each write that matters, and then run to
the end. In `make soak` it is killed by real signals at random instants, many times.
"""

from __future__ import annotations

import csv
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import REQUESTS, SETTINGS, WHENVOCA, Desk

ROWS = 12
MANY = 20
WORKFLOW = """
when requests gains a row
  where  Answer is empty

create event in domes as slot
  title  Title
  start  Day at From
  end    Day at To

add row to log
  What  slot.title
  Uid   slot.uid

change row
  Booking  slot.uid
  Answer   "granted"

if anything fails
  change row
    Answer  "not granted: {reason}"
"""
# Dies by SIGKILL before or after the n-th call of one function.
KILLER = """
import os, signal, sys
from whenvoca.cli.main import run_command
module, name, when, count = sys.argv[1], sys.argv[2], sys.argv[3], int(sys.argv[4])
owner = __import__(module.split(":")[0], fromlist=["x"])
for part in module.split(":")[1:]:
    owner = getattr(owner, part)
real, calls = getattr(owner, name), 0
def dying(*args, **more):
    global calls
    calls += 1
    if calls == count and when == "before":
        os.kill(os.getpid(), signal.SIGKILL)
    result = real(*args, **more)
    if calls == count and when == "after":
        os.kill(os.getpid(), signal.SIGKILL)
    return result
setattr(owner, name, dying)
sys.exit(run_command(["run", "--workspace", *sys.argv[5:]]))
"""
LEDGER = "whenvoca.engine.ledger.sqlite:SqliteLedger"
POINTS = [
    *[(LEDGER, "commit", when, n) for when in ("before", "after") for n in range(1, 7)],
    *[
        (LEDGER, name, when, 1)
        for name in ("observe", "add_occurrences", "begin_runs", "begin_save", "end_save")
        for when in ("before", "after")
    ],
    *[(LEDGER, name, when, 2) for name in ("begin_save", "end_save", "observe") for when in ("before", "after")],
    *[("os", "link", when, n) for when in ("before", "after") for n in (1, 2, ROWS - 1)],
    ("os", "sync", "before", 1),
    ("os", "sync", "after", 1),
    *[("os", "fsync", when, n) for when in ("before", "after") for n in (1, 2, ROWS)],
    *[("os", "replace", when, n) for when in ("before", "after") for n in (1, 2)],
    ("whenvoca.places.files", "write_temporary", "after", 1),
    ("whenvoca.places.files", "sync_folder", "before", 2),
    ("whenvoca.places.sheet.open_file:OpenFile", "_finish", "before", 2),
]


def prepare(desk: Desk, rows: int = ROWS) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(WORKFLOW)
    desk.rows(
        *(f",,R-{n},M {n},{n % 27 + 1:02d}.03.2027,20:00,21:00" for n in range(rows - 1)),
        ",,R-bad,x,31.02.2027,20:00,21:00",
    )


def verify(desk: Desk, rows: int = ROWS) -> None:
    """Everything stands exactly once, whatever happened before."""
    sheet = list(csv.DictReader(desk.read().splitlines()))
    assert len(sheet) == rows
    events = {path.stem for path in desk.events()}
    assert len(events) == rows - 1
    granted = [row for row in sheet if row["Answer"] == "granted"]
    assert {row["Booking"] for row in granted} == events
    assert [row["No"] for row in sheet if row["Answer"].startswith("not granted: requests.csv, E")] == ["R-bad"]
    log = list(csv.DictReader(desk.read("log.csv").splitlines()))
    assert sorted(row["Uid"] for row in log) == sorted(events)
    assert not list(desk.folder.rglob("*whenvoca-tmp"))
    before = desk.snapshot()
    again = desk.run("run")
    assert again.code == 0, again
    assert desk.snapshot() == before
    history = desk.run("runs", "--json", "--limit", "100000").json["runs"]
    assert sorted(run["outcome"] for run in history) == ["done"] * (rows - 1) + ["failed"]


@pytest.mark.parametrize(
    ("module", "name", "when", "count"), POINTS, ids=[f"{when} {name} {count}" for _, name, when, count in POINTS]
)
def test_kill_at_every_boundary_leaves_no_double_and_no_loss(
    desk: Desk, module: str, name: str, when: str, count: int
) -> None:
    rows = MANY if name == "sync" else ROWS  # a few files wait for the disk each by itself
    prepare(desk, rows)
    died = subprocess.run(
        [sys.executable, "-c", KILLER, module, name, when, str(count), str(desk.folder)],
        capture_output=True,
        timeout=60,
    )
    assert died.returncode == -signal.SIGKILL, died.stderr.decode()[-500:]
    assert desk.run("run").code in (0, 1)
    verify(desk, rows)


def kill_at(desk: Desk, seconds: float) -> bool:
    """Starts a run and kills it after so many seconds; answers whether it was still at work."""
    process = subprocess.Popen(
        [WHENVOCA, "run", "--workspace", str(desk.folder)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        process.wait(seconds)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
        return True
    return False


@pytest.mark.parametrize("seed", range(6))
def test_real_kills_at_random_instants(desk: Desk, seed: int) -> None:
    rows, chance = 60, random.Random(seed)
    prepare(desk, rows)
    for seconds in (0.12, *(chance.uniform(0.15, 1.1) for _ in range(4))):
        kill_at(desk, seconds)
    assert desk.run("run").code in (0, 1)
    verify(desk, rows)


@pytest.mark.soak
def test_many_real_kills_while_a_process_beside_writes_half_of_the_files(desk: Desk) -> None:
    rows, kills, chance = 700, 0, random.Random(3)
    for _ in range(12):
        for path in sorted(desk.folder.rglob("*"), reverse=True):
            path.unlink() if path.is_file() else path.rmdir()
        (desk.folder / "workflows").mkdir()
        prepare(desk, rows)
        kills += sum(kill_at(desk, chance.uniform(0.25, 1.2)) for _ in range(5))
        assert desk.run("run").code in (0, 1)
        verify(desk, rows)
        assert not list((desk.folder / "domes").glob(".*"))
    print(f"\n12 workspaces of {rows} rows, {kills} kills: each row stands once, no temporary is left")


@pytest.mark.soak
def test_many_real_kills(desk: Desk) -> None:
    begin, kills, chance = time.monotonic(), 0, random.Random(1)
    for number in range(100):
        for path in sorted(desk.folder.rglob("*"), reverse=True):
            path.unlink() if path.is_file() else path.rmdir()
        (desk.folder / "workflows").mkdir()
        prepare(desk, 60)
        kills += sum(kill_at(desk, chance.uniform(0.1, 1.0)) for _ in range(5))
        assert desk.run("run").code in (0, 1), number
        verify(desk, 60)
    print(
        f"\n100 workspaces, {kills} kills, {time.monotonic() - begin:.0f} s: 59 events, 60 answers, 59 log rows each "
        "time"
    )


def test_ctrl_c_in_the_middle_ends_with_130_and_the_next_run_goes_on(desk: Desk) -> None:
    rows = 1000
    prepare(desk, rows)
    process = subprocess.Popen(
        [WHENVOCA, "run", "--workspace", str(desk.folder)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a job in the background would ignore it
    )
    for _ in range(400):
        if (desk.folder / "domes").exists():
            break
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    _, told = process.communicate(timeout=60)
    assert process.returncode == 130, told
    assert "interrupted" in told
    assert "Traceback" not in told
    assert desk.run("run").code == 1
    verify(desk, rows)


@pytest.mark.parametrize("target", ["domes", "requests.csv", "log.csv"])
def test_full_disk_at_each_write_leaves_everything_pending(
    desk: Desk, target: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    prepare(desk)
    real = os.open

    def full(path: str, *args: int, **more: int) -> int:
        if target in str(path) and "whenvoca-tmp" in str(path):
            raise OSError(28, "No space left on device", str(path))
        return real(path, *args, **more)

    monkeypatch.setattr(os, "open", full)
    result = desk.run("run")
    assert result.code == 3
    assert "the disk is full" in result.out
    monkeypatch.undo()
    assert desk.run("run").code in (0, 1)
    verify(desk)


def test_ledger_on_a_full_disk_is_told(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    import sqlite3

    from whenvoca.engine.ledger.sqlite import SqliteLedger

    prepare(desk)

    def full(self: SqliteLedger, journal: object) -> None:
        with self.transaction():
            raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr(SqliteLedger, "commit", full)
    result = desk.run("run")
    assert result.code == 3
    assert "the ledger cannot be kept: the disk is full" in result.err
    monkeypatch.undo()
    assert desk.run("run").code == 1
    verify(desk)


def test_folder_that_cannot_be_written_is_told(desk: Desk) -> None:
    prepare(desk)
    desk.write("domes", "a file where the folder should be")
    result = desk.run("run")
    assert result.code == 2
    assert "is a file, and a folder is wanted here" in result.err
    Path(desk.folder / "domes").unlink()
    assert desk.run("run").code == 1
    verify(desk)


SEVERAL = """
when requests gains a row

find events in domes as all-of-them
  from   2027-03-01
  until  2027-04-01

delete event all-of-them
"""


@pytest.mark.parametrize("count", range(7, 12))
@pytest.mark.parametrize("when", ["before", "after"])
def test_a_step_on_several_things_goes_on_with_the_one_that_a_kill_left(desk: Desk, when: str, count: int) -> None:
    """A thing that is found done already makes the next one not look done. The first commits are those of the brake's
    rehearsal."""
    desk.settings(SETTINGS, REQUESTS).workflow(WORKFLOW, name="make")
    desk.rows(*(f",,R-{n},M {n},{n + 1:02d}.03.2027,20:00,21:00" for n in range(4)))
    assert desk.run("run", "make").code == 0
    assert len(desk.events()) == 4
    desk.workflow(SEVERAL, name="clear").rows("granted,,R-9,x,01.04.2027,20:00,21:00")
    died = subprocess.run(
        [sys.executable, "-c", KILLER, LEDGER, "commit", when, str(count), str(desk.folder), "clear"],
        capture_output=True,
        timeout=60,
    )
    assert died.returncode == -signal.SIGKILL, died.stderr.decode()[-500:]
    assert desk.run("run", "clear").code == 0
    assert desk.events() == []
    assert {run["outcome"] for run in desk.run("runs", "--json").json["runs"]} == {"done"}
