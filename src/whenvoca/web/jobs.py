"""Commands that the thread which runs workflows does for the door, as another process would hand them over."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from pathlib import Path

from whenvoca.engine.ledger.records import Job
from whenvoca.errors import PlaceTrouble
from whenvoca.web.intake import IntakeThread

_SECONDS = 20.0
_STEP = 0.05


class Jobs:
    """For one workspace; ``folder`` is that of its state."""

    def __init__(self, intake: IntakeThread, folder: Path) -> None:
        self._intake, self._folder = intake, folder

    async def do(self, arguments: Sequence[str], wake: Callable[[], None]) -> Job:
        """Has a command done, and answers what it printed. Raises PlaceTrouble where that takes too long."""
        whole = [*arguments, "--workspace", str(self._folder.parent)]
        number = await self._intake.do(lambda ledger: ledger.add_job(whole))
        wake()
        for _ in range(int(_SECONDS / _STEP)):
            await asyncio.sleep(_STEP)
            job = await self._intake.do(lambda ledger: ledger.job(number))
            if job is None:
                break
            if job.state == "done":
                await self._intake.do(lambda ledger: ledger.drop_job(number))
                return job
        raise PlaceTrouble("what was asked for takes too long", is_passing=True)
