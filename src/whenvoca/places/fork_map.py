"""Work on many things alike, half of it done by a forked process where that pays and is safe."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import msgspec

T = TypeVar("T")

_FEWEST = 200  # things for which a process of its own pays


def fork_map(work: Callable[[Sequence[int]], list[T]], count: int) -> list[T]:
    """What ``work`` makes of the things of these numbers, in their order. It may write files, and changes nothing else
    that is used afterwards. Raises the OSError that it raises, of whichever half, when both have ended.
    """
    numbers = range(count)
    if count < _FEWEST or not hasattr(os, "fork") or threading.active_count() > 1 or (os.cpu_count() or 1) < 2:
        return work(numbers)
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        _work_beside(work, numbers[count // 2 :], writing)
    os.close(writing)
    try:
        with os.fdopen(reading, "rb") as answer:
            first: list[T] = work(numbers[: count // 2])
            said = answer.read()
    finally:
        os.waitpid(child, 0)
    if not said:  # it was ended: what it did not do is done here
        return [*first, *work(numbers[count // 2 :])]
    second: Any = msgspec.msgpack.decode(said)
    if isinstance(second, dict):
        raise OSError(second["errno"], second["text"])
    return [*first, *second]


def _work_beside(work: Callable[[Sequence[int]], list[T]], numbers: Sequence[int], writing: int) -> None:
    """Ends the process: nothing of what the other one holds open is tidied up here."""
    try:
        try:
            made: Any = work(numbers)
        except OSError as error:
            made = {"errno": error.errno, "text": error.strerror}
        with os.fdopen(writing, "wb") as answer:
            answer.write(msgspec.msgpack.encode(made))
    finally:
        os._exit(0)
