"""The page of a chat: somebody of [people], by their personal link, types requests and reads the answers."""

from __future__ import annotations

import asyncio
import json
import secrets
from collections.abc import AsyncIterator
from datetime import datetime
from typing import Any

from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response, StreamingResponse

from whenvoca.engine.clock import Clock
from whenvoca.engine.people import People, Person
from whenvoca.places.chat.folder import FolderChat
from whenvoca.web.booked import day_in_words
from whenvoca.web.house import House
from whenvoca.web.requests import read_form, refuse_other_sites

_POLICY = (
    "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; form-action 'self'; "
    "frame-ancestors 'none'; base-uri 'none'"
)
_SHOWN = 100  # messages
_LONGEST = 4000  # signs of one
_ANSWER_SECONDS = 8.0  # for which a page without scripts waits for the answer
_STEP = 0.3  # seconds between looks for new messages
_SIGN_OF_LIFE = 15.0  # seconds after which a quiet stream says that it is there
_MOST_STREAMS = 4  # of one person


class DeskPages:
    """The page of one chat; ``box`` holds what was said."""

    def __init__(self, house: House, box: FolderChat, people: People, clock: Clock) -> None:
        self._house, self._box, self._people, self._clock = house, box, people, clock
        self._streams: dict[str, int] = {}

    async def answer(self, request: Request, token: str, deed: str) -> Response:
        """One request with the word of a personal link. Raises HTTPException."""
        person = self._house.person_of(token, "desk", self._box.name, self._people)
        if person is None or deed not in ("", "live"):
            raise HTTPException(404)
        here = f"{self._box.page}/{token}"
        if deed == "live":
            return self._live(request, person)
        if request.method == "POST":
            return await self._take(request, person, here)
        return await self._show(person, here)

    async def _show(self, person: Person, here: str) -> Response:
        said = await run_in_threadpool(self._said, person)
        shown = self._house.render(
            "desk.html",
            title=f"Ask the {self._box.name_here}",
            person=person.name,
            said=said[-_SHOWN:],
            here=here,
            page=secrets.token_urlsafe(16),
            count=len(said),
        )
        shown.headers["content-security-policy"] = _POLICY
        return shown

    async def _take(self, request: Request, person: Person, here: str) -> Response:
        """Something is said: it stands in the chat before this is answered."""
        refuse_other_sites(request, self._house.settings)
        posted = await read_form(request, self._house.settings.size)
        text = posted.get("text", [""])[0].strip()
        page = posted.get("page", [""])[0]
        if len(text) > _LONGEST:
            raise HTTPException(413, f"This is too long: {_LONGEST} signs at most.")
        if text:
            number = f"page-{page[:40]}" if page else f"page-{secrets.token_urlsafe(12)}"
            await run_in_threadpool(
                self._box.post, "", _name_of(person), text, self._clock.now(), number=number, answered=False
            )
            self._box.wake()
            if "application/json" in request.headers.get("accept", ""):  # the script, which hears the answer live
                return Response(status_code=204)
            await self._until_answered(person, number)
        return RedirectResponse(here, 303)

    async def _until_answered(self, person: Person, number: str) -> None:
        for _ in range(int(_ANSWER_SECONDS / _STEP)):
            said = await run_in_threadpool(self._box.messages, "people", _name_of(person))
            numbers = [str(each.get("id")) for each in said]
            since = said[numbers.index(number) + 1 :] if number in numbers else []
            if any(self._is_ours(each) for each in since) or self._house.is_closing:
                return
            await asyncio.sleep(_STEP)

    def _live(self, request: Request, person: Person) -> Response:
        """New messages as they come (server-sent events); the last one that the page has is named by its count."""
        if self._streams.get(person.name, 0) >= _MOST_STREAMS:
            raise HTTPException(429, "this page is open too often", {"retry-after": "30"})
        told = request.headers.get("last-event-id") or request.query_params.get("after", "0")
        after = int(told) if told.isascii() and told.isdecimal() and len(told) < 9 else 0
        headers = {"cache-control": "no-store", "x-accel-buffering": "no"}
        return StreamingResponse(self._stream(request, person, after), media_type="text/event-stream", headers=headers)

    async def _stream(self, request: Request, person: Person, after: int) -> AsyncIterator[str]:
        self._streams[person.name] = self._streams.get(person.name, 0) + 1
        try:
            size, quiet = -1, 0.0
            yield "retry: 3000\n\n"
            while not self._house.is_closing and not await request.is_disconnected():
                now = await run_in_threadpool(self._box.size_of, _name_of(person))
                if now != size:
                    size, said = now, await run_in_threadpool(self._said, person)
                    for count, each in enumerate(said[after:], after + 1):
                        yield f"id: {count}\nevent: said\ndata: {json.dumps(each, ensure_ascii=False)}\n\n"
                    after, quiet = max(after, len(said)), 0.0
                elif quiet >= _SIGN_OF_LIFE:
                    quiet = 0.0
                    yield ": still here\n\n"
                await asyncio.sleep(_STEP)
                quiet += _STEP
        finally:
            self._streams[person.name] -= 1

    def _said(self, person: Person) -> list[dict[str, Any]]:
        """What was said with them, as the page shows it."""
        found = []
        for each in self._box.messages("people", _name_of(person)):
            at = datetime.fromisoformat(str(each.get("at"))).astimezone(person.zone or self._box.zone)
            is_ours = self._is_ours(each)
            who = str(each.get("from", "")) if is_ours else "you"
            shown = f"{day_in_words(at.date())}, {at:%H:%M}"
            found.append({"who": who, "at": shown, "text": str(each.get("text", "")), "is_ours": is_ours})
        return found

    def _is_ours(self, message: dict[str, Any]) -> bool:
        return str(message.get("from", "")).lower() == self._box.name_here.lower()


def _name_of(person: Person) -> str:
    return person.chat or person.name
