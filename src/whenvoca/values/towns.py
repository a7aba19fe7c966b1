"""The town that an address line names, by rules that people can follow.

An address is split at its commas and line ends, and read from behind: a country, the short name of one or of a state,
and a postcode alone are passed over; of the first part that is left postcodes go, before and behind. The very first
part of several is the name of a place, never a town. A text of one part is a town by itself, such as "Port Town",
unless a number stands in it that is no postcode: "Room 12" has no town.
"""

from __future__ import annotations

import re
from functools import lru_cache

_SPLIT = re.compile(r"[,;\n]")
_SHORT = re.compile(r"[A-Z]{2,3}")  # of a state or a country
_COUNTRY_BEFORE = re.compile(r"[A-Z]{1,3}-(?=\d)")  # D-10115 Berlin
_CODE = re.compile(r"(?=\S*\d)[\w-]+")  # a word with a digit in it, as postcodes are
_NUMBER = re.compile(r"\d{1,3}")  # of a room or a house


def town_of(address: str) -> str:
    """The town, empty where none can be told."""
    parts = [" ".join(part.split()) for part in _SPLIT.split(address) if part.strip()]
    if len(parts) == 1 and any(_NUMBER.fullmatch(word) for word in parts[0].split()):
        return ""
    for number, part in enumerate(reversed(parts), 1):
        if part.casefold() in _countries() or (number == len(parts) > 1):
            continue
        words = _without_codes(_COUNTRY_BEFORE.sub("", part).split())
        while len(words) > 1 and _SHORT.fullmatch(words[-1]):
            words.pop()  # Springfield IL
        if words and not _SHORT.fullmatch(" ".join(words)):
            return " ".join(words)
    return ""


def _without_codes(words: list[str]) -> list[str]:
    """The words without a postcode before or behind them."""
    begun = len(words)
    while words and (_CODE.fullmatch(words[0]) or words[0] == "-"):
        words = words[1:]
    if len(words) < begun and len(words) > 1 and _SHORT.fullmatch(words[0]):
        words = words[1:]  # 1017 GA Amsterdam
    while words and (_CODE.fullmatch(words[-1]) or words[-1] == "-"):
        words = words[:-1]
    return words


@lru_cache(maxsize=1)
def _countries() -> frozenset[str]:
    """The names of the countries, in English and in their own languages."""
    from babel import Locale  # loaded only when an address is read

    english = Locale("en").territories
    names = {name.casefold() for code, name in english.items() if len(code) == 2}
    for language in _LANGUAGES:
        names |= {name.casefold() for code, name in Locale(language).territories.items() if len(code) == 2}
    return frozenset(names | {"uk", "usa", "u.s.a.", "england", "scotland", "wales"})


_LANGUAGES = ("pt", "es", "fr", "de", "it", "nl")
