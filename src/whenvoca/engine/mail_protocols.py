"""The protocol of mailboxes: emails that came in."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol

from msgspec import Struct, field

from whenvoca.engine.place_protocols import Place, Resource, Writer


class NewEmail(Struct, frozen=True):
    """An email that a mailbox has not shown before. ``key`` is its Message-ID, else what stands for it; ``state`` is
    what it says, None for one that cannot be read or is too large; ``stamp`` changes when a file holds another one."""

    key: str
    state: Mapping[str, Any] | None
    stamp: str = ""


class Enclosure(Struct, frozen=True):
    """What goes with an email that is sent. ``kind`` is its media type, empty where its name tells it."""

    name: str
    kind: str
    data: bytes


class MailboxLook(Struct):
    """What a look at a mailbox brought, by the names that the mailbox has for its emails."""

    cursor: str
    fresh: dict[str, NewEmail] = field(default_factory=dict)
    faults: list[str] = field(default_factory=list)
    is_partial: bool = False  # there is more: to be looked at again when this much has been noted


class Mailbox(Place, Writer, Protocol):
    """A mailbox. ``after`` is what is done with an email whose run is done: "" (it stays as it is), "flag", or "move",
    then into the folder ``done``."""

    kind: str = "mailbox"
    after: str
    done: str

    def look(self, known: Callable[[], Mapping[str, Resource]], cursor: str) -> MailboxLook:
        """What came since the look that gave ``cursor``, which is empty at first: then what is there is told in brief.

        ``known`` gives what was seen so far, by name. Raises PlaceTrouble.
        """

    def read(self, key: str, name: str) -> Mapping[str, Any] | None:
        """All that an email says that was told in brief; None where it is gone. Raises PlaceTrouble."""

    def raw(self, key: str, name: str) -> bytes:
        """The email as it came. Raises RowFault where it is gone, PlaceTrouble."""

    def part(self, email: bytes, number: int) -> bytes:
        """What is attached to an email, by its number there. Raises RowFault where there is none of that number."""

    def listen(self, wake: Callable[[], None]) -> None:
        """From now on ``wake`` is called, from another thread, when an email comes in and the mailbox says so."""

    def close(self) -> None:
        """Ends what connections there are."""
