"""An outbox that sends by SMTP (RFC 5321), with TLS where the server has it."""

from __future__ import annotations

import smtplib
import socket
import ssl
from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Outbox
from whenvoca.errors import PlaceTrouble, RowFault, SettingsFault, WhenvocaError
from whenvoca.places.mail.compose import compose_email
from whenvoca.places.secrets import Secret
from whenvoca.unforeseen import to_fault

_PASSING = range(400, 500)  # replies that say: try again later


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
        password: Secret,
        tls: str = "starttls",
        ca: str = "",
        seconds: float = 30.0,
    ) -> None:
        self.name, self.zone, self.sender = name, zone, sender
        self.address = f"smtp://{host}:{port}"
        self._host, self._port, self._user, self._password = host, port, user, password
        self._tls, self._ca, self._seconds = tls, ca, seconds

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

    def _connect(self) -> smtplib.SMTP:
        context = ssl.create_default_context(cafile=self._ca or None)
        if self._tls == "implicit":
            server: smtplib.SMTP = smtplib.SMTP_SSL(self._host, self._port, timeout=self._seconds, context=context)
        else:
            server = smtplib.SMTP(self._host, self._port, timeout=self._seconds)
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
            if server.has_extn("starttls"):
                server.starttls(context=context)
                server.ehlo()
            elif self._user:
                raise SettingsFault(
                    "the server has no TLS, and the password would go out in the clear",
                    where=self._where,
                    fix='only on a machine of your own: tls = "none"',
                )
        if self._user:
            server.login(self._user, self._password.reveal())

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Sends a group over one connection, each email by itself."""
        answers: list[Receipt | WhenvocaError] = []
        server: smtplib.SMTP | None = None
        for effect in effects:
            try:
                email = compose_email(effect, self.sender, stamp.astimezone(self.zone))
                server = server or self._connect()
                refused = server.send_message(email)
                answers.append(Receipt() if not refused else _refusal(refused, "the others have the email"))
            except (RowFault, PlaceTrouble, SettingsFault) as error:
                answers.append(error)
            except smtplib.SMTPRecipientsRefused as error:
                answers.append(_refusal(error.recipients, "nobody has the email", self._where))
                with suppress(smtplib.SMTPException, OSError):
                    server.rset()  # type: ignore[union-attr]
            except (smtplib.SMTPException, OSError) as error:
                answers.append(self._trouble(error))
                server = None
            except Exception as error:
                answers.append(to_fault(error))
                server = None  # nobody knows how far it got
        if server is not None:
            with suppress(smtplib.SMTPException, OSError):
                server.quit()
        return answers

    def _trouble(self, error: Exception) -> PlaceTrouble:
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
            return PlaceTrouble(
                f"the server says {error.smtp_code} {said}".strip(), where=self._where, is_passing=passes
            )
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
    return RowFault(f"refused: {said}; {others}", fix="correct the address where it comes from")
