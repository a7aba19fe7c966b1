"""The email that came in as a thing in a workflow, and what is attached to it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.types import MOMENT, NUMBER, TEXT, YES_NO, Type, list_of, thing

BRIEF = "@brief"  # in a state: only its head was read
NAME = "@name"  # in a state: what the mailbox calls it
METHOD = "@method"  # in a state: of the calendar that goes with it (RFC 5546), where that counts
CALENDAR = "@calendar"  # in a state: that calendar
_TEXTS = ("sender", "subject", "text", "new-text", "thread", "mailbox", "uid")
_LISTS = ("to", "copies")
_YES_NO = ("automatic", "trusted")
ATTACHMENT = thing("attachment", {"name": TEXT, "kind": TEXT, "size": NUMBER})


def email_type(place: PlaceInfo | None = None) -> Type:
    """The type of an email: each field that a workflow can read."""
    return thing(
        "email",
        {
            **dict.fromkeys(_TEXTS, TEXT),
            **dict.fromkeys(_LISTS, list_of(TEXT)),
            **dict.fromkeys(_YES_NO, YES_NO),
            "sent": MOMENT,
            "attachments": list_of(ATTACHMENT),
        },
    )


EMAIL_FIELDS = frozenset(email_type().fields)


class AttachmentThing:
    """What is attached to an email. ``place`` and ``email`` say to which; ``part`` is its number there, from 0 on."""

    __slots__ = ("email", "kind", "name", "part", "place", "size")

    def __init__(self, place: str, email: str, part: int, told: Sequence[Any]) -> None:
        self.place, self.email, self.part = place, email, part
        self.name, self.kind, self.size = str(told[0]), str(told[1]), int(told[2])

    @property
    def key(self) -> str:
        """What makes it the same attachment."""
        return f"{self.email} {self.part}"

    def where_is(self, word: str) -> str:
        """The mailbox, and which attachment."""
        return f"{self.place}, {self.name}"

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of an attachment."""
        return {"name": self.name, "kind": self.kind, "size": self.size}[word]


class EmailThing:
    """An email as it came in. ``place`` is its mailbox's name, ``key`` its Message-ID."""

    __slots__ = ("_zone", "key", "place", "state")

    def __init__(self, key: str, state: Mapping[str, Any], place: str, zone: ZoneInfo) -> None:
        self.key, self.place = key, place
        self.state, self._zone = state, zone

    @property
    def names(self) -> list[str]:
        """All that the sender goes by."""
        return str(self.state.get("names") or self.state.get("sender") or "").lower().split(", ")

    @property
    def uid(self) -> str:
        """What makes it the same email."""
        return self.key

    @property
    def references(self) -> Sequence[str]:
        """The Message-IDs of its thread before it, the oldest first."""
        return tuple(self.state.get("references") or ())

    @property
    def reply_to(self) -> str:
        """Where answers go."""
        return str(self.state.get("reply-to") or self.state.get("sender") or "")

    @property
    def attachments(self) -> list[AttachmentThing]:
        """What is attached to it."""
        told = self.state.get("attachments") or ()
        return [AttachmentThing(self.place, self.key, part, each) for part, each in enumerate(told)]

    def where_is(self, word: str) -> str:
        """The mailbox, and whose email it is."""
        return f"{self.place}, the email of {self.state.get('sender') or 'somebody'}"

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of an email."""
        if word == "uid":
            return self.key
        if word == "sent":
            sent = self.state.get("sent")
            return None if sent is None else sent.astimezone(self._zone)
        if word == "attachments":
            return self.attachments
        if word == "new-text":
            return self.state.get("new-text", self.state.get("text")) or None
        if word == "thread":
            return next(iter(self.references), self.key)
        if word in _LISTS:
            return list(self.state.get(word) or ())
        if word in _YES_NO:
            return bool(self.state.get(word))
        if word not in _TEXTS:
            raise KeyError(word)
        return self.state.get(word) or None
