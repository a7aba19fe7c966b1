"""One file behind sheets: read once while it is unchanged, saved as a whole, never over another's work."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from msgspec import Struct

from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Effect
from whenvoca.engine.place_protocols import SavedRows, SaveIntent
from whenvoca.errors import PlaceTrouble
from whenvoca.places import files
from whenvoca.places.sheet.grid import Backing, TabWrites
from whenvoca.places.sheet.table import SheetSettings
from whenvoca.values.kinds import Raw


class PendingPlace(Protocol):
    """What a save asks of a sheet in the file."""

    name: str
    settings: SheetSettings

    @property
    def tab_name(self) -> str:
        """The tab as the file calls it."""

    def plan_writes(self, data: bytes | None, mine: list[Pending], result: SavedRows) -> TabWrites:
        """Where its pending cells stand in the file as it is now."""

    def mark_saved(self, saved: SavedRows) -> None:
        """Told after a save: what was pending is now what stands."""


class Pending(Struct):
    """A row effect on its way into the file."""

    number: int
    place: PendingPlace
    effect: Effect
    raws: dict[str, Raw]  # the cells as a later reading will find them


class OpenFile:
    """One file behind one or several places: its bytes while it stands unchanged, and what is to be saved."""

    def __init__(self, path: Path, backing: Backing, clock: Clock, *, is_rehearsal: bool = False) -> None:
        self.path = path
        self._is_rehearsal = is_rehearsal  # a save is only remembered
        self._has_rehearsed = False
        self.backing = backing
        self._clock = clock
        self._data: bytes | None = None
        self.digest = ""
        self.pending: list[Pending] = []
        self.own_digests: set[str] = set()  # contents that we wrote ourselves: they need no second of rest

    def exists(self) -> bool:
        """Whether the file stands, or would by what was rehearsed."""
        return self._has_rehearsed or self.path.exists()

    @property
    def data(self) -> bytes:
        """The file's bytes as last looked at; it is looked at now if it never was."""
        return self._data if self._data is not None else self.load()

    def load(self) -> bytes:
        """Looks at the file; answers its bytes as they stand now. Raises SourceFault or PlaceTrouble."""
        if self._has_rehearsed:
            assert self._data is not None
            return self._data
        data = files.read_file(self.path)
        digest = files.hash_bytes(data)
        if digest != self.digest:
            if digest not in self.own_digests:
                files.wait_settled(self.path, self._clock.wall_seconds, self._clock.wait)
                data = files.read_file(self.path)
            self._data, self.digest = data, files.hash_bytes(data)
        assert self._data is not None
        return self._data

    def save(self, begin: Callable[[SaveIntent, list[int]], None]) -> dict[str, SavedRows]:
        """Writes everything pending; answers what became of it, by place.

        ``begin`` commits the intent before the file is replaced. If somebody changed the file meanwhile it is read
        again and the cells are put in anew, three times. Raises PlaceTrouble, then everything stays pending.
        """
        patience = max(each.place.settings.patience for each in self.pending)
        for _ in range(3):
            if not self._is_rehearsal:
                files.wait_unlocked(self.path, patience, self._clock.wait)
            data = self.load() if self.exists() else None
            before = self.digest if data is not None else ""
            saved, writes = self._place_cells(data)
            numbers = [each.number for each in self.pending]
            if all(write.is_empty for write in writes.values()):
                return self._finish(saved, before)
            patched = self.backing.patch(data, writes)
            for tab, write in writes.items():
                if write.removed or write.inserted:
                    patched = self.backing.shift_rows(patched, tab, write)
            after = files.hash_bytes(patched)
            if self._is_rehearsal:
                self._data, self.digest, self._has_rehearsed = patched, after, True
                return self._finish(saved, after)
            temporary = files.write_temporary(self.path, patched)
            begin(SaveIntent(str(self.path), before, after), numbers)
            if self._is_still(before):
                files.put_in_place(temporary, self.path)
                self._data, self.digest = patched, after
                self.own_digests.add(after)
                return self._finish(saved, after)
            temporary.unlink(missing_ok=True)
        raise PlaceTrouble(
            "is being changed all the time",
            where=str(self.path),
            fix="run again when nobody writes to it; nothing is lost",
        )

    def _is_still(self, before: str) -> bool:
        if not before:
            return not self.path.exists()
        return self.path.exists() and files.hash_bytes(files.read_file(self.path)) == before

    def _finish(self, saved: dict[str, SavedRows], digest: str) -> dict[str, SavedRows]:
        for place in {each.place.name: each.place for each in self.pending}.values():
            rows = saved.setdefault(place.name, SavedRows())
            rows.digest = digest
            place.mark_saved(rows)
        self.pending = []
        return saved

    def _place_cells(self, data: bytes | None) -> tuple[dict[str, SavedRows], dict[str, TabWrites]]:
        """The positions of the pending cells in the file as it is now, and the rows as they will be."""
        saved: dict[str, SavedRows] = {}
        writes: dict[str, TabWrites] = {}
        for place in {each.place.name: each.place for each in self.pending}.values():
            mine = [each for each in self.pending if each.place is place]
            result = saved.setdefault(place.name, SavedRows())
            write = place.plan_writes(data, mine, result)
            tab = writes.setdefault(place.tab_name, TabWrites())
            tab.cells |= write.cells
            tab.formats_from |= write.formats_from
            tab.headings = tab.headings or write.headings
            tab.removed |= write.removed
            tab.inserted |= write.inserted
        return saved, writes
