"""A chat in which is rehearsed: nothing is sent, and presence only remembered."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Chat, Heard, Presence
from whenvoca.engine.people import Person
from whenvoca.errors import RequestFault, WhenvocaError
from whenvoca.places import files
from whenvoca.places.chat.folder import FolderChat


class RehearsedChat(Chat):
    """What people would show; a server is not joined. ``sample``: a file of messages that stand for what is said."""

    def __init__(self, real: Chat, sample: Path | None = None) -> None:
        self._real, self._sample = real, sample
        self.name, self.address, self.zone, self.rooms = real.name, real.address, real.zone, real.rooms
        self._shown: dict[str, Presence] = {}

    def holds(self) -> str:
        return self._real.holds()

    def heard(self, cursor: str, at: datetime) -> tuple[list[Heard], str]:
        """What the stand-in holds, or the sample; a chat on a server is not joined for it."""
        if self._sample is not None:
            return (self._of_sample(self._sample, at), "sample") if cursor != "sample" else ([], cursor)
        return self._real.heard(cursor, at) if isinstance(self._real, FolderChat) else ([], cursor)

    def _of_sample(self, sample: Path, now: datetime) -> list[Heard]:
        """One message a line, or one alone, as JSON with from, text, and room and at where they matter."""
        lines = files.read_file(sample).decode("utf-8-sig", "replace").splitlines()
        found = []
        for number, line in enumerate(lines, 1):
            if not line.strip():
                continue
            try:
                message = json.loads(line)
                sender, text = str(message["from"]), str(message["text"])
                sent = datetime.fromisoformat(str(message["at"])) if "at" in message else now
            except (ValueError, KeyError, TypeError) as error:
                fix = 'such as {"from": "ines", "text": "am I free tomorrow?"}, one a line'
                raise RequestFault(f"line {number} is no message", where=str(sample), fix=fix) from error
            room = str(message.get("room") or "")
            sent = sent if sent.tzinfo is not None else sent.replace(tzinfo=self.zone)
            found.append(Heard(f"sample {number}", sender, room, text, sent, names=(sender,)))
        return found

    def listen(self, wake: Callable[[], None]) -> None:
        """Its files tell."""

    def presence_of(self, person: Person) -> Presence:
        return self._shown.get(person.name.lower()) or self._real.presence_of(person)

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Remembers what would be shown."""
        for effect in effects:
            if effect.action != "send":
                self._shown[effect.target] = Presence.of(effect.after or {})
        return [Receipt() for _ in effects]

    def keep_showing(self, person: Person, presence: Presence) -> None:
        """It shows it still."""

    def close(self) -> None:
        """Nothing is open."""
