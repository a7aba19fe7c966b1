"""The names that a value may use, with their types; and what rows and columns are as types."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.language.definitions import ColumnInfo, PlaceInfo, written_column
from whenvoca.language.types import ANY, Type, list_of, of_kind, thing


class Names(Struct, frozen=True):
    """What names mean at one point of a workflow."""

    subject_word: str = ""
    subject: Type | None = None
    place: PlaceInfo | None = None  # of the subject
    given: Mapping[str, Type] = field(default_factory=dict)
    lost: Mapping[str, str] = field(default_factory=dict)  # names known elsewhere only, with the reason
    words: frozenset[str] = frozenset({"now", "today", "tomorrow"})
    is_look_up: bool = False  # bare names are fields of what is looked for before they are given names
    first: Mapping[str, Type] = field(default_factory=dict)  # what a field gives itself, before the subject's fields

    def with_name(self, name: str, kind: Type) -> Names:
        """The same with one more given name."""
        return replace(self, given={**self.given, name: kind})

    def with_words(self, *words: str) -> Names:
        """The same with more words of the language that have a value here."""
        return replace(self, words=self.words | set(words))


def untyped(place: PlaceInfo | None) -> Type:
    """The type of what nothing is known of before it is there."""
    return ANY


def row_type(place: PlaceInfo | None) -> Type:
    """The type of a row of that sheet: a thing with its columns as fields."""
    if place is None:
        return ANY
    fields = {word: column_type(column) for word, column in place.by_word.items()}
    row = thing(f"row of {place.name}", fields)
    return replace(
        row, written=tuple(written_column(column.name) for column in place.columns or ()), place=place.name.lower()
    )


def column_type(column: ColumnInfo) -> Type:
    """The type of a column's cells; any while no row tells and nothing is declared."""
    found = of_kind(column.kind) if column.filled or column.declared else ANY
    return list_of(found) if column.several else found


def fold_name(word: str) -> str:
    """A name as it is compared: lower case, underscores as hyphens."""
    return word.lower().replace("_", "-")
