"""The thread that keeps what comes in: whatever waits is committed together, then each is answered."""

from __future__ import annotations

import asyncio
import queue
import sqlite3
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.errors import PlaceTrouble, WhenvocaError

Result = TypeVar("Result")
_MOST_TOGETHER = 128
_MOST_WAITING = 2000  # beyond these nothing more is taken: it would only be late


class IntakeThread:
    """Works on a ledger through a connection of its own, from any number of asyncio tasks."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._work: queue.Queue[tuple[Callable[[Ledger], Any], asyncio.Future[Any]] | None] = queue.Queue(_MOST_WAITING)
        self._thread = threading.Thread(target=self._run, name="intake", daemon=True)

    def start(self) -> None:
        """Begins."""
        self._thread.start()

    def stop(self) -> None:
        """Ends, when all that waits is done."""
        self._work.put(None)
        self._thread.join(10)

    async def do(self, work: Callable[[Ledger], Result]) -> Result:
        """Does it, and answers when it is on the disk. Raises what the work raises, PlaceTrouble where the ledger
        cannot be written or too much is waiting."""
        done: asyncio.Future[Result] = asyncio.get_running_loop().create_future()
        try:
            self._work.put_nowait((work, done))
        except queue.Full as error:
            raise PlaceTrouble("too much is waiting to be kept", is_passing=True) from error
        return await done

    def _run(self) -> None:
        ledger = SqliteLedger(self._path)
        try:
            while (first := self._work.get()) is not None:
                group = [first]
                is_last = False
                while len(group) < _MOST_TOGETHER and not self._work.empty():
                    following = self._work.get()
                    if following is None:
                        is_last = True
                        break
                    group.append(following)
                self._work_on(ledger, group)
                if is_last:
                    return
        finally:
            ledger.close()

    def _work_on(self, ledger: Ledger, group: list[tuple[Callable[[Ledger], Any], asyncio.Future[Any]]]) -> None:
        """All in one transaction; where that fails each in one of its own, so that one does no harm to the others."""
        try:
            with ledger.transaction():
                results = [work(ledger) for work, _ in group]
        except (WhenvocaError, sqlite3.Error, ValueError, KeyError, TypeError):
            for work, done in group:
                try:
                    with ledger.transaction():
                        result = work(ledger)
                except Exception as error:  # it is the answer of this one
                    _settle(done, error=error)
                else:
                    _settle(done, result)
            return
        for (_, done), result in zip(group, results, strict=True):
            _settle(done, result)


def _settle(done: asyncio.Future[Any], result: Any = None, error: Exception | None = None) -> None:
    def settle() -> None:
        if done.done():
            return
        if error is not None:
            done.set_exception(error)
        else:
            done.set_result(result)

    done.get_loop().call_soon_threadsafe(settle)
