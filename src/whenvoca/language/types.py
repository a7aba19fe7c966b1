"""What the checker knows of a value before anything runs: its kind, and for things their fields."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from msgspec import field

from whenvoca.values.kinds import Kind
from whenvoca.values.records import Record

TypeName = Literal[
    "text",
    "number",
    "yes-no",
    "date",
    "time",
    "moment",
    "duration",
    "working-days",
    "list",
    "thing",
    "offset",
    "any",
    "empty",
]


class Type(Record, frozen=True):
    """The type of a value. ``said`` is how messages call it; ``fields`` are those of a thing, by lower-case name."""

    ignored_fields = ("fields", "said", "written", "place")

    name: TypeName
    item: Type | None = None
    fields: Mapping[str, Type] = field(default_factory=dict)
    said: str = ""
    written: tuple[str, ...] = ()  # the fields' names as people write them
    place: str = ""  # of a row: its sheet

    def __str__(self) -> str:
        return self.said or {"yes-no": "yes or no", "any": "value"}.get(self.name, self.name)


TEXT, NUMBER, YES_NO, DATE, TIME = Type("text"), Type("number"), Type("yes-no"), Type("date"), Type("time")
WORKING_DAYS = Type("working-days", said="number of working days")
MOMENT, DURATION, OFFSET, ANY, EMPTY = Type("moment"), Type("duration"), Type("offset"), Type("any"), Type("empty")


def list_of(item: Type) -> Type:
    """A list of such values."""
    return Type("list", item, said=f"list of {item}s" if item.name not in ("any", "thing") else "list")


def of_kind(kind: Kind) -> Type:
    """The type of a column's values."""
    if kind is Kind.ADDRESSES:
        return list_of(TEXT)
    return Type(kind.value)  # type: ignore[arg-type]  # the other kinds' names are names of types


def thing(said: str, fields: Mapping[str, Type]) -> Type:
    """A thing (a row, an event) with these fields, named as people write them."""
    return Type("thing", fields={name.lower(): kind for name, kind in fields.items()}, said=said, written=tuple(fields))


def fits(given: Type, wanted: Type) -> bool:
    """Whether a value of one type can stand where the other is wanted."""
    if "any" in (given.name, wanted.name) or given.name == "empty":
        return True
    if given.name == wanted.name:
        return True
    return given.name == "date" and wanted.name == "moment"


def join_types(first: Type, second: Type) -> Type:
    """The type of a choice between two values."""
    if first.name == "empty":
        return second
    if second.name == "empty" or first == second:
        return first
    if {first.name, second.name} == {"date", "moment"}:
        return MOMENT
    return ANY
