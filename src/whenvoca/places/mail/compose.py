"""A letter effect as a message (RFC 5322), with events as text/calendar parts (RFC 5545)."""

from __future__ import annotations

import json
from datetime import datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from typing import Any

from whenvoca.engine.effects import Effect
from whenvoca.errors import RowFault
from whenvoca.values.numbers import is_address


def compose_letter(effect: Effect, sender: str, stamp: datetime) -> EmailMessage:
    """The letter, with the effect's Message-ID, the same when sent again. Raises RowFault for a bad address."""
    after: dict[str, Any] = effect.after or {}
    letter = EmailMessage(policy=SMTP.clone(raise_on_defect=False))
    letter["Message-ID"] = f"<{effect.target}@{sender.rpartition('@')[2]}>"
    letter["Date"] = stamp
    letter["From"] = _address(str(after.get("sender") or sender), "sender")
    letter["To"] = [_address(each, "to") for each in after["to"]]
    if after.get("reply-to"):
        letter["Reply-To"] = _address(str(after["reply-to"]), "reply-to")
    letter["Subject"] = " ".join(str(after.get("subject") or "").split())
    letter["X-Whenvoca-Origin"] = effect.target
    letter.set_content(str(after.get("text") or "") + "\n", cte="quoted-printable")
    for number, text in enumerate(json.loads(effect.kept) if effect.kept else (), 1):
        name = "event.ics" if number == 1 else f"event-{number}.ics"
        letter.add_attachment(
            text.encode(), maintype="text", subtype="calendar", filename=name, params={"charset": "utf-8"}
        )
    return letter


def _address(text: str, word: str) -> Address:
    """The address. A line break or anything else that would end a header is refused."""
    if any(ord(sign) < 32 for sign in text) or not is_address(text):
        shown = text.encode("unicode_escape").decode()
        raise RowFault(f'{word}: "{shown}" is no e-mail address', fix="correct it where it comes from")
    return Address(addr_spec=text)
