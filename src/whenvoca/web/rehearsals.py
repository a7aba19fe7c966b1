"""Trying a form or a hook out: for a while, what comes in by it is only rehearsed, and answered with the effects."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING, Any

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.places.sample_file import to_sample_file

if TYPE_CHECKING:
    from whenvoca.web.house import House

_KEY = "rehearsed until "  # begins the name under which the end of that time is kept


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


async def rehearse_last(house: House, place: str, wake: Callable[[], None]) -> dict[str, Any]:
    """What would be done about what came in last at the place. Raises PlaceTrouble where that takes too long."""
    path = house.folder / "samples" / f"{place.lower()}.json"

    def write(ledger: Ledger) -> None:
        sample = ledger.sample(place)
        assert sample is not None
        path.parent.mkdir(mode=0o700, exist_ok=True)
        path.write_text(to_sample_file(place, sample), encoding="utf-8")

    await house.intake.do(write)
    job = await house.jobs.do(["rehearse", "--sample", str(path), "--json"], wake)
    told: dict[str, Any] = json.loads(job.out) if job.out else {"runs": []}
    return {"rehearsed": True, "fault": "" if job.out else job.err.strip(), **told}
