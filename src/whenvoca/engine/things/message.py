"""The chat message as a thing in a workflow: its fields by the language's names."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.types import MOMENT, TEXT, YES_NO, Type, thing

_TEXTS = ("sender", "room", "text", "sound", "uid")


def message_type(place: PlaceInfo | None = None) -> Type:
    """The type of a message: each field that a workflow can read."""
    return thing("message", {**dict.fromkeys(_TEXTS, TEXT), "sent": MOMENT, "dictated": YES_NO})


MESSAGE_FIELDS = frozenset(message_type().fields)


class MessageThing:
    """A message as it was heard. ``sender`` is the person's name of [people], else their address; empty where the room
    hides it; ``room`` is empty where it was said to us alone."""

    __slots__ = ("_state", "_zone", "key", "place")

    def __init__(self, key: str, state: Mapping[str, Any], place: str, zone: ZoneInfo) -> None:
        self.key, self.place = key, place
        self._state, self._zone = state, zone

    @property
    def names(self) -> list[str]:
        """All that the sender goes by."""
        return str(self._state.get("names") or self._state.get("sender") or "").lower().split(", ")

    @property
    def uid(self) -> str:
        """What makes it the same message."""
        return self.key

    def where_is(self, word: str) -> str:
        """The chat, and who said it."""
        return f"{self.place}, the message of {self._state.get('sender') or 'somebody'}"

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of a message."""
        if word == "uid":
            return self.key
        if word == "sent":
            return self._state["sent"].astimezone(self._zone)
        if word == "dictated":
            return bool(self._state.get("sound"))
        if word not in _TEXTS:
            raise KeyError(word)
        return self._state.get(word) or None
