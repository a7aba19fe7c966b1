"""A token that somebody has consented to signs in to outboxes and calendars too (RFC 7628, RFC 6750)."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult

from tests.authorization_server import AuthorizationServer, running_authorization_server
from tests.mail.conftest import MAIL, MailDesk
from tests.servers import Answer, FaultyProxy, free_port


class Taking:
    """Takes emails from whoever shows a token that the authorization server gave."""

    def __init__(self, authorization: AuthorizationServer) -> None:
        self.authorization = authorization
        self.shown: list[bytes] = []
        self.count = 0

    async def auth_XOAUTH2(self, server: SMTP, words: list[str]) -> AuthResult:  # noqa: N802
        self.shown.append(base64.b64decode(words[1]))
        token = self.shown[-1].partition(b"Bearer ")[2].strip(b"\x01").decode()
        return AuthResult(success=token in self.authorization.access, handled=False)

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802
        self.count += 1
        return "250 OK"


@pytest.fixture
def authorization(monkeypatch: pytest.MonkeyPatch) -> Iterator[AuthorizationServer]:
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", "keyring.backends.fail.Keyring")
    with running_authorization_server() as server:
        server.is_typed = True
        yield server


def consent(mail: MailDesk, authorization: AuthorizationServer, base: str, place: str) -> None:
    mail.settings(base=base + authorization.settings("work", "device"))
    assert mail.run("consent", place).code == 0


SENDING = 'when asked\n\nsend email to "ines"\n  subject  "Hello"\n  text  "Hello"\n'


def test_an_outbox_is_signed_in_to(mail: MailDesk, authorization: AuthorizationServer) -> None:
    taking = Taking(authorization)
    port = free_port()
    controller = Controller(taking, hostname="127.0.0.1", port=port, auth_require_tls=False)
    controller.start()
    try:
        place = f'server = "127.0.0.1"\nport = {port}\ntls = "none"\nuser = "desk@example.org"\n'
        place += 'password = { consent = "work" }\n'
        consent(mail, authorization, MAIL.replace('folder = "mail-out"\n', place), "mail-out")
        assert mail.workflow(SENDING).run("run", "emails").code == 0
    finally:
        controller.stop()
    assert taking.count == 1
    assert taking.shown[0].startswith(b"user=desk@example.org\x01auth=Bearer ")


def test_a_calendar_is_signed_in_to(mail: MailDesk, authorization: AuthorizationServer) -> None:
    with FaultyProxy("http://127.0.0.1:1/", lambda method, number: Answer(401, {}, b"")) as proxy:
        place = f'server = "{proxy.url}"\nuser = "desk"\npassword = {{ consent = "work" }}\n'
        consent(mail, authorization, MAIL.replace('folder = "outreach"\n', place), "outreach")
        mail.run("places")
        shown = {authorization_shown for _, _, authorization_shown in proxy.seen}
    assert shown
    assert shown <= {f"Bearer {token}" for token in authorization.access}
