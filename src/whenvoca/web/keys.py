"""The secret from which all addresses and links of the door derive: .whenvoca/web.key, its owner's only."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import hmac
import os
import secrets
from pathlib import Path

from whenvoca.errors import PlaceTrouble

FILE = "web.key"
_LENGTH = 26  # signs of a token: 130 bits


class WebKey:
    """Makes words that nobody can guess, the same each time for the same things."""

    def __init__(self, key: bytes) -> None:
        self._key = key

    def token(self, *about: str) -> str:
        """The word for these things: small letters and digits."""
        digest = hmac.new(self._key, "\0".join(about).encode(), hashlib.sha256).digest()
        return base64.b32encode(digest).decode().lower()[:_LENGTH]

    def is_token(self, given: str, *about: str) -> bool:
        """Whether that is the word for these things, compared in constant time."""
        return hmac.compare_digest(given.encode("utf-8", "replace"), self.token(*about).encode())


def load_key(folder: Path) -> WebKey:
    """The key of a workspace's state folder, made where there is none. Raises PlaceTrouble."""
    path = folder / FILE
    try:
        if not path.exists():
            _make(path)
        key = bytes.fromhex(path.read_text(encoding="ascii").strip())
    except (OSError, ValueError) as error:
        said = getattr(error, "strerror", None) or "it does not hold a key"
        raise PlaceTrouble(f"the secret of the web cannot be read: {said}", where=str(path)) from error
    return WebKey(key)


def _make(path: Path) -> None:
    """Written whole under another name first: a key is never seen in parts."""
    temporary = path.with_name(f".{path.name}.{secrets.token_hex(4)}.tmp")
    descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w", encoding="ascii") as file:
        file.write(secrets.token_hex(32) + "\n")
        file.flush()
        os.fsync(file.fileno())
    with contextlib.suppress(FileExistsError):
        os.link(temporary, path)
    temporary.unlink()
