"""Stray blanks: what spreadsheets, web pages and mail programs put around and inside a value."""

from __future__ import annotations

import re
import unicodedata

_INVISIBLE = dict.fromkeys([0x00AD, 0x200B, 0x200C, 0x200D, 0x200E, 0x200F, 0x2060, 0xFEFF])
_DASHES = dict.fromkeys([0x2010, 0x2011, 0x2012, 0x2013, 0x2014, 0x2212], "-")
_PLAIN = re.compile(r"[!-~]+(?: [!-~]+)*\Z")


def squeeze_blanks(text: str) -> str:
    """The text with invisible characters gone, every kind of blank one plain blank, none at the ends."""
    if _PLAIN.match(text):
        return text
    return " ".join(text.translate(_INVISIBLE).split())


def is_blank(text: str) -> bool:
    """Whether nothing but blanks, of whatever kind, stands in the text."""
    if text and "!" <= text[0] <= "~":
        return False
    return not text.translate(_INVISIBLE).strip()


def plain_signs(text: str) -> str:
    """The text as digits and signs are read: wide digits made narrow, dashes of all kinds one hyphen."""
    if text.isascii():
        return squeeze_blanks(text)
    return squeeze_blanks(unicodedata.normalize("NFKC", text.translate(_INVISIBLE)).translate(_DASHES))
