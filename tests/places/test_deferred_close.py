"""Old files are let go beside the work: the new one stands at once, and no descriptor stays."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from whenvoca.places import deferred_close


def _open_descriptors() -> int:
    return len(os.listdir("/proc/self/fd"))


def _wait_for(count: int) -> None:
    for _ in range(200):
        if _open_descriptors() <= count:
            return
        time.sleep(0.01)
    raise AssertionError(f"{_open_descriptors()} descriptors are open, {count} were")


@pytest.mark.skipif(not os.path.isdir("/proc/self/fd"), reason="the system does not list descriptors")
def test_many_replaced_files_are_all_let_go(tmp_path: Path) -> None:
    path = tmp_path / "a.ics"
    path.write_text("0")
    before = _open_descriptors()
    for number in range(1, 200):
        temporary = tmp_path / "new"
        temporary.write_text(str(number))
        deferred_close.replace(temporary, path)
        assert path.read_text() == str(number)
        assert _open_descriptors() <= before + deferred_close.MOST_HELD + 3  # a temporary, and this look
    _wait_for(before)


@pytest.mark.skipif(not os.path.isdir("/proc/self/fd"), reason="the system does not list descriptors")
def test_without_a_thread_whoever_replaces_waits(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(self: object) -> None:
        raise RuntimeError("can't start new thread")

    monkeypatch.setattr("threading.Thread.start", refuse)
    (tmp_path / "a.ics").write_text("0")
    before = _open_descriptors()
    for number in range(3):
        (tmp_path / "new").write_text(str(number))
        deferred_close.replace(tmp_path / "new", tmp_path / "a.ics")
    assert ((tmp_path / "a.ics").read_text(), _open_descriptors()) == ("2", before)


def test_a_file_that_was_not_there_is_made(tmp_path: Path) -> None:
    (tmp_path / "new").write_text("1")
    deferred_close.replace(tmp_path / "new", tmp_path / "a.ics")
    assert (tmp_path / "a.ics").read_text() == "1"


def test_what_cannot_be_replaced_stays_and_is_told(tmp_path: Path) -> None:
    (tmp_path / "new").write_text("1")
    (tmp_path / "a.ics").mkdir()
    with pytest.raises(OSError, match="directory"):
        deferred_close.replace(tmp_path / "new", tmp_path / "a.ics")
    assert (tmp_path / "new").read_text() == "1"


@pytest.mark.skipif(not hasattr(os, "fork"), reason="the system does not fork")
def test_a_forked_process_lets_go_too(tmp_path: Path) -> None:
    path = tmp_path / "a.ics"
    path.write_text("0")
    child = os.fork()
    if child == 0:
        status = 1
        try:
            for number in range(200):
                (tmp_path / "new").write_text(str(number))
                deferred_close.replace(tmp_path / "new", path)
            status = 0
        finally:
            os._exit(status)
    assert os.waitpid(child, 0)[1] == 0
    assert path.read_text() == "199"
