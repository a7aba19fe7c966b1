"""Old files are let go beside the work.

A file system may take milliseconds to free what a replaced file held, and whoever renames over it waits. While the old
file is held open the rename is quick, and a thread waits for the closing.
"""

from __future__ import annotations

import os
from collections import deque
from pathlib import Path
from threading import Lock, Thread

MOST_HELD = 64  # old files; beyond it whoever replaces another one waits


def replace(temporary: Path, path: Path) -> None:
    """Renames the temporary over the file, whose old content is let go beside. Raises OSError."""
    old = _hold(path)
    try:
        os.replace(temporary, path)
    finally:
        if old is not None:
            _closer.close(old)


def _hold(path: Path) -> int | None:
    if os.name != "posix":  # elsewhere a file that is open cannot be replaced
        return None
    try:
        return os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    except OSError:  # there is none, or it may not be read
        return None


class _DescriptorCloser:
    """Closes what it is given, in order, on a thread that ends when nothing is left."""

    def __init__(self) -> None:
        self._held: deque[int] = deque()
        self._lock = Lock()
        self._is_at_work = False

    def close(self, descriptor: int) -> None:
        """Closes it soon; at once where many wait already."""
        with self._lock:
            if len(self._held) < MOST_HELD and (self._is_at_work or self._begin()):
                self._held.append(descriptor)
                return
        os.close(descriptor)

    def _begin(self) -> bool:
        try:
            Thread(target=self._work, daemon=True).start()
        except RuntimeError:  # the system gives no more threads, or the program is about to end
            return False
        self._is_at_work = True
        return True

    def _work(self) -> None:
        while True:
            with self._lock:
                if not self._held:
                    self._is_at_work = False
                    return
                descriptor = self._held.popleft()
            os.close(descriptor)


_closer = _DescriptorCloser()


def _begin_anew() -> None:
    """A forked process has the files, but no thread that closes them."""
    global _closer
    left, _closer = _closer._held, _DescriptorCloser()
    for descriptor in left:
        os.close(descriptor)


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_begin_anew)
