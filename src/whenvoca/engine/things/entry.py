"""The entry of a form, or a web call, as a thing in a workflow: its fields by the names that the place gives them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.language.definitions import PlaceInfo, written_column
from whenvoca.language.names import column_type, fold_name
from whenvoca.language.types import ANY, MOMENT, NUMBER, Type, thing

OWN_WORDS = ("number", "sent")  # what each entry has besides the fields of its place
VERSION = "@version"  # in a state: what later calls are held against; no field


def is_field(name: str) -> bool:
    """Whether a name in a state is one of the place's fields."""
    return name not in (*OWN_WORDS, VERSION)


def entry_type(place: PlaceInfo | None) -> Type:
    """The type of an entry of that form: its fields, its number, and when it was sent."""
    return _type("entry", place)


def call_type(place: PlaceInfo | None) -> Type:
    """The type of a call to that hook."""
    return _type("call", place)


def _type(word: str, place: PlaceInfo | None) -> Type:
    if place is None:
        return ANY
    fields = {name: column_type(column) for name, column in place.by_word.items()}
    found = thing(f"{word} of {place.name}", {**fields, "number": NUMBER, "sent": MOMENT})
    written = tuple(written_column(column.name) for column in place.columns or ())
    return replace(found, written=(*written, *OWN_WORDS))


class EntryThing:
    """An entry or a call as it came in."""

    __slots__ = ("_by_word", "_zone", "key", "place")

    def __init__(self, key: str, state: Mapping[str, Any], place: str, zone: ZoneInfo) -> None:
        self.key, self.place = key, place
        self._by_word = {fold_name(word): value for word, value in state.items()}
        self._zone = zone

    def where_is(self, word: str) -> str:
        """The place, and which of its entries."""
        return f"{self.place}, number {self._by_word.get('number', self.key)}"

    def value_of(self, word: str) -> Any:
        """The field's value, None for one that was left empty."""
        value = self._by_word.get(fold_name(word))
        return value.astimezone(self._zone) if word == "sent" and value is not None else value
