"""Work on another thread while this one does something else: for what does not hold the interpreter."""

from __future__ import annotations

from collections.abc import Callable
from threading import Thread
from typing import TypeVar

T = TypeVar("T")


def start_in_background(work: Callable[[], T]) -> Callable[[], T]:
    """Begins the work; what is answered waits for it, and answers what it came to or raises what it raised."""
    made: list[T] = []
    errors: list[BaseException] = []

    def run() -> None:
        try:
            made.append(work())
        except BaseException as error:
            errors.append(error)

    thread = Thread(target=run)
    thread.start()

    def result() -> T:
        thread.join()
        if errors:
            raise errors[0]
        return made.pop()

    return result
