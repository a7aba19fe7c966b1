"""A mailbox in which is rehearsed: it is looked at, and nothing in it is flagged or moved."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.mail_protocols import Mailbox, MailboxLook
from whenvoca.engine.place_protocols import Resource
from whenvoca.errors import RequestFault, WhenvocaError
from whenvoca.places import files
from whenvoca.places.mailbox.email_reader import attached_part

_SAMPLE = "sample"


class RehearsedMailbox(Mailbox):
    """The same emails, or the one of a file that stands for them."""

    def __init__(self, real: Any, sample: Path | None = None) -> None:
        self._real, self._sample = real, sample
        self.name, self.address, self.zone = real.name, real.address, real.zone
        self.after, self.done = real.after, real.done

    def holds(self) -> str:
        return str(self._real.holds())

    def look(self, known: Callable[[], Mapping[str, Resource]], cursor: str) -> MailboxLook:
        if self._sample is None:
            found: MailboxLook = self._real.look(known, cursor)
            return found
        look = MailboxLook(_SAMPLE)
        if cursor != _SAMPLE:
            fresh, look.faults = self._real.reader.whole(files.read_file(self._sample), "", str(self._sample))
            if fresh.state is None:
                raise RequestFault("it is no email", where=str(self._sample), fix="an .eml, as mail programs save it")
            look.fresh[_SAMPLE] = fresh
        return look

    def read(self, key: str, name: str) -> Mapping[str, Any] | None:
        found: Mapping[str, Any] | None = self._real.read(key, name)
        return found

    def raw(self, key: str, name: str) -> bytes:
        if self._sample is not None:
            return files.read_file(self._sample)
        return bytes(self._real.raw(key, name))

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Leaves each email where it is."""
        return [Receipt() for _ in effects]

    def part(self, email: bytes, number: int) -> bytes:
        return attached_part(email, number)

    def listen(self, wake: Callable[[], None]) -> None:
        """Nobody waits for it."""

    def close(self) -> None:
        """Nothing is open."""
