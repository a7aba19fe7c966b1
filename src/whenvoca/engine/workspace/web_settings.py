"""The table [web] of whenvoca.toml: where `watch` listens, and what it takes."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import urlsplit

from msgspec import Struct

KEYS = ("listen", "address", "certificate", "key", "proxies", "size", "rate", "board")
_BOARD = re.compile(r"/[a-z0-9][a-z0-9-]*")
_RATE = re.compile(r"(\d{1,6}) a (second|minute|hour)")
_SECONDS = {"second": 1, "minute": 60, "hour": 3600}
_SIZE = re.compile(r"(\d{1,6}) ?(kB|MB)", re.IGNORECASE)


class Rate(Struct, frozen=True):
    """So many in so many seconds."""

    count: int
    seconds: int


class WebSettings(Struct, frozen=True, kw_only=True):
    """Where the door listens. ``size`` is bytes of one request; ``address`` is how the world sees it, without a slash
    at its end."""

    host: str = "127.0.0.1"
    port: int = 8077
    address: str = ""
    certificate: str = ""
    key: str = ""
    proxies: tuple[str, ...] = ()
    size: int = 256_000
    of_sender: Rate = Rate(30, 60)
    total: Rate = Rate(600, 60)
    board: str = ""  # the path of the board; empty: there is none

    @property
    def is_local(self) -> bool:
        """Whether only this machine reaches it."""
        try:
            return ipaddress.ip_address(self.host).is_loopback and not self.address
        except ValueError:
            return self.host == "localhost" and not self.address

    @property
    def shown(self) -> str:
        """The beginning of all addresses."""
        scheme = "https" if self.certificate else "http"
        host = f"[{self.host}]" if ":" in self.host else self.host
        return self.address or f"{scheme}://{host}:{self.port}"


Refuse = Callable[[str, str, str], Any]


def read_web(table: Mapping[str, Any], refuse: Refuse) -> WebSettings:
    """The settings of that table; ``refuse`` takes key, message and fix of a fault, and raises."""
    host, port = _listen(str(table.get("listen", "127.0.0.1:8077")), refuse)
    address = str(table.get("address", "")).rstrip("/")
    if address and (urlsplit(address).scheme not in ("http", "https") or not urlsplit(address).hostname):
        refuse("address", f'"{address}" is not a web address', 'such as address = "https://larkmoor.example.org"')
    if ("certificate" in table) != ("key" in table):
        refuse("certificate", "a certificate needs its key, and a key its certificate", "give both, or neither")
    rates = table.get("rate", {})
    if not isinstance(rates, Mapping) or set(rates) - {"sender", "total"}:
        refuse("rate", "rate is not understood", 'rate = { sender = "30 a minute", total = "600 a minute" }')
    proxies = table.get("proxies", [])
    board = str(table.get("board", ""))
    if board and (not _BOARD.fullmatch(board) or board in ("/hooks", "/feeds")):
        refuse("board", f'board = "{board}" cannot be a path', 'such as board = "/board"')
    return WebSettings(
        host=host,
        port=port,
        address=address,
        certificate=str(table.get("certificate", "")),
        key=str(table.get("key", "")),
        proxies=tuple(map(str, proxies if isinstance(proxies, list) else [proxies])),
        size=_size(str(table.get("size", "256 kB")), refuse),
        of_sender=_rate(str(rates.get("sender", "30 a minute")), refuse),
        total=_rate(str(rates.get("total", "600 a minute")), refuse),
        board=board,
    )


def _listen(text: str, refuse: Refuse) -> tuple[str, int]:
    host, _, port = text.rpartition(":")
    if not host or not port.isdecimal() or not 0 < int(port) < 65536:
        refuse("listen", f'"{text}" is not an address and a port', 'such as listen = "127.0.0.1:8077"')
    return host.strip("[]"), int(port)


def _size(text: str, refuse: Refuse) -> int:
    match = _SIZE.fullmatch(text)
    if match is None or not int(match[1]):
        refuse("size", f'"{text}" is not a size', 'such as size = "256 kB"')
        return 0
    return int(match[1]) * (1_000 if match[2].lower() == "kb" else 1_000_000)


def _rate(text: str, refuse: Refuse) -> Rate:
    match = _RATE.fullmatch(text)
    if match is None or not int(match[1]):
        refuse("rate", f'"{text}" is not understood', 'such as "30 a minute"')
        return Rate(1, 1)
    return Rate(int(match[1]), _SECONDS[match[2]])
