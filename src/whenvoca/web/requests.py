"""What is taken from a request: its body within bounds, its sender, and whether another site has sent it."""

from __future__ import annotations

import asyncio
import ipaddress
import time
from collections import OrderedDict
from collections.abc import Mapping
from functools import lru_cache
from typing import Any
from urllib.parse import urlsplit

from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect, Request
from starlette.types import Message

from whenvoca.engine.workspace.web_settings import Rate, WebSettings
from whenvoca.values.texts import clean_text

_SECONDS = 15.0  # for a whole body
_MOST_SENDERS = 10_000
_MOST_FIELDS = 200


async def read_body(request: Request, most: int) -> bytes:
    """The whole body. Raises HTTPException for one that is too large, too slow, or broken off."""
    declared = request.headers.get("content-length", "")
    if declared and (not declared.isdecimal() or int(declared) > most):
        raise HTTPException(413, f"the body is too large: {most} bytes at most")
    body = bytearray()
    try:
        async with asyncio.timeout(_SECONDS):
            async for chunk in request.stream():
                body += chunk
                if len(body) > most:
                    raise HTTPException(413, f"the body is too large: {most} bytes at most")
    except TimeoutError as error:
        raise HTTPException(408, "the body did not come in time") from error
    except ClientDisconnect as error:
        raise HTTPException(400, "the body was broken off") from error
    return bytes(body)


async def read_form(request: Request, most: int) -> dict[str, list[str]]:
    """The fields of a posted form, all as texts. Raises HTTPException for what is none."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind not in ("application/x-www-form-urlencoded", "multipart/form-data"):
        raise HTTPException(415, "a form is posted as application/x-www-form-urlencoded")
    body = await read_body(request, most)

    async def receive() -> Message:
        return {"type": "http.request", "body": body, "more_body": False}

    again = Request(request.scope, receive)
    try:
        form = await again.form(max_files=0, max_fields=_MOST_FIELDS, max_part_size=most)
    except HTTPException as error:
        raise HTTPException(400, f"the form cannot be read: {error.detail}") from error
    except (ValueError, UnicodeError) as error:
        raise HTTPException(400, "the form cannot be read") from error
    found: dict[str, list[str]] = {}
    for name, value in form.multi_items():
        if not isinstance(value, str):
            raise HTTPException(400, "files are not taken here")
        found.setdefault(name, []).append(clean_text(value))
    return found


def refuse_other_sites(request: Request, settings: WebSettings) -> None:
    """Raises HTTPException where the page of another site has sent the form."""
    if request.headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
        raise HTTPException(403, "the form was sent from another site")
    origin = request.headers.get("origin", "")
    if origin and origin != "null":  # null: a page that tells no referrer, as ours do
        hosts = {request.headers.get("host", ""), urlsplit(settings.shown).netloc}
        if urlsplit(origin).netloc not in hosts:
            raise HTTPException(403, "the form was sent from another site")


def sender_of(scope: Mapping[str, Any], proxies: tuple[str, ...]) -> str:
    """The address that a request comes from; behind a proxy that is trusted, what that one tells."""
    client = scope.get("client")
    sender = str(client[0]) if isinstance(client, list | tuple) and client else ""
    told: list[str] = []
    if sender in proxies:
        said = b",".join(value for name, value in scope["headers"] if name.lower() == b"x-forwarded-for")
        told = [each.strip() for each in said.decode("latin-1").split(",") if each.strip()]
    while sender in proxies and told:
        sender = told.pop()
    return _network_of(sender)


@lru_cache(maxsize=1024)
def _network_of(sender: str) -> str:
    """Who has one IPv6 address has the whole network behind it."""
    try:
        address = ipaddress.ip_address(sender)
    except ValueError:
        return sender[:60]
    return str(ipaddress.ip_network(f"{address}/64", strict=False)) if address.version == 6 else sender


class Floodgate:
    """Counts requests, of each sender and of all: so many in so much time, evenly."""

    def __init__(self, of_sender: Rate, total: Rate) -> None:
        self._of_sender, self._total = of_sender, total
        self._levels: OrderedDict[str, tuple[float, float]] = OrderedDict()  # what is left, and when that was

    def seconds_to_wait(self, sender: str) -> int:
        """0 for a request that may pass, else how long to wait."""
        now = time.monotonic()
        for name, rate in ((f"from {sender}", self._of_sender), ("all", self._total)):
            left, since = self._levels.get(name, (float(rate.count), now))
            left = min(rate.count, left + (now - since) * rate.count / rate.seconds)
            if left < 1:
                return max(1, round((1 - left) * rate.seconds / rate.count))
            self._levels[name] = (left - 1, now)
            self._levels.move_to_end(name)
        while len(self._levels) > _MOST_SENDERS:
            self._levels.popitem(last=False)
        return 0
