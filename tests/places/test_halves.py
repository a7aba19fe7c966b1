"""Half of the work done by a process beside: the same answers in the same order, and no trouble is lost."""

from __future__ import annotations

import errno
import os
import signal
import threading
from collections.abc import Sequence
from pathlib import Path

import pytest

from whenvoca.places.halves import in_halves


@pytest.mark.parametrize("count", [0, 1, 199, 200, 201, 1000])
def test_answers_come_in_order_and_all_is_written(count: int, tmp_path: Path) -> None:
    def work(numbers: Sequence[int]) -> list[str]:
        for number in numbers:
            (tmp_path / str(number)).write_text(str(os.getpid()), encoding="ascii")
        return [f"{number}é" for number in numbers]

    assert in_halves(work, count) == [f"{number}é" for number in range(count)]
    writers = {path.read_text(encoding="ascii") for path in tmp_path.iterdir()}
    assert len(list(tmp_path.iterdir())) == count
    assert len(writers) == (0 if not count else 1 if count < 200 or threading.active_count() > 1 else 2)


@pytest.mark.parametrize("bad", [3, 397], ids=["here", "beside"])
def test_trouble_of_either_half_is_told(bad: int) -> None:
    def work(numbers: Sequence[int]) -> list[str]:
        if bad in numbers:
            raise OSError(errno.ENOSPC, "no space")
        return ["" for _ in numbers]

    with pytest.raises(OSError, match="no space") as caught:
        in_halves(work, 400)
    assert caught.value.errno == errno.ENOSPC


def test_a_process_that_is_killed_is_no_success() -> None:
    here = os.getpid()

    def work(numbers: Sequence[int]) -> list[str]:
        if os.getpid() != here:
            os.kill(os.getpid(), signal.SIGKILL)
        return ["" for _ in numbers]

    if threading.active_count() == 1:
        with pytest.raises(OSError, match="was ended"):
            in_halves(work, 400)


def test_beside_other_threads_nothing_is_forked() -> None:
    done = threading.Event()
    thread = threading.Thread(target=done.wait)
    thread.start()
    try:
        assert set(in_halves(lambda numbers: [str(os.getpid()) for _ in numbers], 400)) == {str(os.getpid())}
    finally:
        done.set()
        thread.join()
