"""The settings of a place, read with their kinds checked and every fault naming its line."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import Any

from whenvoca.engine.workspace.settings import FILE, line_of
from whenvoca.errors import SettingsFault
from whenvoca.language.faults import nearest
from whenvoca.places.bounded_answer import MOST_BYTES, parse_size


class PlaceSettings:
    """One table [places.NAME]."""

    def __init__(self, name: str, table: Mapping[str, Any], text: str) -> None:
        self.name = name
        self._table = table
        self._text = text

    @property
    def kind(self) -> str:
        """The kind of place, as written."""
        return str(self._table.get("kind", ""))

    def refuse(self, key: str, message: str, fix: str = "") -> SettingsFault:
        """The fault of a setting, to be raised."""
        line = line_of(self._text, f"places.{self.name}", key)
        return SettingsFault(f"{self.name}: {message}", where=f"{FILE}:{line}" if line else FILE, fix=fix)

    def is_like(self, other: PlaceSettings) -> bool:
        """Whether it says the same."""
        return self._table == other._table

    def allow(self, known: Sequence[str]) -> None:
        """Raises SettingsFault for a setting that is none of these."""
        for key in self._table:
            if key not in known:
                raise self.refuse(key, f'there is no setting "{key}" of a {self.kind}', nearest(key, known))

    def has(self, key: str) -> bool:
        """Whether the setting stands there."""
        return key in self._table

    def is_text(self, key: str) -> bool:
        """Whether the setting stands there as a text."""
        return isinstance(self._table.get(key), str)

    def text(self, key: str, default: str = "") -> str:
        """A text. Raises SettingsFault where it is none."""
        value = self._table.get(key, default)
        if not isinstance(value, str):
            raise self.refuse(key, f"{key} is no text", f'such as {key} = "…"')
        return value

    def yes_no(self, key: str) -> bool:
        """true or false, false unless given. Raises SettingsFault where it is neither."""
        value = self._table.get(key, False)
        if not isinstance(value, bool):
            raise self.refuse(key, f"{key} is neither true nor false")
        return value

    def number(self, key: str) -> int | None:
        """A whole number from 1 on. Raises SettingsFault where it is none."""
        value = self._table.get(key)
        if value is not None and (not isinstance(value, int) or isinstance(value, bool) or value < 1):
            raise self.refuse(key, f"{key} is no whole number from 1 on")
        return value

    def size(self, key: str) -> int:
        """Bytes, written as "20 MB", which is what they are unless given. Raises SettingsFault where it is none."""
        size = parse_size(self.text(key)) if key in self._table else MOST_BYTES
        if not size:
            raise self.refuse(key, f"{key} is no size", f'such as {key} = "20 MB"')
        return size

    def texts(self, key: str) -> tuple[str, ...]:
        """A text or a list of texts. Raises SettingsFault where it is neither."""
        value = self._table.get(key, [])
        items = value if isinstance(value, list) else [value]
        if not all(isinstance(item, str) and item for item in items):
            raise self.refuse(key, f"{key} is neither a text nor a list of texts")
        return tuple(items)

    def listed(self, key: str) -> list[Any]:
        """A list, empty unless given. Raises SettingsFault where it is none."""
        value = self._table.get(key, [])
        if not isinstance(value, list):
            raise self.refuse(key, f"{key} is not a list")
        return list(value)

    def day(self, key: str) -> date:
        """A day. Raises SettingsFault where it is none."""
        value = self._table.get(key)
        if not isinstance(value, date) or isinstance(value, datetime):
            raise self.refuse(key, f"{key} is not a day", f"such as {key} = 2027-06-30")
        return value

    def table(self, key: str) -> Mapping[str, Any]:
        """A table. Raises SettingsFault where it is none."""
        value = self._table.get(key, {})
        if not isinstance(value, dict):
            raise self.refuse(key, f"{key} is no table", f'such as {key} = {{ Date = "date" }}')
        return value
