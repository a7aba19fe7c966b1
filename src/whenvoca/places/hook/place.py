"""A hook: an address that another system calls."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from whenvoca.engine.intake_protocols import IntakePlace
from whenvoca.language.definitions import ColumnInfo, PlaceInfo, WebInfo
from whenvoca.places.hook.reading import HookReading
from whenvoca.places.hook.signature import Signature
from whenvoca.values.kinds import Kind


class Hook(IntakePlace):
    """A hook on the web; its address is a secret of the workspace's."""

    kind = "hook"
    address = "an address of its own"

    def __init__(self, name: str, zone: ZoneInfo, reading: HookReading, signature: Signature | None) -> None:
        self.name, self.zone, self.reading, self.signature = name, zone, reading, signature

    def holds(self) -> str:
        count = len(self.reading.fields)
        return f"{count} field{'s' * (count != 1)}"

    def info(self) -> PlaceInfo:
        kinds = self.reading.kinds
        columns = tuple(
            ColumnInfo(name=name, letter="", kind=kinds.get(name, Kind.TEXT), declared=True)
            for name in self.reading.fields
        )
        web = WebInfo(is_unsigned=self.signature is None)
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, columns=columns, web=web)
