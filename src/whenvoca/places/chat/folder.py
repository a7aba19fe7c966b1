"""The stand-in chat: a folder with rooms and people as JSON-lines files, so that nothing outside is needed.

rooms/NAME.jsonl and people/NAME.jsonl hold messages, one a line; presence/NAME.json what a person shows.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.faces import PlaceReport, Presence
from whenvoca.engine.people import Person
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo
from whenvoca.places import files

_NAME = re.compile(r"[\w.@+-]+")


class FolderChat:
    """A chat that is a folder. ``name_here`` is who the workspace is in it."""

    def __init__(
        self, name: str, folder: Path, shown: str, zone: ZoneInfo, *, rooms: Sequence[str], name_here: str = "desk"
    ) -> None:
        self.name = name
        self.zone = zone
        self.rooms = rooms
        self.name_here = name_here
        self._folder = folder
        self._shown = shown

    # --- looking

    def describe(self) -> PlaceReport:
        """How much was said in it."""
        try:
            count = sum(1 for path in self._folder.glob("*/*.jsonl") for _ in self._lines(path))
        except WhenvocaError as error:
            return PlaceReport(self.name, "chat", self._shown, self.zone.key, "", error.message, error.mend)
        missing = "" if self._folder.exists() else ", made when it is written"
        holds = f"{len(self.rooms)} room{'s' * (len(self.rooms) != 1)}, {count} message{'s' * (count != 1)}{missing}"
        return PlaceReport(
            self.name, "chat", self._shown, self.zone.key, holds, notes=("a stand-in: rooms and people as files",)
        )

    def info(self) -> PlaceInfo:
        """What the checker needs."""
        return PlaceInfo(name=self.name, kind="chat", zone=self.zone.key, rooms=tuple(self.rooms))

    def messages(self, kind: str, name: str) -> list[dict[str, Any]]:
        """What was said in a room ("rooms") or with a person ("people"), in order."""
        return list(self._lines(self._path(kind, name, "jsonl")))

    def presence_of(self, person: Person) -> Presence:
        """What the person shows now."""
        path = self._path("presence", person.chat or person.name, "json")
        if not path.exists():
            return Presence()
        try:
            return Presence.of(json.loads(files.read_file(path)))
        except (ValueError, AttributeError) as error:
            raise SourceFault("is no presence that can be read", where=str(path), mend="take the file away") from error

    def keep_showing(self, person: Person, presence: Presence) -> None:
        """It shows it still."""

    def close(self) -> None:
        """Nothing is kept open."""

    def _path(self, kind: str, name: str, ending: str) -> Path:
        if not _NAME.fullmatch(name) or name.startswith("."):
            raise RowFault(f'"{name}" is no name in a chat', mend="letters, digits, hyphens")
        return self._folder / kind / f"{name}.{ending}"

    def _lines(self, path: Path) -> Iterator[dict[str, Any]]:
        """The messages of a file; a last line that was cut short by a crash is none."""
        if not path.exists():
            return
        for number, line in enumerate(files.read_file(path).splitlines(keepends=True), 1):
            try:
                found = json.loads(line)
            except ValueError as error:
                if not line.endswith(b"\n"):
                    return
                if not line.strip():
                    continue
                mend = "take that line away"
                raise SourceFault(f"line {number} is no message", where=str(path), mend=mend) from error
            if isinstance(found, dict):
                yield found

    # --- writing

    def post(self, room: str, sender: str, text: str, at: datetime) -> None:
        """Somebody else says something in a room: of the stand-in only, where there is nobody to type it."""
        path = self._path("rooms", room, "jsonl")
        number = len(self.messages("rooms", room)) + 1
        said = {
            "id": f"said-{number}",
            "from": sender,
            "to": room,
            "at": at.astimezone(self.zone).isoformat(),
            "text": text,
        }
        self.append(path, said)

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Each by itself, in order."""
        return [self._apply_one(effect, stamp) for effect in effects]

    def _apply_one(self, effect: Effect, stamp: datetime) -> Receipt | WhenvocaError:
        try:
            if effect.verb == "send message":
                return self._send(effect, stamp)
            return self.show(str((effect.after or {}).get("chat") or effect.target), Presence.of(effect.after or {}))
        except (RowFault, PlaceTrouble, SourceFault) as error:
            return error

    def _send(self, effect: Effect, stamp: datetime) -> Receipt:
        after = effect.after or {}
        room = str(after.get("room") or "")
        if room and room not in self.rooms:
            raise RowFault(f'{self.name} has no room "{room}"', mend=f"rooms: {', '.join(self.rooms) or 'none'}")
        kind, name = ("rooms", room) if room else ("people", str(after["chat"]))
        path = self._path(kind, name, "jsonl")
        message = {
            "id": effect.target,
            "from": self.name_here,
            "to": name,
            "at": stamp.astimezone(self.zone).isoformat(),
            "text": after["text"],
        }
        if not (path.exists() and f'"id": "{effect.target}"'.encode() in files.read_file(path)):
            self.append(path, message)
        return Receipt("", "")

    def append(self, path: Path, message: dict[str, Any]) -> None:
        """Adds a line, durably; behind a line that a crash cut short, on a new one."""
        with files.telling_trouble(path, "written"):
            path.parent.mkdir(parents=True, exist_ok=True)
            with open(path, "ab+") as file:
                if file.tell():
                    file.seek(-1, os.SEEK_END)
                    if file.read(1) != b"\n":
                        _cut_last_line(file)
                file.write(json.dumps(message, ensure_ascii=False).encode() + b"\n")
                file.flush()
                os.fsync(file.fileno())

    def show(self, name: str, presence: Presence) -> Receipt:
        """Sets what a person shows."""
        path = self._path("presence", name, "json")
        with files.telling_trouble(path, "written"):
            path.parent.mkdir(parents=True, exist_ok=True)
        files.replace_file(path, json.dumps(presence.to_dict(), ensure_ascii=False).encode() + b"\n")
        return Receipt("", "")


def _cut_last_line(file: Any) -> None:
    """Takes away the piece of a line that was never finished."""
    file.seek(0)
    data = file.read()
    file.truncate(data.rfind(b"\n") + 1)
