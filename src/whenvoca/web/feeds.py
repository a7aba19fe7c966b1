"""Calendars to look at: whole, read-only, as iCalendar at a link that nobody can guess, so that a phone can
subscribe."""

from __future__ import annotations

import contextlib
import hashlib
import threading
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any

from msgspec.structs import replace
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import Response

from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import add_events
from whenvoca.errors import WhenvocaError
from whenvoca.web.house import House

_KEPT = 20.0  # seconds for which a calendar is not read again
_STAMP = datetime(2000, 1, 1, tzinfo=UTC)  # the same each time: the text changes with its events alone
_EMPTY = b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Whenvoca//Whenvoca//EN\r\nEND:VCALENDAR\r\n"


class Feeds:
    """The calendars that are served. ``open_places`` opens places for this alone: it is read in threads of its own."""

    def __init__(self, house: House) -> None:
        self._house = house
        self._paths: Mapping[str, str] = {}
        self._open_places: Callable[[], Any] = dict
        self._lock = threading.Lock()
        self._read: dict[str, tuple[float, bytes]] = {}

    def serve(self, paths: Mapping[str, str], open_places: Callable[[], Any]) -> None:
        """From now on these: paths by the names of calendars."""
        self._paths, self._open_places, self._read = paths, open_places, {}

    async def answer(self, request: Request) -> Response:
        """One calendar, or that it is as it was (RFC 9110 13.1.2). Raises HTTPException."""
        file, token = request.path_params["file"], request.path_params["token"]
        name = next((name for name, path in self._paths.items() if path == f"/{file}"), "")
        if not self._house.is_of_feed(token, name) or not name:
            raise HTTPException(404)
        if request.method not in ("GET", "HEAD"):
            raise HTTPException(405, "a calendar is only read here", {"allow": "GET, HEAD"})
        try:
            data = await run_in_threadpool(self._text_of, name)
        except WhenvocaError as error:
            raise HTTPException(503, "the calendar cannot be read just now") from error
        etag = f'"{hashlib.sha256(data).hexdigest()[:32]}"'
        headers = {"etag": etag, "cache-control": "private, max-age=60"}
        known = [each.strip().removeprefix("W/") for each in request.headers.get("if-none-match", "").split(",")]
        if etag in known or "*" in known:
            return Response(status_code=304, headers=headers)
        return Response(data, media_type="text/calendar; charset=utf-8", headers=headers)

    def _text_of(self, name: str) -> bytes:
        with self._lock:
            since, data = self._read.get(name, (0.0, b""))
            if not data or time.monotonic() - since > _KEPT:
                with contextlib.closing(self._open_places()) as places:
                    found = places.open_named(name).all_events()
                events = sorted(found, key=lambda each: (each.uid, str(each.occurrence)))
                data = add_events(_EMPTY, [_shown(each) for each in events], _STAMP)
                self._read[name] = (time.monotonic(), data)
            return data


def _shown(event: Event) -> Event:
    """The event as others may see it: of a private one only the times; nobody's address, and no reminders of ours."""
    if event.private:
        event = replace(event, title="private", location="", details="", categories=(), url="")
    return replace(event, attendees=(), organizer="", alarms=(), origin="", extra=())
