"""The stand-in outbox: emails as .eml files in a folder, so that nothing outside is needed."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Outbox
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.errors import WhenvocaError
from whenvoca.places import files
from whenvoca.places.mail.compose import compose_email, email_identity


class FolderOutbox(Outbox):
    """An outbox that is a folder; an email is a file named for its Message-ID: sent again it is the same file."""

    notes = ("a stand-in: emails as files",)

    def __init__(self, name: str, folder: Path, address: str, zone: ZoneInfo, sender: str) -> None:
        self.name, self.address, self.zone, self.sender = name, address, zone, sender
        self._folder = folder

    def holds(self) -> str:
        count = len(list(self._folder.glob("*.eml"))) if self._folder.is_dir() else 0
        missing = "" if self._folder.exists() else ", made when it is written"
        return f"{count} email{'s' * (count != 1)}{missing}"

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Writes each email as a file."""
        return each_by_itself(effects, partial(self._send, stamp))

    def _send(self, stamp: datetime, effect: Effect) -> Receipt:
        data = compose_email(effect, self.sender, stamp.astimezone(self.zone)).as_bytes()
        path = self._folder / f"{email_identity(effect)}.eml"
        with files.telling_trouble(self._folder, "made"):
            self._folder.mkdir(parents=True, exist_ok=True)
        if not path.exists():
            files.replace_file(path, data)
        return Receipt("", path.absolute().as_uri())


class RehearsedOutbox(Outbox):
    """An outbox that sends nothing; what could not be sent is told all the same."""

    def __init__(self, real: Outbox) -> None:
        self._real = real
        self.name, self.address, self.zone, self.sender = real.name, real.address, real.zone, real.sender

    def holds(self) -> str:
        return self._real.holds()

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Puts each email into words, and leaves it at that."""
        return each_by_itself(effects, partial(self._compose, stamp))

    def _compose(self, stamp: datetime, effect: Effect) -> Receipt:
        compose_email(effect, self.sender, stamp)
        return Receipt()
