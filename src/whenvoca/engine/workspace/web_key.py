"""The secret from which all addresses and links of the door derive: .whenvoca/web.key, its owner's only."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import hmac
import os
import secrets
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import quote

from whenvoca.errors import PlaceTrouble

FILE = "web.key"
_LENGTH = 26  # signs of a token: 130 bits
_TURN = "turn"  # begins a line that tells how often a place was given a new address


class WebKey:
    """Makes words that nobody can guess, the same each time for the same things. ``turns``: how often a place was given
    a new address."""

    def __init__(self, key: bytes, turns: Mapping[str, int] | None = None) -> None:
        self._key, self.turns = key, dict(turns or {})
        self._hooks: dict[str, str] = {}

    def token(self, *about: str) -> str:
        """The word for these things: small letters and digits."""
        digest = hmac.new(self._key, "\0".join(about).encode(), hashlib.sha256).digest()
        return base64.b32encode(digest).decode().lower()[:_LENGTH]

    def of_hook(self, name: str) -> str:
        """The word in the address of a hook."""
        if name.lower() not in self._hooks:
            turn = self.turns.get(name.lower(), 0)
            self._hooks[name.lower()] = self.token("hook", name.lower(), *([str(turn)] if turn else []))
        return self._hooks[name.lower()]

    def is_of_hook(self, given: str, name: str) -> bool:
        """Whether that is the word in the address of a hook, compared in constant time."""
        return _is_same(given, self.of_hook(name))

    def of_person(self, purpose: str, place: str, person: str) -> str:
        """The word in the personal link of somebody: to a page of a place, or to the board."""
        turn = self.turns.get(name_of_person(place, person), 0)
        return self.token(purpose, place.lower(), person.lower(), str(turn))

    def is_of_person(self, given: str, purpose: str, place: str, person: str) -> bool:
        """Whether that is the word, compared in constant time."""
        return _is_same(given, self.of_person(purpose, place, person))

    def is_token(self, given: str, *about: str) -> bool:
        """Whether that is the word for these things, compared in constant time."""
        return _is_same(given, self.token(*about))

    def to_text(self) -> str:
        """As the file holds it."""
        lines = [self._key.hex(), *(f"{_TURN} {name} {count}" for name, count in sorted(self.turns.items()))]
        return "\n".join(lines) + "\n"


def name_of_person(place: str, person: str) -> str:
    """By which the turns of somebody's personal link are counted."""
    return quote(f"{place}/{person}".lower())


def _is_same(given: str, wanted: str) -> bool:
    return hmac.compare_digest(given.encode("utf-8", "replace"), wanted.encode())


class KeyFile:
    """The key of a workspace, read again when its file has changed."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE
        self._stamp = -1
        self._key = self.read()

    def read(self) -> WebKey:
        """The key as it is now. Raises PlaceTrouble where it cannot be read."""
        try:
            stamp = self._path.stat().st_mtime_ns
        except OSError:
            stamp = 0
        if stamp != self._stamp:
            self._key = load_key(self._path.parent)
            self._stamp = self._path.stat().st_mtime_ns
        return self._key


def load_key(folder: Path) -> WebKey:
    """The key of a workspace's state folder, made where there is none. Raises PlaceTrouble."""
    path = folder / FILE
    try:
        if not path.exists():
            _write(path, WebKey(secrets.token_bytes(32)), is_new=True)
        first, *lines = path.read_text(encoding="ascii").splitlines()
        words = [line.split() for line in lines if line.strip()]
        return WebKey(bytes.fromhex(first), {name: int(count) for _, name, count in words})
    except (OSError, ValueError) as error:
        said = getattr(error, "strerror", None) or "it does not hold a key"
        raise PlaceTrouble(f"the secret of the web cannot be read: {said}", where=str(path)) from error


def renew_address(folder: Path, name: str) -> None:
    """Gives a hook, or a person by PLACE/PERSON, another address; the one before leads nowhere. Raises PlaceTrouble."""
    key = load_key(folder)
    key.turns[name.lower()] = key.turns.get(name.lower(), 0) + 1
    try:
        _write(folder / FILE, key, is_new=False)
    except OSError as error:
        raise PlaceTrouble(
            f"the secret of the web cannot be written: {error.strerror}", where=str(folder / FILE)
        ) from error


def _write(path: Path, key: WebKey, *, is_new: bool) -> None:
    """Written whole under another name first: a key is never seen in parts."""
    temporary = path.with_name(f".{path.name}.{secrets.token_hex(4)}.tmp")
    descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w", encoding="ascii") as file:
        file.write(key.to_text())
        file.flush()
        os.fsync(file.fileno())
    if not is_new:
        os.replace(temporary, path)
        return
    with contextlib.suppress(FileExistsError):  # another process was quicker: its key counts
        os.link(temporary, path)
    temporary.unlink()
