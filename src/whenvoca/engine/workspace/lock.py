"""One worker a workspace: a lock of the operating system, so that it is gone with the process however it ends."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

from whenvoca.engine.clock import Clock
from whenvoca.errors import PlaceTrouble


@contextmanager
def worker_lock(path: Path, clock: Clock, *, patience: float, tell: object = None) -> Iterator[None]:
    """Holds the lock. Waits so many seconds for another worker, then raises PlaceTrouble that names it.

    ``tell`` is called with a sentence once when waiting begins.
    """
    with open(path, "a+", encoding="utf-8") as file:
        left = patience
        told = False
        while not _try_lock(file):
            if not told and callable(tell):
                tell(f"{_holder(file)} is at work in this workspace; waiting")
                told = True
            if left <= 0:
                raise PlaceTrouble(
                    f"{_holder(file)} is at work in this workspace",
                    where=str(path.parent.parent),
                    fix="run again when it is done",
                )
            clock.wait(min(0.1, left))
            left -= 0.1
        file.seek(0)
        file.truncate()
        file.write(str(os.getpid()))
        file.flush()
        try:
            yield
        finally:
            _unlock(file)


@contextmanager
def alone_with(file: IO[Any]) -> Iterator[None]:
    """The open file as one's own for a moment: whoever else wants it so, in this process or another, waits."""
    _wait_for_lock(file)
    try:
        yield
    finally:
        _unlock(file)


def _holder(file: IO[str]) -> str:
    file.seek(0)
    process = file.read(20).strip()
    return f"another whenvoca (process {process})" if process.isdigit() else "another whenvoca"


if sys.platform == "win32":
    import msvcrt

    def _try_lock(file: IO[str]) -> bool:
        try:
            file.seek(1 << 20)
            msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)
        except OSError:
            return False
        return True

    def _wait_for_lock(file: IO[Any]) -> None:
        file.seek(1 << 20)
        msvcrt.locking(file.fileno(), msvcrt.LK_LOCK, 1)

    def _unlock(file: IO[Any]) -> None:
        file.seek(1 << 20)
        msvcrt.locking(file.fileno(), msvcrt.LK_UNLCK, 1)

else:
    import fcntl

    def _try_lock(file: IO[str]) -> bool:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return False
        return True

    def _wait_for_lock(file: IO[Any]) -> None:
        fcntl.flock(file, fcntl.LOCK_EX)

    def _unlock(file: IO[Any]) -> None:
        fcntl.flock(file, fcntl.LOCK_UN)
