"""What became of what came in: whoever sent it waits until the workflows are through with it, and reads what they
did."""

from __future__ import annotations

import asyncio
import threading
from datetime import date, datetime
from typing import Any, Literal

from msgspec import Struct, field

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import RowState
from whenvoca.errors import WhenvocaError

State = Literal["done", "failed", "waiting"]


class Booked(Struct, frozen=True):
    """An event that workflows made of it."""

    title: str
    start: datetime | date
    end: datetime | date | None = None
    location: str = ""
    uid: str = ""


class Story(Struct, frozen=True):
    """What became of an entry or a call. ``is_refused``: a workflow said no in words, which are ``reason``."""

    number: int
    state: State
    is_withdrawn: bool = False
    is_refused: bool = False
    reason: str = ""
    runs: tuple[int, ...] = ()
    booked: tuple[Booked, ...] = ()
    values: RowState = field(default_factory=dict)


def story_of(ledger: Ledger, place: str, subject: str) -> Story | None:
    """What became of a subject so far; None where there is none."""
    entry = ledger.entry(place, subject)
    if entry is None:
        return None
    found = ledger.states_of_occurrences(place, subject)
    states = {state for state, _ in found}
    is_withdrawn = entry.state is None
    runs = [run for _, run in found if run]
    records = ledger.runs(numbers=runs, limit=len(runs)) if runs else []
    reason = next((each.reason for each in records if each.outcome == "failed"), "")
    state: State = "failed" if "failed" in states else "waiting" if "waiting" in states else "done"
    if not found and not is_withdrawn:  # nobody has looked at it, or no workflow is about it
        state = "waiting"
    return Story(
        entry.number,
        state,
        is_withdrawn=is_withdrawn,
        is_refused=entry.is_refused and state == "failed" and not is_withdrawn,
        reason=reason,
        runs=tuple(sorted(runs)),
        booked=_booked(ledger, place, subject, {each.workflow for each in records}),
        values=entry.state or {},
    )


def _booked(ledger: Ledger, place: str, subject: str, workflows: set[str]) -> tuple[Booked, ...]:
    """The events that runs about the subject made and left standing, as they last wrote them."""
    fields: dict[tuple[str, str], dict[str, Any]] = {}
    for workflow in sorted(workflows):
        records = [each for each in ledger.runs(workflow=workflow, subject=subject) if each.place == place]
        for record in reversed(records):
            for each in record.effects if record.undone is None else ():
                key = (each.place, each.target)
                if each.noun != "event":
                    continue
                if each.action == "delete":
                    fields.pop(key, None)
                elif each.action in ("create", "put back") or key in fields:
                    fields[key] = {**fields.get(key, {}), **(each.after or {})}
    return tuple(
        Booked(str(each.get("title") or ""), each["start"], each.get("end"), str(each.get("location") or ""), target)
        for (_, target), each in fields.items()
        if isinstance(each.get("start"), date)
    )


class Waiting:
    """Whoever waits for a subject: told from the thread that runs workflows, after each of its rounds."""

    def __init__(self) -> None:
        self.read: set[str] = set()  # the places, in lower case, that a workflow looks at
        self._lock = threading.Lock()
        self._waits: list[tuple[str, int, asyncio.Event, asyncio.AbstractEventLoop]] = []

    async def until_looked_at(self, place: str, arrival: int, seconds: float) -> bool:
        """Waits until a round has looked at that arrival and worked on what it started; answers whether it has. At a
        place that no workflow looks at there is nothing to wait for."""
        if place.lower() not in self.read:
            return False
        looked = asyncio.Event()
        each = (place, arrival, looked, asyncio.get_running_loop())
        with self._lock:
            self._waits.append(each)
        try:
            await asyncio.wait_for(looked.wait(), seconds)
        except TimeoutError:
            return False
        finally:
            with self._lock:
                self._waits = [one for one in self._waits if one is not each]
        return True

    def after_round(self, ledger: Ledger) -> None:
        """Tells those whose arrival has been looked at."""
        with self._lock:
            waits = list(self._waits)
        cursors: dict[str, int] = {}
        for place, arrival, looked, loop in waits:
            if place not in cursors:
                try:
                    cursors[place] = int(ledger.cursor(place) or 0)
                except WhenvocaError:
                    return
            if cursors[place] >= arrival:
                loop.call_soon_threadsafe(looked.set)
