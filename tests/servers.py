"""Real servers for the tests, each in a temporary folder on a loopback port."""

from __future__ import annotations

import contextlib
import http.client
import itertools
import socket
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import NamedTuple
from urllib.parse import urlsplit

import bcrypt
import httpx

CONFIG = """
[server]
hosts = 127.0.0.1:{port}
max_connections = 64
timeout = 30
[auth]
type = htpasswd
htpasswd_filename = {folder}/users
htpasswd_encryption = bcrypt
htpasswd_cache = True
cache_logins = True
delay = 0
[rights]
type = owner_only
[storage]
filesystem_folder = {folder}/collections
use_mtime_and_size_for_item_cache = True
[web]
type = none
[logging]
level = warning
"""
MAKE = (
    '<C:mkcalendar xmlns="DAV:" xmlns:C="urn:ietf:params:xml:ns:caldav"><set><prop><displayname>{name}</displayname>'
    "<C:supported-calendar-component-set><C:comp "
    'name="{component}"/></C:supported-calendar-component-set></prop></set></C:mkcalendar>'
)


class Radicale:
    """A CalDAV server with two users, alice and bob (alicepw, bobpw)."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}/"
        (folder / "collections").mkdir(parents=True)
        lines = [
            f"{user}:{bcrypt.hashpw((user + 'pw').encode(), bcrypt.gensalt(4)).decode()}\n" for user in ("alice", "bob")
        ]
        (folder / "users").write_text("".join(lines))
        (folder / "config").write_text(CONFIG.format(port=self.port, folder=folder))
        self._process: subprocess.Popen[bytes] | None = None

    def start(self) -> Radicale:
        """Starts it, and waits until it answers."""
        self._process = subprocess.Popen(
            [sys.executable, "-m", "radicale", "--config", str(self.folder / "config")],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(200):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 0.2):
                return self
            time.sleep(0.05)
        raise RuntimeError("Radicale does not answer")

    def stop(self) -> None:
        """Stops it; what it holds stays."""
        if self._process is not None:
            self._process.terminate()
            self._process.wait()
            self._process = None

    def client(self, user: str = "alice") -> httpx.Client:
        """A bare HTTP client of that user."""
        return httpx.Client(base_url=self.url, auth=(user, f"{user}pw"), timeout=30)

    def make(self, path: str, name: str, user: str = "alice", component: str = "VEVENT") -> str:
        """Makes a calendar; answers its address."""
        with self.client(user) as client:
            answer = client.request(
                "MKCALENDAR", f"/{user}/{path}/", content=MAKE.format(name=name, component=component)
            )
            assert answer.status_code == 201, answer.text
        return f"{self.url}{user}/{path}/"

    def events(self, path: str, user: str = "alice") -> dict[str, bytes]:
        """The pieces of a calendar as the server keeps them."""
        folder = self.folder / "collections/collection-root" / user / path
        found = {}
        for each in sorted(folder.glob("*.ics")):
            with contextlib.suppress(FileNotFoundError):  # somebody deletes it just now
                found[each.name] = each.read_bytes()
        return found


def free_port() -> int:
    """A port that nobody listens on."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        port: int = found.getsockname()[1]
        return port


@contextlib.contextmanager
def running_radicale(folder: Path) -> Iterator[Radicale]:
    """A server while the block runs."""
    server = Radicale(folder).start()
    try:
        yield server
    finally:
        server.stop()


class Answer(NamedTuple):
    """What a server answers."""

    status: int
    headers: dict[str, str]
    content: bytes


Fault = str | Answer | Callable[[Answer], Answer]


class FaultyProxy:
    """Stands before a server and spoils requests: ``plan`` is asked for each, with its method and number from 1.

    It answers "" (pass on), a status such as "503", "429 2" (with Retry-After), "cut" (the request is passed on, its
    answer is not), "hang", "refuse", "drip" (a byte now and then, without end), "redirect URL"; an Answer, which is
    given instead; or a function, which makes another one of the server's.
    """

    def __init__(self, target: str, plan: Callable[[str, int], Fault], context: ssl.SSLContext | None = None) -> None:
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}/"
        self.plan = plan
        self.seen: list[tuple[str, str, str]] = []  # method, path, authorization
        self._target = urlsplit(target)
        self._server = ThreadingHTTPServer(("127.0.0.1", self.port), self._handler())
        self._server.daemon_threads = True
        if context is not None:
            self._server.socket = context.wrap_socket(self._server.socket, server_side=True)

    def _handler(self) -> type[BaseHTTPRequestHandler]:
        proxy = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def handle_any(self) -> None:
                body = self.rfile.read(int(self.headers.get("content-length", 0)))
                proxy.seen.append((self.command, self.path, self.headers.get("authorization", "")))
                fault = proxy.plan(self.command, len(proxy.seen))
                if isinstance(fault, Answer):
                    self.answer(*fault, is_raw=True)
                    return
                if callable(fault):
                    self.answer(
                        *fault(Answer(*proxy.pass_on(self.command, self.path, dict(self.headers), body))), is_raw=True
                    )
                    return
                if fault == "drip":
                    self.drip()
                    return
                if fault == "hang":
                    time.sleep(3)
                if fault in ("hang", "refuse"):
                    self.close_connection = True
                    self.connection.shutdown(socket.SHUT_RDWR)
                    return
                if fault.startswith("redirect"):
                    self.answer(302, {"location": fault.split()[1]}, b"")
                    return
                if fault[:3].isdigit():
                    more = {"retry-after": fault.split()[1]} if " " in fault else {}
                    self.answer(int(fault[:3]), more, b"")
                    return
                status, headers, content = proxy.pass_on(self.command, self.path, dict(self.headers), body)
                if fault == "cut":
                    self.close_connection = True
                    self.connection.shutdown(socket.SHUT_RDWR)
                    return
                self.answer(status, headers, content)

            def drip(self) -> None:
                """A head that comes byte by byte."""
                with contextlib.suppress(OSError):
                    for sign in itertools.chain(b"HTTP/1.1 207 Multi-Status\r\nx-long: ", itertools.repeat(97, 60)):
                        self.wfile.write(bytes([sign]))
                        time.sleep(0.25)
                self.close_connection = True

            def answer(self, status: int, headers: dict[str, str], content: bytes, *, is_raw: bool = False) -> None:
                self.send_response(status)
                left_out = ["content-length", "transfer-encoding", "connection"]
                for name, value in headers.items():
                    if name.lower() not in (left_out if is_raw else [*left_out, "content-encoding"]):
                        self.send_header(name, value)
                self.send_header("content-length", str(len(content)))
                self.end_headers()
                self.wfile.write(content)

            def log_message(self, *_: object) -> None:
                pass

            # http.server names them so
            do_POST = do_GET = do_PUT = do_DELETE = do_OPTIONS = handle_any  # noqa: N815
            do_PROPFIND = do_REPORT = do_MKCALENDAR = handle_any  # noqa: N815

        return Handler

    def pass_on(
        self, method: str, path: str, headers: dict[str, str], body: bytes
    ) -> tuple[int, dict[str, str], bytes]:
        """Sends a request on to the server."""
        connection = http.client.HTTPConnection(self._target.hostname or "", self._target.port, timeout=30)
        kept = {
            name: value
            for name, value in headers.items()
            if name.lower() not in ("host", "accept-encoding", "connection")
        }
        connection.request(method, path, body, kept)
        answer = connection.getresponse()
        content = answer.read()
        connection.close()
        return answer.status, dict(answer.getheaders()), content

    def __enter__(self) -> FaultyProxy:
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._server.server_close()
