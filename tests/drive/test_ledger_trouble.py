"""A ledger that is damaged, or cannot be kept: said in words with what to do, exit status 3, and nothing done twice."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable

import pytest

from tests.conftest import REQUESTS, SETTINGS, WORKFLOW, Desk


def _scratched(data: bytearray) -> bytearray:
    for begin in range(3 * 4096, len(data), 8192):
        data[begin : begin + 2000] = os.urandom(2000)
    return data


DAMAGE: dict[str, Callable[[bytearray], bytes | bytearray]] = {
    "header": lambda data: b"x" * 16 + data[16:],
    "scratched": _scratched,
    "cut": lambda data: data[: len(data) // 2],
    "a text": lambda data: b"hello\n" * 1000,
}
COMMANDS = ["run", "runs", "runs --json", "explain 3", "undo 3", "check", "rehearse", "retry --failed"]


@pytest.fixture
def done(desk: Desk) -> Desk:
    desk.settings(SETTINGS, REQUESTS).workflow(WORKFLOW.split("change row")[0])
    desk.rows(*(f",,R-{n},M {n},17.03.2027,{n % 20:02}:00,{n % 20 + 1:02}:00" for n in range(120)))
    assert desk.run("run").code == 0
    return desk


@pytest.mark.parametrize("damage", DAMAGE)
def test_damaged_ledger_is_told_by_every_command_and_can_be_set_aside(done: Desk, damage: str) -> None:
    state = done.folder / ".whenvoca"
    for side in state.glob("ledger.sqlite-*"):
        side.unlink()
    ledger = state / "ledger.sqlite"
    ledger.write_bytes(DAMAGE[damage](bytearray(ledger.read_bytes())))
    for command in COMMANDS:
        told = done.run(*command.split())
        assert (told.code, told.out) == (3, ""), command
        assert "the ledger is damaged" in told.err
        assert "move the folder .whenvoca aside and run again" in told.err
    state.rename(done.folder / "aside")
    assert done.run("run").code == 0
    assert len(done.events()) == 120


def test_settings_that_cannot_be_written_for_want_of_room_are_told(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk.settings(SETTINGS.replace("root =", "# root ="), REQUESTS).workflow(WORKFLOW).rows()

    def full(*args: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr("whenvoca.engine.workspace.settings.os.replace", full)
    told = desk.run("run")
    assert (told.code, "cannot be written: no space left on device" in told.err) == (3, True)
    assert "make room and run again" in told.err
