"""An email effect as a message (RFC 5322), with events as text/calendar parts (RFC 5545)."""

from __future__ import annotations

import json
from datetime import datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from typing import Any

from whenvoca.engine.effects import Effect
from whenvoca.errors import RowFault
from whenvoca.values.addresses import to_address


def email_identity(effect: Effect) -> str:
    """What makes it the same email, for whichever of its recipients the effect is."""
    return effect.target.partition(" ")[0]


def compose_email(effect: Effect, sender: str, stamp: datetime) -> EmailMessage:
    """The email, with the effect's Message-ID, the same when sent again. Raises RowFault for a bad address."""
    after: dict[str, Any] = effect.after or {}
    email = EmailMessage(policy=SMTP.clone(raise_on_defect=False))
    identity = email_identity(effect)
    email["Message-ID"] = f"<{identity}@{sender.rpartition('@')[2]}>"
    email["Date"] = stamp
    email["From"] = _address(str(after.get("sender") or sender), "sender")
    email["To"] = [_address(each, "to") for each in after["to"]]
    if after.get("reply-to"):
        email["Reply-To"] = _address(str(after["reply-to"]), "reply-to")
    email["Subject"] = " ".join(str(after.get("subject") or "").split())
    email["X-Whenvoca-Origin"] = identity
    email.set_content(str(after.get("text") or "") + "\n", cte="quoted-printable")
    for number, text in enumerate(json.loads(effect.kept) if effect.kept else (), 1):
        name = "event.ics" if number == 1 else f"event-{number}.ics"
        email.add_attachment(
            text.encode(), maintype="text", subtype="calendar", filename=name, params={"charset": "utf-8"}
        )
    return email


def _address(text: str, word: str) -> Address:
    """The address. A line break or anything else that would end a header is refused."""
    address = to_address(text)
    if not address:
        shown = text.encode("unicode_escape").decode()
        raise RowFault(f'{word}: "{shown}" is not an email address', fix="correct it where it comes from")
    return Address(addr_spec=address)
