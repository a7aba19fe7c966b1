"""An attendee's answer as a thing in a workflow."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.types import MOMENT, TEXT, Type, thing
from whenvoca.values.zones import first_moment

_TEXTS = ("attendee", "word", "comment", "delegate", "uid")
_MOMENTS = ("start", "end", "sent")


def answer_type(place: PlaceInfo | None = None) -> Type:
    """The type of an answer: each field that a workflow can read."""
    return thing("answer", {**dict.fromkeys(_TEXTS, TEXT), **dict.fromkeys(_MOMENTS, MOMENT)})


ANSWER_FIELDS = frozenset(answer_type().fields)


class AnswerThing:
    """An answer as it came in. ``place`` is the calendar's name."""

    __slots__ = ("_state", "_zone", "key", "place")

    def __init__(self, key: str, state: Mapping[str, Any], place: str, zone: ZoneInfo) -> None:
        self.key, self.place = key, place
        self._state, self._zone = state, zone

    @property
    def event_key(self) -> str:
        """Which event it is about."""
        return str(self._state["event"])

    def where_is(self, word: str) -> str:
        """The calendar, and whose answer it is."""
        return f"{self.place}, the answer of {self._state.get('attendee')}"

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of an answer."""
        if word == "uid":
            return self.event_key
        if word in _MOMENTS:
            value = self._state.get(word)
            if value is None:
                return None
            return value.astimezone(self._zone) if hasattr(value, "hour") else first_moment(value, self._zone)
        if word not in _TEXTS:
            raise KeyError(word)
        return self._state.get(word) or None
