"""Files that workflows keep in the workspace: what was attached to emails, and what they publish."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.place_protocols import Writer
from whenvoca.errors import RowFault, WhenvocaError
from whenvoca.places import files

_MOST_OF_ONE_NAME = 1000


class KeptFiles(Writer):
    """Folders below the workspace's. A file that is there is written over only by what published it."""

    def __init__(self, workspace: Path, *, is_rehearsal: bool) -> None:
        self._workspace, self._is_rehearsal = workspace.resolve(), is_rehearsal

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return each_by_itself(effects, self._apply_one)

    def _apply_one(self, effect: Effect) -> Receipt:
        if effect.action in ("publish", "put back"):
            return self._write(effect)
        told = effect.after or effect.before or {}
        folder = self._folder(str(told["folder"]))
        path = self._place_of(folder, str(told["name"]), str(told["hash"]), is_new=effect.action == "save")
        if path is None or self._is_rehearsal:
            return Receipt()
        with files.telling_trouble(folder, "made"):
            folder.mkdir(parents=True, exist_ok=True)
        if effect.action == "take":
            path.unlink(missing_ok=True)
        elif not path.exists():
            files.replace_file(path, effect.stored)
        return Receipt("", path.relative_to(self._workspace).as_posix())

    def _write(self, effect: Effect) -> Receipt:
        """Publishes, or puts back what stood there before, unless the file has changed since that was decided."""
        path = self._workspace / effect.target
        folder = self._folder(Path(effect.target).parent.as_posix())
        now = files.hash_bytes(files.read_file(path)) if path.exists() else ""
        if now != effect.version:
            raise RowFault(f"{effect.target} was changed in the same moment", fix="whenvoca retry does it again")
        if self._is_rehearsal:
            return Receipt()
        with files.telling_trouble(folder, "made"):
            folder.mkdir(parents=True, exist_ok=True)
        if effect.action == "put back" and not effect.kept:
            path.unlink()
        else:
            files.replace_file(path, effect.stored if effect.action == "publish" else effect.kept.encode())
        return Receipt("", effect.target)

    def _folder(self, name: str) -> Path:
        folder = (self._workspace / name).resolve()
        if not folder.is_relative_to(self._workspace) or folder.is_relative_to(self._workspace / ".whenvoca"):
            raise RowFault(f'"{name}" is no folder of the workspace', fix='such as "received"')
        return folder

    def _place_of(self, folder: Path, name: str, digest: str, *, is_new: bool) -> Path | None:
        """The file of that name and content; for a new one else the first free name."""
        for number in range(1, _MOST_OF_ONE_NAME):
            path = folder / (name if number == 1 else f"{Path(name).stem}-{number}{Path(name).suffix}")
            if not path.exists():
                return path if is_new else None
            if path.is_file() and files.hash_bytes(files.read_file(path)) == digest:
                return path
        raise RowFault(f'{folder.name} holds {_MOST_OF_ONE_NAME:,} files called "{name}"')
