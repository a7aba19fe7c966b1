"""Email addresses: one check for all fields, and lists of them as texts."""

from __future__ import annotations

import re
from collections.abc import Container
from functools import lru_cache

from whenvoca.values.blanks import squeeze_blanks
from whenvoca.values.dates import Shaped

_ATOM, _LABEL = r"[\w!#$%&'*+/=?^`{|}~-]+", r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?"
_ADDRESS = re.compile(rf"(?=.{{1,64}}@){_ATOM}(?:\.{_ATOM})*@(?:{_LABEL}\.)+{_LABEL}\Z", re.ASCII)  # RFC 5321 4.1.2
_NAMED = re.compile(r'(?:"[^"]*"\s*|[^<>",;\n]*)<[^<>]*>|[^,;\n]+')
_LONGEST = 254  # RFC 5321 4.5.3.1.3, without the angle brackets


@lru_cache(maxsize=4096)
def to_address(text: str) -> str:
    """The address as it goes out: a domain with other letters in its ASCII form (IDNA, RFC 5891). Empty where the text
    is not one email address; only its form is checked."""
    name, at, domain = text.rpartition("@")
    if at and not domain.isascii():
        import idna

        try:
            text = f"{name}@{idna.encode(domain, uts46=True).decode()}"
        except idna.IDNAError:
            return ""
    return text if _ADDRESS.match(text) and len(text) <= _LONGEST else ""


def is_address(text: str) -> bool:
    """Whether the text is one email address (its form only)."""
    return bool(to_address(text))


def split_addresses(text: str) -> list[str]:
    """The pieces of a list parted by commas, semicolons or line breaks; names in <…> form reduced to the address."""
    return list(_split_addresses(text))


@lru_cache(maxsize=4096)
def _split_addresses(text: str) -> tuple[str, ...]:
    pieces = []
    for piece in _NAMED.findall(text):
        bare = squeeze_blanks(piece)
        if "<" in bare:
            from email.utils import parseaddr

            bare = parseaddr(bare)[1] or bare
        bare = bare.removeprefix("mailto:")
        if bare:
            pieces.append(bare)
    return tuple(pieces)


def shape_addresses(text: str, names: Container[str] = ()) -> Shaped | None:
    """A list of email addresses, or None if no @ is in the text. ``names`` may stand in it too, in lower case."""
    pieces = split_addresses(text) if "@" in text or names else []
    if "@" not in text:
        return Shaped({"": pieces}) if pieces and all(piece.lower() in names for piece in pieces) else None
    wrong = [piece for piece in pieces if not is_address(piece) and piece.lower() not in names]
    if wrong and len(wrong) == len(pieces) and not any(" " not in piece and "@" in piece for piece in wrong):
        return None
    if wrong:
        return Shaped(fault=f'"{wrong[0]}" is not an email address')
    return Shaped({"": pieces})
