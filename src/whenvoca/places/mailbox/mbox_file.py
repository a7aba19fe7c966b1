"""A mailbox that is one file of emails (mbox, RFC 4155). It is only read: the program that keeps it writes it."""

from __future__ import annotations

import mailbox
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.mail_protocols import Mailbox, MailboxLook, NewEmail
from whenvoca.engine.place_protocols import Resource
from whenvoca.errors import RowFault, WhenvocaError
from whenvoca.places import files
from whenvoca.places.mailbox.email_reader import EmailReader, attached_part

_AT_ONCE = 200


class MboxFile(Mailbox):
    """Emails in one file, told apart by their keys: where one begins moves with each that goes."""

    def __init__(self, name: str, file: Path, address: str, zone: ZoneInfo, reader: EmailReader) -> None:
        self.name, self.address, self.zone = name, address, zone
        self.after = self.done = ""
        self._file, self.reader = file, reader

    def holds(self) -> str:
        count = sum(1 for _ in self._emails())
        return f"{count} email{'s' * (count != 1)}"

    def _emails(self) -> Iterator[bytes]:
        if not self._file.exists():
            return
        with files.telling_trouble(self._file, "read"):
            box = mailbox.mbox(self._file, create=False)
            try:
                for key in box.iterkeys():
                    yield box.get_bytes(key)
            finally:
                box.close()

    def look(self, known: Callable[[], Mapping[str, Resource]], cursor: str) -> MailboxLook:
        stamp = _stamp(self._file)
        look = MailboxLook(stamp)
        if cursor == stamp:
            return look
        before, is_first = known(), not cursor
        for data in self._emails():
            key = self.reader.key_of(data)
            if key in before or key in look.fresh:
                continue
            if len(look.fresh) >= _AT_ONCE and not is_first:
                look.cursor, look.is_partial = cursor, True
                return look
            if told := self.reader.too_large(len(data), self.name):
                look.faults += [] if is_first else [told]
                look.fresh[key] = NewEmail(key, None)
            elif is_first:
                look.fresh[key] = self.reader.brief(data, "")
            else:
                look.fresh[key], told_of = self.reader.whole(data, "", self.name)
                look.faults += told_of
        return look

    def read(self, key: str, name: str) -> Mapping[str, Any] | None:
        data = self._find(key)
        return None if data is None else self.reader.whole(data, "", self.name)[0].state

    def raw(self, key: str, name: str) -> bytes:
        data = self._find(key)
        if data is None:
            raise RowFault("the email is no longer there", where=self.name)
        return data

    def _find(self, key: str) -> bytes | None:
        return next((data for data in self._emails() if self.reader.key_of(data) == key), None)

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return [RowFault("a file of emails is only read", where=self.name, fix="name a folder") for _ in effects]

    def part(self, email: bytes, number: int) -> bytes:
        return attached_part(email, number)

    def listen(self, wake: Callable[[], None]) -> None:
        """Its file tells."""

    def close(self) -> None:
        """Nothing is open."""


def _stamp(file: Path) -> str:
    if not file.exists():
        return "none"
    found = file.stat()
    return f"{found.st_size}-{found.st_mtime_ns}"
