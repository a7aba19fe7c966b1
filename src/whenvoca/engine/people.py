"""People: names that stand for an address, a name in the chat, and the zone that times are told in."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal
from zoneinfo import ZoneInfo

from msgspec import Struct, field


class BusyAt(Struct, frozen=True):
    """Where busy times are told: a file, an address on the web, a calendar of ours, or the server of one."""

    way: Literal["file", "web", "calendar", "server"]
    where: str


class Person(Struct, frozen=True):
    """One person of [people]."""

    name: str
    mail: str = ""
    chat: str = ""
    zone: ZoneInfo | None = None  # times told to them are told in it
    busy_at: BusyAt | None = None  # where it is told when they are busy
    password: Mapping[str, str] = field(default_factory=dict)  # a reference, where they let their presence be set


class People(Struct, frozen=True):
    """Everybody of [people], by lower-case name."""

    persons: Mapping[str, Person] = field(default_factory=dict)
    organizer: str = ""  # who invites

    def to_address(self, name: str) -> str:
        """The address of a person's name; what is no name is given back."""
        person = self.persons.get(name.strip().lower())
        return person.mail if person is not None and person.mail else name

    def find(self, name: str) -> Person | None:
        """The person of a name, an address or a name in the chat; None for anybody else."""
        wanted = name.strip().lower().removeprefix("mailto:")
        if wanted in self.persons:
            return self.persons[wanted]
        return next((each for each in self.persons.values() if wanted in (each.mail.lower(), each.chat.lower())), None)

    @property
    def by_mail(self) -> dict[str, str]:
        """The names by their email addresses in lower case."""
        return {each.mail.lower(): each.name for each in self.persons.values() if each.mail}

    @classmethod
    def of(cls, persons: Iterable[Person], organizer: str = "") -> People:
        """These people."""
        return cls({each.name.lower(): each for each in persons}, organizer)
