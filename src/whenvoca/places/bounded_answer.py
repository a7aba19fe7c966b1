"""An HTTP request whose whole answer is bounded, in bytes and in time: a server that is broken, or worse, may pack
gigabytes into a small answer, or send a byte a second."""

from __future__ import annotations

import re
import time
from collections.abc import Mapping
from threading import Timer
from typing import Any

from msgspec import Struct

from whenvoca.errors import PlaceTrouble

MOST_BYTES = 20_000_000
_SIZE = re.compile(r"(\d+(?:\.\d+)?) ?([kMG]?)B", re.ASCII)
_UNITS = {"": 1, "k": 1_000, "M": 1_000_000, "G": 1_000_000_000}


class Answer(Struct, frozen=True):
    """What a server answered, decoded."""

    status: int
    headers: Mapping[str, str]
    content: bytes
    url: str
    reason: str = ""

    @property
    def said(self) -> str:
        """Its status as messages name it."""
        return f"{self.status} {self.reason}".strip()


class TooMuch(PlaceTrouble):
    """The answer is larger than the place's limit."""


def ask(
    client: Any,
    method: str,
    url: str,
    *,
    content: bytes | str | None = None,
    headers: Mapping[str, str] | None = None,
    most: int = MOST_BYTES,
    seconds: float,
) -> Answer:
    """Sends a request by an httpx client; the answer is whole, or there is none.

    ``seconds`` bounds all of it, whatever the client's own timeouts are: when they have passed, the client is closed.
    Raises TooMuch, httpx.ReadTimeout, and what httpx raises.
    """
    import httpx

    end = time.monotonic() + seconds
    watch = Timer(seconds + 1, client.close)  # for a head that comes byte by byte, which no timeout of httpx ends
    watch.daemon = True
    watch.start()
    try:
        with client.stream(method, url, content=content, headers=dict(headers or {})) as response:
            pieces, size = [], 0
            for piece in response.iter_bytes():
                size += len(piece)
                if size > most:
                    raise TooMuch(
                        f"answers with more than {show_size(most)}",
                        fix=f'more is read with size = "{show_size(most * 4)}"',
                    )
                if time.monotonic() > end:
                    raise httpx.ReadTimeout("too slow", request=response.request)
                pieces.append(piece)
            return Answer(
                response.status_code, response.headers, b"".join(pieces), str(response.url), response.reason_phrase
            )
    except (RuntimeError, OSError) as error:
        if not client.is_closed:
            raise
        raise httpx.ReadTimeout("too slow") from error
    finally:
        watch.cancel()


def parse_size(text: str) -> int | None:
    """The bytes of a size such as "20 MB"; None if it is none."""
    found = _SIZE.fullmatch(text.strip())
    return round(float(found[1]) * _UNITS[found[2]]) if found else None


def show_size(size: int) -> str:
    """A size as people write it: 20 MB."""
    for unit in ("G", "M", "k"):
        if size >= _UNITS[unit]:
            return f"{size / _UNITS[unit]:g} {unit}B"
    return f"{size} B"
