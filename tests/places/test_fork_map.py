"""Half of the work done by a process beside: the same answers in the same order, and no trouble is lost."""

from __future__ import annotations

import errno
import os
import subprocess
import sys
import threading
from collections.abc import Sequence
from pathlib import Path

import pytest

from whenvoca.places.fork_map import fork_map


@pytest.mark.parametrize("count", [0, 1, 199, 200, 201, 1000])
def test_answers_come_in_order_and_all_is_written(count: int, tmp_path: Path) -> None:
    def work(numbers: Sequence[int]) -> list[str]:
        for number in numbers:
            (tmp_path / str(number)).write_text("x", encoding="ascii")
        return [f"{number}é" for number in numbers]

    assert fork_map(work, count) == [f"{number}é" for number in range(count)]
    assert sorted(int(path.name) for path in tmp_path.iterdir()) == list(range(count))


@pytest.mark.parametrize("bad", [3, 397], ids=["here", "beside"])
def test_trouble_of_either_half_is_told(bad: int) -> None:
    def work(numbers: Sequence[int]) -> list[str]:
        if bad in numbers:
            raise OSError(errno.ENOSPC, "no space")
        return ["" for _ in numbers]

    with pytest.raises(OSError, match="no space") as caught:
        fork_map(work, 400)
    assert caught.value.errno == errno.ENOSPC


KILLED = """
import os, signal, sys
from whenvoca.places.fork_map import fork_map
here, mine = os.getpid(), []
def work(numbers):
    if os.getpid() != here:
        os.kill(os.getpid(), signal.SIGKILL)
    mine.append(len(numbers))
    return [str(number) for number in numbers]
assert fork_map(work, 400) == [str(number) for number in range(400)]
print(mine)
"""


@pytest.mark.skipif((os.cpu_count() or 1) < 2, reason="one core: there are no halves")
def test_the_half_of_a_process_that_is_killed_is_done_here() -> None:
    done = subprocess.run([sys.executable, "-c", KILLED], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["[200,", "200]"]


def test_beside_other_threads_nothing_is_forked() -> None:
    done = threading.Event()
    thread = threading.Thread(target=done.wait)
    thread.start()
    try:
        assert set(fork_map(lambda numbers: [str(os.getpid()) for _ in numbers], 400)) == {str(os.getpid())}
    finally:
        done.set()
        thread.join()
