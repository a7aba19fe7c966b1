"""The board: one page for the person in charge, with what ran today, what failed and why, what starts next, and which
places do not answer."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

from msgspec import Struct
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from whenvoca.calendars.event import Event
from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.history import failed_and_last
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.engine.workspace.watch_status import read_health
from whenvoca.errors import WhenvocaError
from whenvoca.values.zones import first_moment
from whenvoca.web.booked import day_in_words
from whenvoca.web.house import House
from whenvoca.web.requests import read_form, refuse_other_sites

BOARD = "board"  # stands for a place in personal links
_MOST_RUNS = 200
_SHOWN_RUNS, _SHOWN_EVENTS = 30, 12
_AHEAD = timedelta(days=2)
_KEPT = 20.0  # seconds for which the calendars are not read again


class Coming(Struct, frozen=True):
    """An event that starts next, as the board shows it."""

    day: str
    time: str
    title: str
    calendar: str


class BoardPages:
    """The board of a workspace. ``describe`` tells in a line what a run did; ``wake`` has handed-over jobs done."""

    def __init__(
        self,
        house: House,
        workspace: Workspace,
        clock: Clock,
        open_places: Callable[[], Any],
        describe: Callable[[RunRecord], str],
        wake: Callable[[], None],
    ) -> None:
        self._house, self._workspace, self._clock = house, workspace, clock
        self._open_places, self._describe, self._wake = open_places, describe, wake
        self._coming: tuple[float, list[Coming], list[str]] = (float("-inf"), [], [])

    async def answer(self, request: Request, token: str, deed: str) -> Response:
        """One request with the word of a personal link. Raises HTTPException."""
        person = self._house.person_of(token, BOARD, BOARD, self._workspace.people)
        if person is None or deed not in ("", "retry"):
            raise HTTPException(404)
        assert self._workspace.web is not None
        here = f"{self._workspace.web.board}/{token}"
        if deed == "retry":
            if request.method != "POST":
                raise HTTPException(405, "this is a button", {"allow": "POST"})
            return await self._retry(request, here)
        if request.method == "POST":
            raise HTTPException(405, "the board is only read", {"allow": "GET, HEAD"})
        return await self._show(here)

    async def _show(self, here: str) -> Response:
        now, zone = self._clock.now(), self._workspace.zone
        today = now.astimezone(zone).date()
        since = first_moment(today, zone).astimezone(UTC).isoformat()
        told = await self._house.intake.do(lambda ledger: self._runs(ledger, since))
        coming, away = await run_in_threadpool(self._look_ahead, now)
        troubles = [str(each) for each in (read_health(self._workspace) or {}).get("troubles", ())]
        return self._house.render(
            "board.html",
            title=day_in_words(today),
            wide=True,
            here=here,
            failed=told[0],
            ran=told[1][:_SHOWN_RUNS],
            count=len(told[1]),
            coming=coming,
            troubles=[*dict.fromkeys([*(each.removeprefix("place: ") for each in troubles), *away])],
            at=f"{now.astimezone(zone):%H:%M}",
        )

    def _runs(self, ledger: Ledger, since: str) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
        """What failed and was not followed by another run, and what ran today."""
        failed = [self._to_shown(each) for each in reversed(failed_and_last(ledger, _MOST_RUNS)) if each.kind == "run"]
        ran = [self._to_shown(each) for each in ledger.runs(since=since, limit=_MOST_RUNS)]
        return failed[:_SHOWN_RUNS], ran

    def _to_shown(self, record: RunRecord) -> dict[str, Any]:
        started = datetime.fromisoformat(record.started).astimezone(self._workspace.zone)
        return {
            "number": record.number,
            "at": f"{started:%H:%M}",
            "day": day_in_words(started.date()),
            "workflow": record.workflow,
            "label": record.label,
            "outcome": record.outcome,
            "what": record.reason or self._describe(record),
        }

    def _look_ahead(self, now: datetime) -> tuple[list[Coming], list[str]]:
        """The events that start next, and the calendars that cannot be read."""
        since, coming, away = self._coming
        if time.monotonic() - since < _KEPT:
            return coming, away
        found: list[tuple[datetime, str, Event]] = []
        away = []
        with contextlib.closing(self._open_places()) as places:
            for name in places.calendars:
                try:
                    calendar = places.calendars[name]
                    events = calendar.find_between(now, now + _AHEAD)
                    found += [(each.span(calendar.zone)[0], calendar.name, each) for each in events]
                except WhenvocaError as error:
                    away.append(f"{name}: {error.message}")
        zone = self._workspace.zone
        found = sorted((each for each in found if each[0] >= now), key=lambda each: (each[0], each[1]))
        coming = [
            Coming(
                day_in_words(start.astimezone(zone).date()),
                "all day" if event.is_whole_day else f"{start.astimezone(zone):%H:%M}",
                "private" if event.private else event.title,
                name,
            )
            for start, name, event in found[:_SHOWN_EVENTS]
        ]
        self._coming = (time.monotonic(), coming, away)
        return coming, away

    async def _retry(self, request: Request, here: str) -> Response:
        """Has a failed run tried again, by the process that watches, as a command beside it would."""
        refuse_other_sites(request, self._house.settings)
        posted = await read_form(request, self._house.settings.size)
        number = posted.get("run", [""])[0]
        if not (number.isascii() and number.isdecimal() and len(number) < 12):
            raise HTTPException(422, "No run is named.")
        await self._house.jobs.do(["retry", number, "--yes", "--json"], self._wake)
        return RedirectResponse(here, 303)
