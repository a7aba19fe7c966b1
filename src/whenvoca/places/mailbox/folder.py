"""A mailbox that is a folder: of .eml files, or a Maildir."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.mail_protocols import Mailbox, MailboxLook, NewEmail
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.place_protocols import Resource
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.places import files
from whenvoca.places.mailbox.email_reader import EmailReader, attached_part
from whenvoca.values.zones import first_moment

_AT_ONCE = 200  # emails that are read before what they say is noted
_BRIEFLY = 2000  # the same at the first look
_LONGEST_HEAD = 200_000  # bytes
_UNSAFE = re.compile(r"[^\w.@+=-]+")
LOOKED = "looked"


class FolderMailbox(Mailbox):
    """Emails as files. ``done`` is the folder beside them into which those go whose run is done; ``since``: what was
    sent before that day is none of ours."""

    def __init__(
        self,
        name: str,
        folder: Path,
        address: str,
        zone: ZoneInfo,
        reader: EmailReader,
        clock: Clock,
        *,
        after: str = "",
        done: str = "",
        since: datetime | None = None,
    ) -> None:
        self.name, self.address, self.zone = name, address, zone
        self.after, self.done = after, done
        self._folder, self.reader, self._clock, self._since = folder, reader, clock, since

    @property
    def is_maildir(self) -> bool:
        """Whether the folder is a Maildir, in which each email has a name of its own for ever."""
        return (self._folder / "cur").is_dir() and (self._folder / "new").is_dir()

    def holds(self) -> str:
        count = sum(1 for _ in self._entries())
        missing = "" if self._folder.exists() else ", made when it is written"
        return f"{count} email{'s' * (count != 1)}{missing}"

    # --- looking

    def _entries(self, folder: Path | None = None) -> Iterator[tuple[str, Path]]:
        """The emails of a folder, by the names that stay theirs."""
        folder = folder or self._folder
        subs = [folder / "new", folder / "cur"] if (folder / "cur").is_dir() else [folder]
        for sub in subs:
            with files.telling_trouble(sub, "read"):
                if not sub.is_dir():
                    continue
                found = sorted(entry.name for entry in os.scandir(sub) if not entry.name.startswith("."))
            for each in found:
                if len(subs) == 2:
                    yield each.partition(":")[0], sub / each
                elif each.lower().endswith(".eml"):
                    yield each, sub / each

    def look(self, known: Callable[[], Mapping[str, Resource]], cursor: str) -> MailboxLook:
        is_first, before = cursor != LOOKED, known()
        look = MailboxLook(LOOKED)
        for name, path in self._entries():
            stamp = "" if self.is_maildir else _stamp(path)
            if name in before and before[name].version == stamp:
                continue
            if len(look.fresh) >= (_BRIEFLY if is_first else _AT_ONCE):
                look.cursor, look.is_partial = cursor, True
                return look
            look.fresh[name] = self._take(name, path, stamp, look.faults, is_first=is_first)
        return look

    def _take(self, name: str, path: Path, stamp: str, faults: list[str], *, is_first: bool) -> NewEmail:
        where = f"{self.name}, {name}"
        try:
            if not self.is_maildir:
                files.wait_settled(path, lambda: self._clock.now().timestamp(), self._clock.wait)
                stamp = _stamp(path)
            size = path.stat().st_size
            if told := self.reader.too_large(size, where):
                if not is_first:
                    faults.append(told)
                return NewEmail(self.reader.key_of(_begin_of(path)), None, stamp)
            if is_first:
                return self._within(self.reader.brief(_begin_of(path), "", stamp))
            found, told_of = self.reader.whole(files.read_file(path), "", where, stamp)
        except (OSError, PlaceTrouble, SourceFault) as error:
            faults.append(f"{where}: cannot be read: {getattr(error, 'message', error)}")
            return NewEmail(f"unread {name} {stamp}", None, stamp)
        faults += told_of
        return self._within(found)

    def _within(self, found: NewEmail) -> NewEmail:
        """Without what it says, where it was sent before the day from which on emails count."""
        sent = (found.state or {}).get("sent")
        is_before = self._since is not None and sent is not None and sent < self._since
        return NewEmail(found.key, None, found.stamp) if is_before else found

    def read(self, key: str, name: str) -> Mapping[str, Any] | None:
        path = self._find(key, name)
        if path is None or self.reader.too_large(path.stat().st_size, self.name):
            return None
        return self.reader.whole(files.read_file(path), "", self.name)[0].state

    def raw(self, key: str, name: str) -> bytes:
        path = self._find(key, name)
        if path is None:
            raise RowFault("the email is no longer there", where=self.name, fix="put it back, then: whenvoca retry")
        return files.read_file(path)

    def _find(self, key: str, name: str) -> Path | None:
        """Where the email lies now: as it was called, or called otherwise, or where those go that are done."""
        folders = [self._folder, *([self._beside(self.done)] if self.done else [])]
        named = [path for folder in folders for each, path in self._entries(folder) if each == name]
        others = (path for folder in folders for each, path in self._entries(folder) if each != name)
        for path in (*named, *others):
            if self.reader.key_of(_begin_of(path)) == key:
                return path
        return None

    def _beside(self, folder: str) -> Path:
        """A folder of that name: below this one, in a Maildir as Maildir++ has it."""
        return self._folder / (f".{folder.replace('/', '.')}" if self.is_maildir else folder)

    # --- writing

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return each_by_itself(effects, partial(self._apply_one, stamp))

    def _apply_one(self, stamp: datetime, effect: Effect) -> Receipt:
        after, key = effect.after or {}, effect.target
        match effect.action:
            case "put":
                return self._put(key, effect.stored)
            case "take":
                path = self._find(key, effect.version)
                if path is not None:
                    with files.telling_trouble(path, "taken away"):
                        path.unlink(missing_ok=True)
                return Receipt()
        path = self._find(key, effect.version)
        if path is None:
            raise RowFault("the email is no longer there", where=self.name)
        if "flagged" in after:
            self._flag(path, is_flagged=bool(after["flagged"]))
        else:
            target = self._beside(str(after["folder"])) if after["folder"] else self._folder
            self._move(path, target)
        return Receipt()

    def _put(self, key: str, data: bytes) -> Receipt:
        """Keeps an email that comes from another mailbox, once."""
        if self._find(key, "") is None:
            folder = self._folder / "new" if self.is_maildir else self._folder
            with files.telling_trouble(folder, "made"):
                folder.mkdir(parents=True, exist_ok=True)
            files.replace_file(folder / f"{_UNSAFE.sub('_', key)[:100]}{'' if self.is_maildir else '.eml'}", data)
        return Receipt()

    def _move(self, path: Path, target: Path) -> None:
        folder = target / "cur" if self.is_maildir else target
        if path.parent == folder or (self.is_maildir and path.parent.parent == target):
            return
        name = path.name if not self.is_maildir or ":" in path.name else f"{path.name}:2,"
        with files.telling_trouble(folder, "made"):
            for each in ("cur", "new", "tmp") if self.is_maildir else ("",):
                (target / each).mkdir(parents=True, exist_ok=True)
            free = folder / name
            number = 1
            while free.exists():  # another email of that name is there already
                number += 1
                free = folder / f"{path.stem}-{number}{path.suffix}"
            os.rename(path, free)
        files.sync_folder(folder)

    def _flag(self, path: Path, *, is_flagged: bool) -> None:
        """The flag F in the name, as Maildir has it; it moves from new to cur with that."""
        name, _, flags = path.name.partition(":2,")
        letters = sorted({*flags, "F"} if is_flagged else {*flags} - {"F"})
        with files.telling_trouble(path, "renamed"):
            os.rename(path, self._folder / "cur" / f"{name}:2,{''.join(letters)}")

    def part(self, email: bytes, number: int) -> bytes:
        return attached_part(email, number)

    def listen(self, wake: Callable[[], None]) -> None:
        """Its files tell."""

    def close(self) -> None:
        """Nothing is open."""


def day_as_moment(day: Any, zone: ZoneInfo) -> datetime | None:
    """The first moment of a day, None without one."""
    return None if day is None else first_moment(day, zone)


def _stamp(path: Path) -> str:
    try:
        found = path.stat()
    except OSError:
        return ""
    return f"{found.st_size}-{found.st_mtime_ns}-{found.st_ctime_ns}"


def _begin_of(path: Path) -> bytes:
    """The head of an email, and some more."""
    with files.telling_trouble(path, "read"), open(path, "rb") as file:
        return file.read(_LONGEST_HEAD)
