"""Real chat and mail servers for the tests, each in a temporary folder on a loopback port, and people who look on."""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from tests.servers import free_port
from whenvoca.places.chat.xmpp import run_loop

CONFIG = """
run_as_root = true
pidfile = "{folder}/prosody.pid"
data_path = "{folder}/data"
plugin_paths = {{}}
interfaces = {{ "127.0.0.1" }}
c2s_ports = {{ {port} }}
c2s_direct_tls_ports = {{}}
s2s_ports = {{}}
http_ports = {{}}
https_ports = {{}}
component_ports = {{}}
legacy_ssl_ports = {{}}
modules_enabled = {{ "roster", "saslauth", "disco", "ping", "presence", "message", "iq", "offline", "mam" }}
default_archive_policy = true
modules_disabled = {{ "s2s", "tls", "posix_daemonize" }}
c2s_require_encryption = false
allow_unencrypted_plain_auth = true
authentication = "internal_hashed"
storage = "internal"
limits = {{}}
log = {{ {{ levels = {{ min = "info" }}, to = "file", filename = "{folder}/log" }} }}
VirtualHost "localhost"
Component "rooms.localhost" "muc"
  restrict_room_creation = false
  muc_room_default_public = true
  muc_room_locking = false
  muc_room_default_persistent = true
  muc_room_default_public_jids = true
  muc_room_default_history_length = 0
  modules_enabled = {{ "muc_mam" }}
  muc_log_by_default = true
"""
USERS = ("desk", "ines", "tomas", "carol")


class Prosody:
    """An XMPP server with rooms; everybody's password is their name with pw behind it."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.port = folder, free_port()
        for name in ("data", "certs"):
            (folder / name).mkdir()
        self._config = folder / "prosody.cfg.lua"
        self._config.write_text(CONFIG.format(folder=folder, port=self.port))
        for user in USERS:
            command = ["prosodyctl", "--config", str(self._config), "register", user, "localhost", f"{user}pw"]
            subprocess.run(command, capture_output=True, check=True)
        self._process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Starts it, and waits until it answers."""
        self._process = subprocess.Popen(
            ["prosody", "-F", "--config", str(self._config)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        for _ in range(400):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 0.2):
                return
            time.sleep(0.05)
        raise RuntimeError("Prosody does not answer")

    def stop(self) -> None:
        """Stops it; what it holds stays."""
        if self._process is not None:
            os.killpg(self._process.pid, signal.SIGTERM)
            self._process.wait(10)
            self._process = None


@contextlib.contextmanager
def running_prosody(folder: Path) -> Iterator[Prosody]:
    """The server for one module of tests; a skip, told loudly, where it cannot be had."""
    if shutil.which("prosody") is None:
        if os.environ.get("CI"):
            raise RuntimeError("Prosody is missing; apt-get install prosody")
        pytest.skip("PROSODY IS MISSING: apt-get install prosody; nothing about XMPP was tested")
    server = Prosody(folder)
    server.start()
    try:
        yield server
    finally:
        server.stop()


class Onlooker:
    """Somebody with a program of their own in the chat: hears messages, sees presence, shows something."""

    def __init__(self, port: int, user: str) -> None:
        from slixmpp import ClientXMPP

        self.loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=run_loop, args=(self.loop,), daemon=True)
        self._thread.start()
        self.heard: list[tuple[str, str, str]] = []  # from, id, text
        self.seen: dict[str, tuple[str, str, str]] = {}  # bare address: type, show, status
        self._ready = threading.Event()

        async def connect() -> Any:
            plain = {"feature_mechanisms": {"unencrypted_plain": True, "unencrypted_scram": True}}
            client = ClientXMPP(f"{user}@localhost", f"{user}pw", plugin_config=plain)
            client.enable_direct_tls, client.enable_starttls, client.enable_plaintext, client.auto_reconnect = (
                False,
                False,
                True,
                False,
            )
            for plugin in ("xep_0030", "xep_0045", "xep_0066", "xep_0199"):
                client.register_plugin(plugin)

            async def start(_: Any) -> None:
                await client.get_roster()
                client.send_presence()
                self._ready.set()

            client.add_event_handler("session_start", start)
            client.add_event_handler(
                "message", lambda m: self.heard.append((str(m["from"]), str(m["id"]), str(m["body"])))
            )
            client.add_event_handler("presence", self._see)
            client.connect("127.0.0.1", port)
            return client

        self.client = asyncio.run_coroutine_threadsafe(connect(), self.loop).result(10)
        assert self._ready.wait(10)

    def _see(self, stanza: Any) -> None:
        show = stanza.xml.findtext("{jabber:client}show") or ""
        self.seen[stanza["from"].bare] = (
            stanza["type"] if stanza["type"] == "unavailable" else "available",
            show,
            str(stanza["status"]),
        )

    def do(self, work: Any) -> Any:
        """Does something in the program's own thread."""
        return asyncio.run_coroutine_threadsafe(work, self.loop).result(10)

    def join(self, room: str, nickname: str) -> None:
        """Enters a room, which makes it."""
        self.do(self.client.plugin["xep_0045"].join_muc_wait(room, nickname, maxstanzas=0, timeout=5))

    def say(
        self, text: str, *, to: str = "", room: str = "", sound: str = "", number: str | None = None, extra: str = ""
    ) -> None:
        """Says something to an address, or in a room; ``extra`` is XML that goes with it."""
        from xml.etree import ElementTree

        async def speak() -> None:
            message = self.client.make_message(room or to, mbody=text, mtype="groupchat" if room else "chat")
            if number is not None:
                message["id"] = number
            for each in ElementTree.fromstring(f"<x>{extra}</x>"):
                message.append(each)
            if sound:
                message["oob"]["url"] = sound
            message.send()

        self.do(speak())

    def put_out(self, room: str, nickname: str, *, for_good: bool = False) -> None:
        """Puts somebody out of a room of ours."""
        rooms = self.client.plugin["xep_0045"]
        if for_good:
            self.do(rooms.set_affiliation(room, "outcast", jid="desk@localhost"))
        else:
            self.do(rooms.set_role(room, nickname, "none"))

    def befriend(self, address: str) -> None:
        """Asks to see somebody's presence."""
        self.loop.call_soon_threadsafe(lambda: self.client.send_presence(pto=address, ptype="subscribe"))

    def show(self, show: str | None, status: str) -> None:
        """Shows something."""
        self.loop.call_soon_threadsafe(lambda: self.client.send_presence(pshow=show, pstatus=status))

    def close(self) -> None:
        """Leaves."""

        async def leave() -> None:
            await self.client.get_roster()  # answered behind what was said before
            await self.client.disconnect(wait=1)

        with contextlib.suppress(Exception):
            self.do(leave())
        self.loop.call_soon_threadsafe(self.loop.stop)
        self._thread.join(5)


def eventually(condition: Any, seconds: float = 8.0, told: Any = lambda: "") -> None:
    """Waits until it holds; ``told`` says what there was instead."""
    ends = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < ends, f"it never came to be {told()}"
        time.sleep(0.02)


class CatchingServer:
    """An SMTP server that keeps emails; refuses addresses that begin with reject, and puts off those with later."""

    def __init__(self) -> None:
        self.emails: list[tuple[list[str], EmailMessage]] = []
        self.puts_off, self.seconds, self.answer = True, 0.0, "250 OK"
        self.port = free_port()
        self._controller = Controller(
            self,
            hostname="127.0.0.1",
            port=self.port,
            authenticator=self._authenticate,
            auth_require_tls=False,
            enable_SMTPUTF8=True,
        )

    def _authenticate(self, server: Any, session: Any, envelope: Any, mechanism: str, data: Any) -> AuthResult:
        good = (data.login, data.password) == (b"desk", b"deskpw")
        return AuthResult(success=True, auth_data=data) if good else AuthResult(success=False, handled=False)

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:  # noqa: N802
        if address.startswith("reject"):
            return "550 5.1.1 no such user"
        if address.startswith("later") and self.puts_off:
            return "451 4.3.0 try again later"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802
        email = message_from_bytes(envelope.original_content, policy=default)
        assert isinstance(email, EmailMessage)
        await asyncio.sleep(self.seconds)
        if self.answer.startswith("250"):
            self.emails.append((list(envelope.rcpt_tos), email))
        return self.answer

    def start(self) -> None:
        """Starts it."""
        self._controller.start()

    def stop(self) -> None:
        """Stops it."""
        self._controller.stop()
