"""The stand-in chat: a folder with rooms and people as JSON-lines files, so that nothing outside is needed.

rooms/NAME.jsonl and people/NAME.jsonl hold messages, one a line; presence/NAME.json what a person shows; sounds/ what
was dictated.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Chat, Dictation, Heard, Presence
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.people import People, Person
from whenvoca.engine.workspace.lock import alone_with
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo, WebInfo
from whenvoca.places import files

_NAME = re.compile(r"[\w.@+-]+")


class FolderChat(Chat):
    """A chat that is a folder. ``name_here`` is who the workspace is in it."""

    notes: tuple[str, ...] = ("a stand-in: rooms and people as files",)

    def __init__(
        self,
        name: str,
        folder: Path,
        address: str,
        zone: ZoneInfo,
        *,
        rooms: Sequence[str],
        people: People | None = None,
        name_here: str = "desk",
        dictation: Dictation | None = None,
        page: str = "",
    ) -> None:
        self.name, self.address, self.zone, self.rooms = name, address, zone, rooms
        self._people, self._dictation = people or People(), dictation
        self._folder, self.name_here, self.page = folder, name_here, page
        self._wake: Callable[[], None] | None = None

    # --- looking

    def info(self) -> PlaceInfo:
        web = WebInfo(path=self.page) if self.page else None
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, rooms=tuple(self.rooms), web=web)

    def holds(self) -> str:
        count = sum(1 for path in self._folder.glob("*/*.jsonl") for _ in self._lines(path))
        missing = "" if self._folder.exists() else ", made when it is written"
        return f"{len(self.rooms)} room{'s' * (len(self.rooms) != 1)}, {count} message{'s' * (count != 1)}{missing}"

    def messages(self, kind: str, name: str) -> list[dict[str, Any]]:
        """What was said in a room ("rooms") or with a person ("people"), in order.

        Raises SourceFault for a line that is no message.
        """
        return list(self._lines(self._path(kind, name, "jsonl")))

    def heard(self, cursor: str, at: datetime) -> tuple[list[Heard], str]:
        """What stands behind the offsets of the cursor, in the order of its moments; what we said ourselves, or `say`
        has answered, is left out. Raises PlaceTrouble where a line is no message."""
        known: dict[str, int] = json.loads(cursor) if cursor else {}
        found: list[Heard] = []
        for kind in ("rooms", "people"):
            for path in sorted((self._folder / kind).glob("*.jsonl")):
                name = f"{kind}/{path.stem}"
                found += self._heard_in(path, name, known)
        return sorted(found, key=lambda each: each.sent), json.dumps(known, sort_keys=True)

    def _heard_in(self, path: Path, name: str, known: dict[str, int]) -> list[Heard]:
        data = files.read_file(path)
        begin = known.get(name, 0)
        if begin > len(data):
            begin = 0  # another file: what was heard before is known by its key
        found, at = [], begin
        for line in data[begin:].splitlines(keepends=True):
            if not line.endswith(b"\n"):
                break  # still being written
            said = self._to_heard(line, name, at, path) if line.strip() else None
            if said is not None:
                found.append(said)
            at += len(line)
        known[name] = at
        return found

    def _to_heard(self, line: bytes, name: str, at: int, path: Path) -> Heard | None:
        try:
            message: dict[str, Any] = json.loads(line)
            sender = str(message["from"])
            if message.get("answered") or sender.lower() == self.name_here.lower():
                return None
            sent = datetime.fromisoformat(str(message["at"]))
            text, sound = str(message.get("text") or ""), str(message.get("sound") or "")
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            said = f"what stands at byte {at} is no message"
            raise PlaceTrouble(said, where=str(path), fix="take that line away") from error
        if sound:
            sound = str(self._folder / "sounds" / Path(sound).name)
            text = text or (self._dictation.transcribe(sound) if self._dictation is not None else "")
        person = self._people.find(sender)
        names = (person.name, person.mail, person.chat) if person is not None else (sender,)
        room = path.stem if path.parent.name == "rooms" else ""
        return Heard(
            f"{name} {message.get('id') or f'byte-{at}'}",
            person.name if person is not None else sender,
            room,
            text,
            sent if sent.tzinfo is not None else sent.replace(tzinfo=self.zone),
            sound,
            tuple(each for each in names if each),
        )

    def listen(self, wake: Callable[[], None]) -> None:
        """Its files tell; what is said on its page does so at once."""
        self._wake = wake

    def wake(self) -> None:
        """Something was said on its page."""
        if self._wake is not None:
            self._wake()

    def presence_of(self, person: Person) -> Presence:
        path = self._path("presence", person.chat or person.name, "json")
        if not path.exists():
            return Presence()
        try:
            return Presence.of(json.loads(files.read_file(path)))
        except (ValueError, AttributeError) as error:
            raise SourceFault("is no presence that can be read", where=str(path), fix="take the file away") from error

    def keep_showing(self, person: Person, presence: Presence) -> None:
        """It shows it still."""

    def close(self) -> None:
        """Nothing is kept open."""

    def _path(self, kind: str, name: str, ending: str) -> Path:
        if not _NAME.fullmatch(name) or name.startswith("."):
            raise RowFault(f'"{name}" is no name in a chat', fix="letters, digits, hyphens")
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
                fix = "take that line away"
                raise SourceFault(f"line {number} is no message", where=str(path), fix=fix) from error
            if isinstance(found, dict):
                yield found

    # --- writing

    def post(
        self, room: str, sender: str, text: str, at: datetime, *, answered: bool = False, number: str = ""
    ) -> None:
        """Somebody else says something in a room, or without one to us alone: on the page, and otherwise of the
        stand-in only, where there is nobody to type it. ``answered``: it is dealt with already, and no workflow hears
        it; ``number`` is the message's own, by which one that is sent twice is one."""
        kind, name = ("rooms", room) if room else ("people", sender)
        known = self.messages(kind, name)
        number = number or f"said-{len(known) + 1}"
        if any(each.get("id") == number for each in known):
            return
        said: dict[str, Any] = {"id": number, "from": sender, "to": room or self.name_here}
        said |= {"at": at.astimezone(self.zone).isoformat(), "text": text, **({"answered": True} if answered else {})}
        self.append(self._path(kind, name, "jsonl"), said)

    def size_of(self, name: str) -> int:
        """How much was said with a person, in bytes: it grows with each message."""
        path = self._path("people", name, "jsonl")
        return path.stat().st_size if path.exists() else 0

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return each_by_itself(effects, partial(self._apply_one, stamp))

    def _apply_one(self, stamp: datetime, effect: Effect) -> Receipt:
        if effect.action == "send":
            return self._send(effect, stamp)
        return self.show(str((effect.after or {}).get("chat") or effect.target), Presence.of(effect.after or {}))

    def _send(self, effect: Effect, stamp: datetime) -> Receipt:
        after = effect.after or {}
        room = str(after.get("room") or "")
        if room and room not in self.rooms:
            raise RowFault(f'{self.name} has no room "{room}"', fix=f"rooms: {', '.join(self.rooms) or 'none'}")
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
            with open(path, "ab+") as file, alone_with(file):
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


class PageChat(FolderChat):
    """A chat that is nothing but a page: the folder only keeps what was said on it."""

    notes = ()


def _cut_last_line(file: Any) -> None:
    """Takes away the piece of a line that was never finished."""
    file.seek(0)
    data = file.read()
    file.truncate(data.rfind(b"\n") + 1)
