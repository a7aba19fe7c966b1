"""A run over a folder, a server and two sheets is killed at every boundary between effects, then run to the end.

The child is forked, dies by SIGKILL at the n-th boundary, and the parent runs the workspace on. Nothing may stand
twice, nothing be missing, no half file stay. In `make test` a sample of the boundaries; in `make soak` all of them.
"""

from __future__ import annotations

import csv
import os
import random
import shutil
import signal
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SETTINGS, Desk
from tests.engine.running.test_crash import kill_at
from tests.places.test_server import SERVER, SHEET
from tests.servers import FaultyProxy, Radicale, running_radicale
from whenvoca.cli.main import run_command

ROWS = 60
PLACES = (
    SHEET
    + '[places.halls]\nkind = "calendar"\nfolder = "halls"\n[places.log]\nkind = "sheet"\nfile = "log.csv"\ncreate = '
    "true\n"
)
WORKFLOW = """
when requests gains a row
  where  Answer is empty

create event in halls as hall
  title  Title
  start  Day at From
  end    Day at To

create event in domes as slot
  title  "{Title} in the dome"
  start  Day at From
  end    Day at To

add row to log
  What  slot.uid

change row
  Booking  slot.uid
  Answer   "granted"
"""


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    os.environ["DAV"] = "alicepw"
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


def prepare(desk: Desk, radicale: Radicale, name: str, url: str = "", rows: int = ROWS) -> None:
    for path in desk.folder.iterdir():
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    (desk.folder / "workflows").mkdir()
    with radicale.client() as client:
        client.delete(f"/alice/{name}/")
    radicale.make(name, name)
    # a busy machine is not what is played here
    server = SERVER if url else SERVER.replace("seconds = 1", "seconds = 20")
    desk.settings(SETTINGS, PLACES, server.format(url=url or radicale.url, name=name)).workflow(WORKFLOW)
    desk.rows(*(f",,R-{n},M {n},{n % 27 + 1:02d}.03.2027,20:00,21:00" for n in range(rows)))


def verify(desk: Desk, radicale: Radicale, name: str, rows: int = ROWS) -> None:
    sheet = list(csv.DictReader(desk.read().splitlines()))
    assert [row["Answer"] for row in sheet] == ["granted"] * rows
    on_server = {file.removesuffix(".ics") for file in radicale.events(name)}
    assert {row["Booking"] for row in sheet} == on_server
    assert len(on_server) == rows
    assert len(desk.events("halls")) == rows
    assert all(path.read_bytes().endswith(b"END:VCALENDAR\r\n") for path in desk.events("halls"))
    assert sorted(row["What"] for row in csv.DictReader(desk.read("log.csv").splitlines())) == sorted(on_server)
    assert not list(desk.folder.rglob("*whenvoca-tmp"))
    before = desk.snapshot()
    assert "nothing new" in desk.run("run").err
    assert desk.snapshot() == before
    history = desk.run("runs", "--json", "--limit", "100000").json["runs"]
    assert [run["outcome"] for run in history] == ["done"] * rows


def boundaries(die_at: int, report: Any = None) -> None:
    """Wraps everything that writes: before and after each call is a boundary, and at one of them the process dies."""
    from whenvoca.engine.ledger.sqlite import SqliteLedger
    from whenvoca.places import files
    from whenvoca.places.calendar.dav import DavCalendar
    from whenvoca.places.calendar.folder import FolderCalendar
    from whenvoca.places.mail.folder import FolderOutbox
    from whenvoca.places.mailbox.folder import FolderMailbox
    from whenvoca.places.sheet.place import SheetPlace

    passed = 0

    def step() -> None:
        nonlocal passed
        passed += 1
        if passed == die_at:
            os.kill(os.getpid(), signal.SIGKILL)
        if report is not None:
            report[0] = passed

    def wrap(owner: Any, name: str) -> None:
        real: Callable[..., Any] = getattr(owner, name)

        def wrapped(*args: Any, **more: Any) -> Any:
            step()
            result = real(*args, **more)
            step()
            return result

        setattr(owner, name, wrapped)

    for owner, names in (
        (SqliteLedger, ("commit", "observe", "begin_save", "end_save", "begin_runs", "add_occurrences")),
        (DavCalendar, ("_apply_one",)),
        (FolderCalendar, ("_put",)),
        (FolderMailbox, ("_apply_one",)),
        (FolderOutbox, ("_send",)),
        (SheetPlace, ("pend",)),
        (files, ("put_in_place", "write_temporary", "sync_folder")),
    ):
        for name in names:
            wrap(owner, name)


def killed_at(desk: Desk, boundary: int, arguments: tuple[str, ...] = ("run",)) -> bool:
    """Runs in a forked child that dies there; answers whether it came so far."""
    child = os.fork()
    if child == 0:
        code = 1
        try:
            null = os.open(os.devnull, os.O_WRONLY)
            os.dup2(null, 1)
            os.dup2(null, 2)
            boundaries(boundary)
            code = run_command([*arguments, "--workspace", str(desk.folder)])
        finally:
            os._exit(code)
    _, status = os.waitpid(child, 0)
    return os.WIFSIGNALED(status)


def count_boundaries(desk: Desk, arguments: tuple[str, ...] = ("run",)) -> int:
    """How many boundaries a whole run has, counted in a child as well."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
            os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
            count = [0]
            boundaries(-1, count)
            run_command([*arguments, "--workspace", str(desk.folder)])
            os.write(writing, str(count[0]).encode())
        finally:
            os._exit(0)
    os.waitpid(child, 0)
    return int(os.read(reading, 20))


def test_killed_between_effects_and_run_again_everything_stands_once(desk: Desk, radicale: Radicale) -> None:
    name = "sample"
    prepare(desk, radicale, name, rows=20)
    total = count_boundaries(desk)
    assert total > 20 * 8
    verify(desk, radicale, name, rows=20)
    for boundary in random.Random(7).sample(range(1, total + 1), 8):
        prepare(desk, radicale, name, rows=20)
        assert killed_at(desk, boundary)
        assert desk.run("run").code == 0
        verify(desk, radicale, name, rows=20)


@pytest.mark.soak
def test_killed_at_every_boundary(desk: Desk, radicale: Radicale) -> None:
    name, begin = "every", time.monotonic()
    prepare(desk, radicale, name)
    total = count_boundaries(desk)
    for boundary in range(1, total + 1):
        prepare(desk, radicale, name)
        assert killed_at(desk, boundary), boundary
        assert desk.run("run").code == 0, boundary
        verify(desk, radicale, name)
    print(
        f"\n{ROWS} rows, killed at each of {total} boundaries, {time.monotonic() - begin:.0f} s: all stands once each "
        "time"
    )


def play_real_kills(desk: Desk, radicale: Radicale, name: str, wanted: int, seed: int) -> int:
    chance, kills = random.Random(seed), 0
    while kills < wanted:
        prepare(desk, radicale, name)
        for _ in range(5):
            kills += kill_at(desk, chance.uniform(0.35, 1.6))
        assert desk.run("run").code == 0
        verify(desk, radicale, name)
    return kills


def test_real_kills_at_random_instants(desk: Desk, radicale: Radicale) -> None:
    assert play_real_kills(desk, radicale, "real", 10, 3) >= 10


@pytest.mark.soak
def test_many_real_kills(desk: Desk, radicale: Radicale) -> None:
    begin = time.monotonic()
    kills = play_real_kills(desk, radicale, "many", 500, 11)
    print(
        f"\n{kills} real kills of a run over {ROWS} rows, {time.monotonic() - begin:.0f} s: all stands once each time"
    )


IN_THE_LONG_RUN = [pytest.param(each, marks=pytest.mark.soak) for each in ("hang", "500", "refuse")]


@pytest.mark.parametrize("fault", ["cut", *IN_THE_LONG_RUN])
def test_killed_while_the_server_makes_trouble(desk: Desk, radicale: Radicale, fault: str, tmp_path: Path) -> None:
    """Every seventh request is spoiled, the process is killed in between, and the server comes back."""
    name, well = f"trouble{fault}", False
    with FaultyProxy(radicale.url, lambda method, number: "" if well or number % 7 else fault) as proxy:
        prepare(desk, radicale, name, proxy.url, rows=20)
        for boundary in (60, 140):
            killed_at(desk, boundary)
        well = True
        for _ in range(2):
            desk.run("run")
        desk.run("retry", "--failed")
        verify_events(desk, radicale, name, 20)


def verify_events(desk: Desk, radicale: Radicale, name: str, rows: int) -> None:
    sheet = list(csv.DictReader(desk.read().splitlines()))
    assert [row["Answer"] for row in sheet] == ["granted"] * rows
    assert len(radicale.events(name)) == len(desk.events("halls")) == rows
    assert {row["Booking"] for row in sheet} == {file.removesuffix(".ics") for file in radicale.events(name)}
