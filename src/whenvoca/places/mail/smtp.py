"""An outbox that sends by SMTP (RFC 5321), with TLS where the server has it."""

from __future__ import annotations

import smtplib
import socket
import ssl
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Outbox
from whenvoca.errors import PlaceTrouble, RowFault, SettingsFault, WhenvocaError
from whenvoca.places.mail.compose import compose_email
from whenvoca.places.sign_in import Credential, log_into_outbox
from whenvoca.unforeseen import to_fault

_AFTER_DATA = (60.0, 600.0)  # seconds that the answer to an email is waited for: the first time, and at most
_PASSING = range(400, 500)  # replies that say: try again later


class _PatientServer(smtplib.SMTP):
    """A connection that waits longer for the answer to an email than for any other: whoever hangs up before sends it
    twice. RFC 5321 4.5.3.2 would wait ten minutes at once, and so long nothing else could be done."""

    patience = _AFTER_DATA[0]

    def data(self, msg: Any) -> tuple[int, bytes]:
        """Sends the email. Raises smtplib.SMTPException or OSError."""
        assert self.sock is not None
        usual = self.sock.gettimeout()
        self.sock.settimeout(self.patience)
        answer = super().data(msg)
        self.sock.settimeout(usual)
        return answer


class _PatientTlsServer(smtplib.SMTP_SSL, _PatientServer):
    """The same with TLS from the first byte."""


class SmtpOutbox(Outbox):
    """A server that takes emails. ``tls``: implicit (from the first byte), starttls, or none."""

    def __init__(
        self,
        name: str,
        host: str,
        port: int,
        zone: ZoneInfo,
        sender: str,
        *,
        user: str,
        password: Credential,
        tls: str = "starttls",
        ca: str = "",
        seconds: float = 30.0,
    ) -> None:
        self.name, self.zone, self.sender = name, zone, sender
        self.address = f"smtp://{host}:{port}"
        self._host, self._port, self._user, self._password = host, port, user, password
        self._tls, self._ca, self._seconds = tls, ca, seconds
        self._patience: dict[str, float] = {}  # by email: how long the answer was waited for, where none came

    def holds(self) -> str:
        """Whether the server answers and takes the password."""
        try:
            self._connect().quit()
        except (smtplib.SMTPException, OSError) as error:
            raise self._trouble(error) from error
        return "answers"

    @property
    def _where(self) -> str:
        return f"{self.name}, {self._host}:{self._port}"

    def _connect(self) -> _PatientServer:
        context = ssl.create_default_context(cafile=self._ca or None)
        if self._tls == "implicit":
            server: _PatientServer = _PatientTlsServer(self._host, self._port, timeout=self._seconds, context=context)
        else:
            server = _PatientServer(self._host, self._port, timeout=self._seconds)
        try:
            self._enter(server, context)
        except BaseException:
            server.close()
            raise
        return server

    def _enter(self, server: smtplib.SMTP, context: ssl.SSLContext) -> None:
        """Greets, goes over to TLS where the server has it, and logs in."""
        server.ehlo_or_helo_if_needed()
        if self._tls == "starttls":
            if not server.has_extn("starttls"):
                raise SettingsFault(
                    "the server offers no TLS, and emails would go out in the clear",
                    where=self._where,
                    fix='only on a machine of your own: tls = "none"',
                )
            server.starttls(context=context)
            server.ehlo()
        if self._user:
            log_into_outbox(server, self._user, self._password)

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Sends a group over one connection, each email by itself."""
        answers: list[Receipt | WhenvocaError] = []
        server: _PatientServer | None = None
        for effect in effects:
            try:
                email = compose_email(effect, self.sender, stamp.astimezone(self.zone))
                server = server or self._connect()
                only = (effect.after or {}).get("for")
                server.patience = self._patience_with(effect.target)
                refused = server.send_message(email, to_addrs=[only] if only else None)
                self._patience.pop(effect.target, None)
                answers.append(Receipt() if not refused else _refusal(refused, "; the others have the email"))
            except (RowFault, PlaceTrouble, SettingsFault) as error:
                answers.append(error)
            except smtplib.SMTPRecipientsRefused as error:
                answers.append(_refusal(error.recipients, "" if only else "; nobody has the email", self._where))
                with suppress(smtplib.SMTPException, OSError):
                    server.rset()  # type: ignore[union-attr]
            except (smtplib.SMTPException, OSError) as error:
                answers.append(self._trouble(error))
                if server is not None:
                    server.close()
                server = None
            except Exception as error:
                answers.append(to_fault(error))
                server = None  # nobody knows how far it got
        if server is not None:
            with suppress(smtplib.SMTPException, OSError):
                server.quit()
        return answers

    def _patience_with(self, number: str) -> float:
        """How long the answer to that email is waited for: twice as long each time that none came."""
        first, most = _AFTER_DATA
        self._patience[number] = found = min(self._patience.get(number, first / 2) * 2, most)
        return found

    def _trouble(self, error: Exception) -> PlaceTrouble | RowFault:
        """What went wrong with the server, in words; whether it may pass."""
        if isinstance(error, smtplib.SMTPAuthenticationError):
            return PlaceTrouble(
                "the user or the password is refused",
                where=self._where,
                fix="look at user and password in whenvoca.toml",
            )
        if isinstance(error, smtplib.SMTPResponseException):
            said = (
                error.smtp_error.decode("utf-8", "replace")
                if isinstance(error.smtp_error, bytes)
                else str(error.smtp_error)
            )
            passes = error.smtp_code in _PASSING or error.smtp_code < 0
            answer = f"the server says {error.smtp_code} {said}".strip()
            if isinstance(error, smtplib.SMTPDataError | smtplib.SMTPSenderRefused) and not passes:
                return RowFault(f"refused: {answer}", fix="the email itself is not taken: change it, then run again")
            return PlaceTrouble(answer, where=self._where, is_passing=passes)
        if isinstance(error, ssl.SSLError):
            return PlaceTrouble(
                f"its certificate is not trusted: {error.reason}", where=self._where, fix='name its authority: ca = "…"'
            )
        reason = (
            "does not answer in time"
            if isinstance(error, socket.timeout | TimeoutError)
            else str(error) or type(error).__name__
        )
        return PlaceTrouble(f"cannot be reached: {reason}", where=self._where, is_passing=True)


def _refusal(refused: dict[str, tuple[int, bytes]], others: str, where: str = "") -> RowFault | PlaceTrouble:
    """Who was refused and why. Where every refusal may pass and nobody has the email, it is tried again."""
    said = "; ".join(
        f"{address} ({code} {text.decode('utf-8', 'replace')})" for address, (code, text) in refused.items()
    )
    if where and all(code in _PASSING for code, _ in refused.values()):
        return PlaceTrouble(f"the server does not take these addresses now: {said}", where=where, is_passing=True)
    return RowFault(f"refused: {said}{others}", fix="correct the address where it comes from")
