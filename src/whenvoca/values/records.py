"""Plain data of which some fields do not count when two are compared, such as where they stood."""

from __future__ import annotations

from typing import Any, ClassVar

from msgspec import Struct


class Record(Struct, frozen=True):
    """``ignored_fields`` names the fields that do not count."""

    ignored_fields: ClassVar[tuple[str, ...]] = ()

    def _counted(self) -> list[Any]:
        return [getattr(self, name) for name in self.__struct_fields__ if name not in self.ignored_fields]

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and isinstance(other, Record) and self._counted() == other._counted()

    def __hash__(self) -> int:
        return hash((type(self), *self._counted()))
