"""What was seen of each sheet, kept in .whenvoca/sheets.json: a file that stands unchanged is not parsed again.

It is only ever a copy: lost or broken, the sheets are read.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import MutableMapping
from pathlib import Path
from typing import Any

from msgspec import ValidationError, convert, to_builtins
from msgspec.structs import replace

from whenvoca import __version__
from whenvoca.language.definitions import PlaceInfo
from whenvoca.places import deferred_close
from whenvoca.places.sheet.place import SheetPlace


class SheetMemory:
    """The memory in one file. It is written only where the workspace's state folder is there already."""

    @classmethod
    def of(cls, shared: MutableMapping[Any, Any], folder: Path) -> SheetMemory:
        """The one that all sheets of a workspace share; ``folder`` is the workspace's state folder."""
        memory: SheetMemory = shared.setdefault(cls, cls(folder / "sheets.json"))
        return memory

    def __init__(self, path: Path) -> None:
        self._path = path
        self._kept: dict[str, Any] | None = None
        self._only_looks = False

    def recall(self, place: SheetPlace) -> PlaceInfo | None:
        """What was kept of the sheet, if its file, its settings and this program are as they were."""
        entry = self._load().get(place.name)
        place.open_file.load()
        if not isinstance(entry, dict) or entry.get("stamp") != self._stamp(place):
            return None
        try:
            return convert(entry.get("info"), PlaceInfo)
        except ValidationError:
            return None

    def keep(self, place: SheetPlace, info: PlaceInfo) -> None:
        """Keeps it, where there is a state folder."""
        self._load()[place.name] = {"stamp": self._stamp(place), "info": to_builtins(info)}
        if self._only_looks or not self._path.parent.is_dir():
            return
        temporary = self._path.with_suffix(".tmp")
        with contextlib.suppress(OSError):
            temporary.write_text(json.dumps(self._kept), encoding="utf-8")
            deferred_close.replace(temporary, self._path)

    def only_look(self) -> None:
        """From now on nothing is kept: what is asked may not write anything."""
        self._only_looks = True

    def forget(self, place: SheetPlace) -> None:
        """What was kept no longer holds."""
        self._load().pop(place.name, None)

    def _load(self) -> dict[str, Any]:
        if self._kept is None:
            self._kept = {}
            with contextlib.suppress(OSError, ValueError):
                found = json.loads(self._path.read_text(encoding="utf-8"))
                self._kept = found if isinstance(found, dict) else {}
        return self._kept

    def _stamp(self, place: SheetPlace) -> list[str]:
        people = sorted(place.settings.people)  # a set has no order that stays from one process to the next
        settings = repr(replace(place.settings, people=frozenset()))
        return [__version__, place.open_file.digest, settings, *people, place.zone.key]
