"""Trying a form or a hook out: for a while, what comes in by it is only rehearsed, and answered with the effects."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.errors import PlaceTrouble
from whenvoca.places.sample_file import to_sample_file
from whenvoca.web.intake import IntakeThread

_KEY = "rehearsed until "  # begins the name under which the end of that time is kept
_SECONDS = 20.0  # for one rehearsal
_STEP = 0.05


def rehearse_until(ledger: Ledger, place: str, until: datetime | None) -> None:
    """From now until then what comes in by the place is only rehearsed; None: from now on it counts."""
    ledger.set_meta(f"{_KEY}{place.lower()}", until.isoformat() if until is not None else "")


def rehearsed_until(ledger: Ledger, place: str, now: datetime) -> datetime | None:
    """Until when what comes in by the place is only rehearsed; None where it counts."""
    text = ledger.meta(f"{_KEY}{place.lower()}")
    until = datetime.fromisoformat(text) if text else None
    return until if until is not None and now < until else None


def is_rehearsed(ledger: Ledger, place: str, now: datetime) -> bool:
    """Whether what comes in by the place is only rehearsed."""
    return rehearsed_until(ledger, place, now) is not None


class Rehearsals:
    """Has samples rehearsed by the thread that runs workflows, as another process would hand it a command over."""

    def __init__(self, intake: IntakeThread, folder: Path) -> None:
        self._intake, self._folder = intake, folder

    async def answer(self, place: str, wake: Callable[[], None]) -> dict[str, Any]:
        """What would be done about what came in last at the place. Raises PlaceTrouble where that takes too long."""
        path = self._folder / "samples" / f"{place.lower()}.json"

        def begin(ledger: Ledger) -> int:
            sample = ledger.sample(place)
            assert sample is not None
            path.parent.mkdir(mode=0o700, exist_ok=True)
            path.write_text(to_sample_file(place, sample), encoding="utf-8")
            workspace = str(self._folder.parent)
            return ledger.add_job(["rehearse", "--sample", str(path), "--json", "--workspace", workspace])

        number = await self._intake.do(begin)
        wake()
        for _ in range(int(_SECONDS / _STEP)):
            await asyncio.sleep(_STEP)
            job = await self._intake.do(lambda ledger: ledger.job(number))
            if job is None:
                break
            if job.state == "done":
                await self._intake.do(lambda ledger: ledger.drop_job(number))
                told: dict[str, Any] = json.loads(job.out) if job.out else {"runs": []}
                return {"rehearsed": True, "fault": "" if job.out else job.err.strip(), **told}
        raise PlaceTrouble("the rehearsal takes too long", is_passing=True)
