"""What a message stanza says to us: words, a correction of earlier ones, or nothing that asks for anything."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from msgspec import Struct

_SOUNDS = (".ogg", ".oga", ".opus", ".mp3", ".m4a", ".wav", ".aac", ".webm")
_MOST_COUNTED = 1000
_DELAY = "{urn:xmpp:delay}delay"
_CORRECTION = "{urn:xmpp:message-correct:0}replace"  # XEP-0308
_NO_WORDS = (  # whose body, if there is one, is for programs that know no better
    "{urn:xmpp:reactions:0}reactions",  # XEP-0444
    "{urn:xmpp:message-retract:0}retract",  # XEP-0424
    "{urn:xmpp:message-retract:1}retract",
    "{urn:xmpp:fasten:0}apply-to",
    "{urn:xmpp:eme:0}encryption",  # XEP-0380
    "{eu.siacs.conversations.axolotl}encrypted",
    "{urn:xmpp:omemo:2}encrypted",
    "{jabber:x:encrypted}x",
)


class Said(Struct, frozen=True):
    """The words, or the sound, of a message. ``sent`` is None where nobody to be trusted says when; ``corrects`` is the
    number of an earlier message that it stands for."""

    number: str
    text: str
    sound: str = ""
    sent: datetime | None = None
    corrects: str = ""


class OwnNumbers:
    """Numbers of messages that no server has numbered: programs give none, or one again and again."""

    def __init__(self) -> None:
        self._count: dict[str, int] = {}  # of the same within a minute

    def number(self, who: str, said: Said, sent: datetime) -> str:
        """The number of this message; the same for those that come again as they came."""
        text = f"{who}\n{said.number}\n{said.text}\n{said.sound}\n{sent.astimezone(UTC):%Y%m%dT%H%M}"
        self._count[text] = count = self._count.get(text, 0) + 1
        if len(self._count) > _MOST_COUNTED:
            del self._count[next(iter(self._count))]
        return hashlib.sha256(f"{text}\n{count}".encode()).hexdigest()[:32]


def read_said(message: Any, is_trusted: Callable[[str], bool]) -> Said | None:
    """What a message says; None where it says nothing. ``is_trusted``: whose word on the time of a message counts."""
    if any(message.xml.find(name) is not None for name in _NO_WORDS):
        return None
    text, url = str(message["body"] or ""), str(message["oob"]["url"] or "")
    sound = url if url.lower().endswith(_SOUNDS) else ""
    if sound and text.strip() == url:
        text = ""
    if not (text or sound):
        return None
    correction = message.xml.find(_CORRECTION)
    corrects = str(correction.get("id") or "") if correction is not None else ""
    return Said(str(message["id"] or ""), text, sound, _sent(message, is_trusted), corrects)


def retracted_by(message: Any) -> str:
    """The number of the message that this one takes back (XEP-0424); empty where it takes back none."""
    for name in _NO_WORDS[1:4]:
        found = message.xml.find(name)
        if found is not None:
            return str(found.get("id") or "")
    return ""


def _sent(message: Any, is_trusted: Callable[[str], bool]) -> datetime | None:
    """When it was said, by a server that kept it (XEP-0203); a sender may write there what they like."""
    for delay in message.xml.findall(_DELAY):
        if not is_trusted(str(delay.get("from") or "")):
            continue
        try:
            moment = datetime.fromisoformat(str(delay.get("stamp") or ""))
        except ValueError:
            continue
        return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
    return None
