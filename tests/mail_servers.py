"""A real IMAP server for the tests (Dovecot), in a temporary folder on a loopback port."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.servers import free_port

CONFIG = """
base_dir = {folder}/run
state_dir = {folder}/state
log_path = {folder}/log
protocols = imap
listen = 127.0.0.1
ssl = {ssl}
{certificate}
disable_plaintext_auth = no
auth_mechanisms = plain login {more}
auth_failure_delay = 0 secs
mail_location = maildir:~/Maildir
default_login_user = {login}
default_internal_user = {internal}
first_valid_uid = 1
mail_max_userip_connections = 200
passdb {{
  driver = passwd-file
  args = scheme=PLAIN {folder}/users
}}
{bearer}
userdb {{
  driver = passwd-file
  args = {folder}/users
}}
namespace inbox {{
  inbox = yes
  separator = /
}}
service imap-login {{
  inet_listener imap {{
    port = {port}
  }}
  inet_listener imaps {{
    port = {secure}
  }}
  service_count = 0
  process_min_avail = 1
  chroot =
}}
service anvil {{
  chroot =
}}
"""
BEARER = """
passdb {{
  driver = oauth2
  mechanisms = xoauth2 oauthbearer
  args = {folder}/oauth2.conf.ext
}}
"""


class Dovecot:
    """An IMAP server with the mailboxes of visits and desk; everybody's password is their name with pw behind it.
    ``introspection`` is where it asks whether a token is good, where accounts need consent."""

    def __init__(self, folder: Path, *, certificate: tuple[Path, Path] | None = None, introspection: str = "") -> None:
        self.folder, self.port, self.secure_port = folder, free_port(), free_port()
        user = pwd.getpwuid(os.getuid()) if os.getuid() else pwd.getpwnam("nobody")
        for name in ("run", "state", "mail"):
            (folder / name).mkdir()
        os.chown(folder / "mail", user.pw_uid, user.pw_gid)
        for parent in (folder, *folder.parents):
            if parent != Path("/") and not parent.stat().st_mode & 0o001:
                parent.chmod(parent.stat().st_mode | 0o011)
        lines = [
            f"{name}:{{PLAIN}}{name}pw:{user.pw_uid}:{user.pw_gid}::{folder}/mail/{name}::"
            for name in ("visits", "desk", "desk@example.org")
        ]
        (folder / "users").write_text("\n".join(lines) + "\n")
        (folder / "users").chmod(0o644)
        bearer = ""
        if introspection:
            (folder / "oauth2.conf.ext").write_text(
                f"introspection_mode = post\nintrospection_url = {introspection}\nusername_attribute = username\n"
                "active_attribute = active\nactive_value = true\nforce_introspection = yes\n"
            )
            bearer = BEARER.format(folder=folder)
        is_root = os.getuid() == 0
        (folder / "dovecot.conf").write_text(
            CONFIG.format(
                folder=folder,
                port=self.port,
                secure=self.secure_port if certificate else 0,
                ssl="yes" if certificate else "no",
                certificate=f"ssl_cert = <{certificate[0]}\nssl_key = <{certificate[1]}" if certificate else "",
                login="dovenull" if is_root else user.pw_name,
                internal="dovecot" if is_root else user.pw_name,
                more="xoauth2 oauthbearer" if introspection else "",
                bearer=bearer,
            )
        )
        self._process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Starts it, and waits until it answers."""
        command = [_binary(), "-F", "-c", str(self.folder / "dovecot.conf")]
        self._process = subprocess.Popen(
            command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        for _ in range(400):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 0.2) as connection:
                if connection.recv(20):
                    return
            time.sleep(0.05)
        raise RuntimeError(f"Dovecot does not answer: {(self.folder / 'log').read_text()[-2000:]}")

    def stop(self) -> None:
        """Stops it; what it holds stays."""
        if self._process is not None:
            self._process.terminate()
            self._process.wait(20)
            self._process = None

    @contextlib.contextmanager
    def client(self, user: str = "visits") -> Iterator[Any]:
        """A connection of the tests' own."""
        from imapclient import IMAPClient

        client = IMAPClient("127.0.0.1", port=self.port, ssl=False, timeout=10)
        client.login(user, f"{user}pw")
        try:
            yield client
        finally:
            client.logout()

    def deliver(self, data: bytes, user: str = "visits", folder: str = "INBOX") -> None:
        """Puts an email into a mailbox, as a server that takes emails does."""
        with self.client(user) as client:
            client.append(folder, data)


def _binary() -> str:
    return shutil.which("dovecot") or shutil.which("dovecot", path="/usr/sbin:/usr/local/sbin") or ""


@contextlib.contextmanager
def running_dovecot(**more: Any) -> Iterator[Dovecot]:
    """The server for one module of tests; a skip, told loudly, where it cannot be had.

    Its folder is not pytest's: each pytest that starts closes that one to other users, and those that work for
    Dovecot must reach it.
    """
    if not _binary():
        if os.environ.get("CI"):
            raise RuntimeError("Dovecot is missing; apt-get install dovecot-imapd")
        pytest.skip("DOVECOT IS MISSING: apt-get install dovecot-imapd; nothing about IMAP was tested")
    with tempfile.TemporaryDirectory(prefix="dovecot-", ignore_cleanup_errors=True) as folder:
        server = Dovecot(Path(folder), **more)
        server.start()
        try:
            yield server
        finally:
            server.stop()
