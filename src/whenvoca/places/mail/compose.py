"""An email effect as a message (RFC 5322), with events as text/calendar parts (RFC 5545)."""

from __future__ import annotations

import html
import json
import mimetypes
import re
from datetime import datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from typing import Any

from whenvoca.engine.effects import Effect
from whenvoca.errors import RowFault
from whenvoca.values.addresses import to_address

_LINK = re.compile(r"https?://[^\s<>\"']+[^\s<>\"'.,;:!?)]")


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
    if after.get("copies"):
        email["Cc"] = [_address(each, "copies") for each in after["copies"]]
    if after.get("reply-to"):
        email["Reply-To"] = _address(str(after["reply-to"]), "reply-to")
    email["Subject"] = " ".join(str(after.get("subject") or "").split())
    if _is_number(after.get("in-reply-to")):
        email["In-Reply-To"] = f"<{_number(after['in-reply-to'])}>"
        email["References"] = " ".join(
            f"<{_number(each)}>" for each in after.get("references") or () if _is_number(each)
        )
        email["Auto-Submitted"] = "auto-replied"  # RFC 3834: whoever answers by a program sees that one wrote it
    email["X-Whenvoca-Origin"] = identity
    text = str(after.get("text") or "")
    email.set_content(text + "\n", cte="quoted-printable")
    if after.get("html"):
        email.add_alternative(page_of(text), subtype="html", cte="quoted-printable")
    events: list[str] = json.loads(effect.kept) if effect.kept else []
    if after.get("method"):
        _invite(email, events[0], str(after["method"]))
        return email
    for number, each in enumerate(events, 1):
        name = "event.ics" if number == 1 else f"event-{number}.ics"
        email.add_attachment(
            each.encode(), maintype="text", subtype="calendar", filename=name, params={"charset": "utf-8"}
        )
    for enclosed in effect.stored or ():
        kind = enclosed.kind or mimetypes.guess_type(enclosed.name)[0] or "application/octet-stream"
        main, _, sub = kind.partition("/")
        if main in ("multipart", "message"):  # a whole email is kept as it is, not as a part of this one
            main, sub = "application", "octet-stream"
        email.add_attachment(enclosed.data, maintype=main, subtype=sub or "octet-stream", filename=enclosed.name)
    return email


def _invite(email: EmailMessage, calendar: str, method: str) -> None:
    """The calendar as a part that mail programs show beside the text (RFC 6047 2.4), and as a file for the others."""
    data = calendar.encode()
    email.add_alternative(
        data, maintype="text", subtype="calendar", params={"method": method, "charset": "utf-8"}, cte="base64"
    )
    email.add_attachment(data, maintype="application", subtype="ics", filename="invite.ics")


def page_of(text: str) -> str:
    """The text as a plain page: paragraphs, line breaks, links."""
    paragraphs = [_marked_up(each) for each in re.split(r"\n\s*\n", text.strip())]
    return "<!doctype html><html><body>\n" + "\n".join(f"<p>{each}</p>" for each in paragraphs) + "\n</body></html>\n"


def _marked_up(text: str) -> str:
    pieces, position = [], 0
    for found in _LINK.finditer(text):
        address = html.escape(found[0])
        pieces += [html.escape(text[position : found.start()]), f'<a href="{address}">{address}</a>']
        position = found.end()
    pieces.append(html.escape(text[position:]))
    return "".join(pieces).replace("\n", "<br>\n")


def _is_number(text: Any) -> bool:
    """Whether an email is known by its Message-ID; one that has none cannot be referred to."""
    return bool(text) and "@" in str(text)


def _number(text: Any) -> str:
    """A Message-ID as it stood: without what could end it, or the header."""
    return re.sub(r"[<>\s]", "", str(text))


def _address(text: str, word: str) -> Address:
    """The address. A line break or anything else that would end a header is refused."""
    address = to_address(text)
    if not address:
        shown = text.encode("unicode_escape").decode()
        raise RowFault(f'{word}: "{shown}" is not an email address', fix="correct it where it comes from")
    return Address(addr_spec=address)
