"""A chat in which is rehearsed: nothing is sent, and presence only remembered."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.faces import ChatFace, PlaceReport, Presence
from whenvoca.engine.people import Person
from whenvoca.errors import WhenvocaError
from whenvoca.language.definitions import PlaceInfo


class RehearsedChat:
    """What people would show; the chat itself is not joined."""

    def __init__(self, real: ChatFace) -> None:
        self._real = real
        self.name, self.zone, self.rooms = real.name, real.zone, real.rooms
        self._shown: dict[str, Presence] = {}

    def describe(self) -> PlaceReport:
        """The real one."""
        return self._real.describe()

    def info(self) -> PlaceInfo:
        """What the checker needs."""
        return self._real.info()

    def presence_of(self, person: Person) -> Presence:
        """What the person would show."""
        return self._shown.get(person.name.lower()) or self._real.presence_of(person)

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Remembers what would be shown."""
        for effect in effects:
            if effect.verb != "send message":
                self._shown[effect.target] = Presence.of(effect.after or {})
        return [Receipt() for _ in effects]

    def keep_showing(self, person: Person, presence: Presence) -> None:
        """It shows it still."""

    def close(self) -> None:
        """Nothing is open."""
