"""The protocols of places that tell and hear: chats and outboxes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import Any, Protocol

from msgspec import Struct

from whenvoca.engine.people import Person
from whenvoca.engine.place_protocols import Place, Writer
from whenvoca.language.definitions import PlaceInfo


class Presence(Struct, frozen=True):
    """What a person shows to others (RFC 6121 4.7.2): free, away, dnd or xa, and words."""

    show: str = "free"
    status: str = ""
    symbol: str = ""

    def to_dict(self) -> dict[str, str]:
        """As plain data."""
        return {"show": self.show, "status": self.status, "symbol": self.symbol}

    @classmethod
    def of(cls, data: Mapping[str, Any]) -> Presence:
        """Of plain data."""
        return cls(str(data.get("show") or "free"), str(data.get("status") or ""), str(data.get("symbol") or ""))


class Heard(Struct, frozen=True):
    """A message that somebody else said: in a room, or to us alone where ``room`` is empty. ``sender`` is their name of
    [people], else their address, empty where the room hides it; ``names`` is all that they go by. ``corrects`` is the
    ``number`` of an earlier message of theirs, where this one stands instead of it."""

    key: str  # what makes it the same message
    sender: str
    room: str
    text: str
    sent: datetime
    sound: str = ""  # the file or address of what was dictated
    names: tuple[str, ...] = ()
    number: str = ""  # given by the sender's program
    corrects: str = ""


class Dictation(Protocol):
    """What hears what was said in a sound."""

    def transcribe(self, sound: str) -> str:
        """The words in a sound, empty where none can be made out."""


class Chat(Place, Writer, Protocol):
    """A chat: rooms, people, and what they show."""

    kind: str = "chat"
    rooms: Sequence[str]  # that may be written to
    unheard: Sequence[str] = ()  # why rooms are not heard, as of the last time

    def info(self) -> PlaceInfo:
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, rooms=tuple(self.rooms))

    def heard(self, cursor: str, at: datetime) -> tuple[list[Heard], str]:
        """What others said up to ``at`` since ``cursor`` (empty at first), and the next cursor. Raises PlaceTrouble."""

    def listen(self, wake: Callable[[], None]) -> None:
        """From now on ``wake`` is called, from another thread, when something is said and the chat tells by itself."""

    def presence_of(self, person: Person) -> Presence:
        """What the person shows now. Raises PlaceTrouble."""

    def keep_showing(self, person: Person, presence: Presence) -> None:
        """Shows again what a claim says, where that ended with the program. Raises PlaceTrouble or RowFault."""

    def stop_showing(self, person: Person) -> None:
        """Shows nothing of ours any more, where the person has changed it by hand. Raises PlaceTrouble."""
        return

    def close(self) -> None:
        """Ends what connections there are."""


class Outbox(Place, Writer, Protocol):
    """Where emails go out."""

    kind: str = "outbox"
    sender: str
