"""How the body of a web call is read: values by their paths, whether what it is about is gone, and lists of both."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.errors import RowFault, SourceFault
from whenvoca.language.evaluation import Scope
from whenvoca.places.field_kinds import read_as
from whenvoca.values.addresses import to_address
from whenvoca.values.columns import Unread
from whenvoca.values.kinds import Kind

MISSING = object()  # there is nothing at that path
_MOST_ELEMENTS = 500
_LONGEST = 50_000  # signs of a value


class HookReading(Struct, frozen=True, kw_only=True):
    """What a hook's settings say of its calls: paths, kinds, and the condition under which a thing is gone."""

    fields: Mapping[str, str]
    kinds: Mapping[str, Kind] = field(default_factory=dict)
    addresses: frozenset[str] = frozenset()  # fields that hold an address
    dates: str = "year first"
    once: str = ""
    about: str = ""
    newer: str = ""
    each: str = ""
    gone: Callable[[Scope], bool] | None = None


class Element(Struct, frozen=True):
    """What one call, or one element of its list, says. ``values`` are those that it gives; None clears a field."""

    about: str
    values: Mapping[str, Any]
    is_gone: bool
    newer: Any = None


class WebCall(Struct, frozen=True):
    """What a web call says. ``once`` is its id, empty where it has none."""

    once: str
    elements: Sequence[Element]


class JsonThing:
    """A JSON object as a thing with fields, for the condition ``gone``."""

    def __init__(self, data: Mapping[str, Any]) -> None:
        self._data = {str(key).lower().replace("_", "-"): value for key, value in data.items()}

    def value_of(self, word: str) -> Any:
        """The value of that name, None where there is none."""
        value = self._data.get(word.lower())
        if isinstance(value, Mapping):
            return JsonThing(value)
        return Decimal(str(value)) if isinstance(value, float) else value

    def where_is(self, word: str) -> str:
        """Where it is, for messages."""
        return f"the call, {word}"


def at_path(data: Any, path: str) -> Any:
    """The value at a path such as `visit.number` or `visits.0.number`; MISSING where there is none."""
    for part in path.split("."):
        if isinstance(data, Mapping) and part in data:
            data = data[part]
        elif isinstance(data, list) and part.isdecimal() and int(part) < len(data):
            data = data[int(part)]
        else:
            return MISSING
    return data


def word_at(data: Any, path: str, what: str) -> str:
    """The text or number at a path. Raises SourceFault where there is none."""
    found = at_path(data, path)
    if found is MISSING or found is None or isinstance(found, Mapping | list) or not str(found).strip():
        raise SourceFault(f'the call has no "{path}", which is its {what}')
    text = str(found).strip()
    if len(text) > 500:
        raise SourceFault(f'"{path}" is too long to be the {what}')
    return text


def read_elements(reading: HookReading, body: Any, now: datetime, zone: ZoneInfo) -> list[Element]:
    """What a call says, one element unless it carries a list. Raises SourceFault where it cannot be read."""
    found: Any = at_path(body, reading.each) if reading.each else MISSING
    if found is MISSING:
        found = [body]
    if not isinstance(found, list):
        raise SourceFault(f'"{reading.each}" is not a list')
    elements: list[Any] = found
    if len(elements) > _MOST_ELEMENTS:
        raise SourceFault(f'"{reading.each}" has {len(elements)} elements: {_MOST_ELEMENTS} at most')
    return [_read_element(reading, each, now, zone) for each in elements]


def _read_element(reading: HookReading, data: Any, now: datetime, zone: ZoneInfo) -> Element:
    if not isinstance(data, Mapping):
        raise SourceFault("the call is not an object with names and values")
    about = word_at(data, reading.about, "subject") if reading.about else ""
    values: dict[str, Any] = {}
    for name, path in reading.fields.items():
        found = at_path(data, path)
        if found is not MISSING:
            values[name] = _read_value(reading, name, path, found, zone)
    newer = at_path(data, reading.newer) if reading.newer else MISSING
    if newer is not MISSING and not isinstance(newer, int | float | str):
        raise SourceFault(f'"{reading.newer}" is neither a number nor a time')
    is_gone = False
    if reading.gone is not None:
        try:
            is_gone = reading.gone(Scope(JsonThing(data), "call", now, zone))
        except RowFault as fault:
            raise SourceFault(f"gone: {fault.message}") from fault
    return Element(about, values, is_gone, None if newer is MISSING else newer)


def is_older(told: Any, known: Any) -> bool:
    """Whether what a call tells is older than, or as old as, what is known."""
    if told is None or known is None:
        return False
    if isinstance(told, int | float) and isinstance(known, int | float | Decimal):
        return Decimal(str(told)) <= Decimal(str(known))
    try:
        first, second = datetime.fromisoformat(str(told)), datetime.fromisoformat(str(known))
        if (first.tzinfo is None) == (second.tzinfo is None):
            return first <= second
    except ValueError:
        pass
    return str(told) <= str(known)


def _read_value(reading: HookReading, name: str, path: str, found: Any, zone: ZoneInfo) -> Any:
    if isinstance(found, list) and all(isinstance(each, str | int | float | bool) for each in found):
        return [_read_scalar(reading, name, path, each, zone) for each in found]
    if isinstance(found, Mapping | list):
        raise SourceFault(f'"{path}" is not a single value')
    return _read_scalar(reading, name, path, found, zone)


def _read_scalar(reading: HookReading, name: str, path: str, found: Any, zone: ZoneInfo) -> Any:
    if found is None or (isinstance(found, str) and not found.strip()):
        return None
    kind = reading.kinds.get(name, Kind.TEXT)
    if isinstance(found, bool):
        if kind not in (Kind.YES_NO, Kind.TEXT):
            raise SourceFault(f'"{path}" is {str(found).lower()}, and {kind.value} is wanted')
        return found if kind is Kind.YES_NO else str(found).lower()
    if isinstance(found, float):
        found = Decimal(str(found))
    if not isinstance(found, str):
        if kind is Kind.NUMBER:
            return found
        found = str(found)
    if len(found) > _LONGEST:
        raise SourceFault(f'"{path}" is too long: {_LONGEST} signs at most')
    if name in reading.addresses:
        if not (address := to_address(found.strip())):
            raise SourceFault(f'"{path}": "{found[:60]}" is not an email address')
        return address
    if kind is Kind.TEXT:
        return found
    try:
        value = read_as(kind, name, found, zone, reading.dates)
    except RowFault as fault:
        raise SourceFault(f'"{path}": {fault.message}') from fault
    if isinstance(value, Unread):
        raise SourceFault(f'"{path}": {value.fault}', fix=value.fix)
    return value
