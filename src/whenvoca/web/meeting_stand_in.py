"""A stand-in for a service of meeting links: makes, looks up and deletes them, and is no meeting itself."""

from __future__ import annotations

import json
import secrets
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, Response
from starlette.routing import Route

from whenvoca.places.files import replace_file
from whenvoca.web.requests import read_body

_MOST = 100_000  # bytes of a request


class MeetingStandIn:
    """The links by the words of their makers; kept in a file where one is given. ``address`` is how it is reached."""

    def __init__(self, address: str, file: Path | None = None) -> None:
        self._address, self._file = address, file
        self._links: dict[str, dict[str, Any]] = {}
        if file is not None and file.exists():
            self._links = json.loads(file.read_text(encoding="utf-8"))
        self.app = Starlette(
            routes=[
                Route("/meetings/{word}", self._make, methods=["PUT"]),
                Route("/meetings/{word}", self._look_up, methods=["GET"]),
                Route("/meetings/{word}", self._delete, methods=["DELETE"]),
                Route("/join/{key}", self._join, methods=["GET"]),
            ]
        )

    async def _make(self, request: Request) -> Response:
        """Makes a link; one that there is already stays as it is."""
        word = str(request.path_params["word"])
        try:
            wanted = json.loads(await read_body(request, _MOST) or b"{}")
            title, link = str(wanted.get("title", "")), str(wanted.get("link", ""))
        except (ValueError, AttributeError):
            return JSONResponse({"fault": "the body is not a JSON object"}, 400)
        if word in self._links:
            return JSONResponse(self._links[word])
        if not link.startswith(f"{self._address}/join/"):  # one that is put back stays what it was
            link = f"{self._address}/join/{secrets.token_urlsafe(12)}"
        self._links[word] = {"link": link, "title": title}
        self._keep()
        return JSONResponse(self._links[word], 201)

    async def _look_up(self, request: Request) -> Response:
        found = self._links.get(str(request.path_params["word"]))
        return JSONResponse(found) if found else JSONResponse({"fault": "there is no such meeting"}, 404)

    async def _delete(self, request: Request) -> Response:
        found = self._links.pop(str(request.path_params["word"]), None)
        self._keep()
        return Response(status_code=204) if found else JSONResponse({"fault": "there is no such meeting"}, 404)

    async def _join(self, request: Request) -> Response:
        link = f"{self._address}/join/{request.path_params['key']}"
        found = next((each for each in self._links.values() if each["link"] == link), None)
        if found is None:
            return PlainTextResponse("This meeting has ended, or never was.", 404)
        return PlainTextResponse(f"A stand-in: here people would meet for {found['title'] or 'this event'}.")

    def _keep(self) -> None:
        if self._file is not None:
            replace_file(self._file, json.dumps(self._links, ensure_ascii=False, indent=2).encode())
