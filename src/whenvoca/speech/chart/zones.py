"""Zones that a text names beside its times: 3 pm London time, 15:00 UTC, 14:00 (Europe/Berlin)."""

from __future__ import annotations

import re
from functools import lru_cache
from zoneinfo import available_timezones

from msgspec import Struct

from whenvoca.speech.chart.piece import Piece
from whenvoca.speech.chart.tokens import Text

_SHORT = {
    "utc": "UTC", "gmt": "UTC", "bst": "Europe/London",
    "cet": "Europe/Brussels", "cest": "Europe/Brussels", "eet": "Europe/Athens", "eest": "Europe/Athens",
    "est": "America/New_York", "edt": "America/New_York", "cdt": "America/Chicago", "mdt": "America/Denver",
    "pst": "America/Los_Angeles", "pdt": "America/Los_Angeles", "jst": "Asia/Tokyo", "sgt": "Asia/Singapore",
    "hkt": "Asia/Hong_Kong", "aest": "Australia/Sydney", "aedt": "Australia/Sydney", "nzst": "Pacific/Auckland",
    "nzdt": "Pacific/Auckland", "sast": "Africa/Johannesburg",
}  # fmt: skip
_SEVERAL = {  # who has it, and how to say which
    "ist": ("India, Israel and Ireland", "Delhi time"),
    "cst": ("the middle of America and of China", "Chicago time"),
}
_SPOKEN = {
    "uk": "Europe/London", "british": "Europe/London", "irish": "Europe/Dublin", "german": "Europe/Berlin",
    "french": "Europe/Paris", "central european": "Europe/Brussels", "eastern": "America/New_York",
    "us eastern": "America/New_York", "boston": "America/New_York", "washington": "America/New_York",
    "central": "America/Chicago", "us central": "America/Chicago", "mountain": "America/Denver",
    "alaska": "America/Anchorage", "hawaii": "Pacific/Honolulu", "atlantic": "America/Halifax",
    "newfoundland": "America/St_Johns",
    "pacific": "America/Los_Angeles", "us pacific": "America/Los_Angeles", "san francisco": "America/Los_Angeles",
    "seattle": "America/Los_Angeles", "indian": "Asia/Kolkata", "india": "Asia/Kolkata", "delhi": "Asia/Kolkata",
    "mumbai": "Asia/Kolkata", "japan": "Asia/Tokyo", "japanese": "Asia/Tokyo", "beijing": "Asia/Shanghai",
    "geneva": "Europe/Zurich", "munich": "Europe/Berlin", "hamburg": "Europe/Berlin", "milan": "Europe/Rome",
    "edinburgh": "Europe/London", "swiss": "Europe/Zurich", "israel": "Asia/Jerusalem",
}  # fmt: skip
_AREAS = ("Africa/", "America/", "Asia/", "Atlantic/", "Australia/", "Europe/", "Pacific/")
_NO_TOWNS = frozenset(["easter", "center", "midway", "wake"])  # words as well


@lru_cache(maxsize=1)
def _known() -> dict[str, str]:
    """Every zone of the IANA database, by its name in lower case."""
    return {each.lower(): each for each in available_timezones()}


@lru_cache(maxsize=1)
def _towns() -> dict[str, str]:
    """Every town that a zone is named after, in lower case: zone names of the IANA database."""
    zones = sorted(each for each in _known().values() if each.startswith(_AREAS))
    towns = {each.rsplit("/", 1)[1].replace("_", " ").lower(): each for each in zones}
    return {town: zone for town, zone in towns.items() if town not in _NO_TOWNS}


_NAMED = re.compile(
    r"(?P<area>africa|america|asia|atlantic|australia|europe|pacific) ?/ ?(?P<town>[a-z]+(?: ?[_/] ?[a-z]+)*)"
)
_TIMED = re.compile(r"(?<![a-z0-9])(?P<words>[a-z]+(?: [a-z]+)?) time\b")
_OFFSET = re.compile(r"(?:utc|gmt) ?(?P<sign>[+-]) ?(?P<hours>1[0-4]|\d)(?![\d:.]| ?\d)")
_ABBREVIATED = re.compile(rf"(?:{'|'.join([*_SHORT, *_SEVERAL])})\b")
_BARE = re.compile(  # a word of many titles as well: only where the time ends with it
    r"(?:us )?(?:eastern|pacific)(?= ?(?:[,.;:!?)\n]|$)| (?:on|with|for|in|this|next|every|tomorrow|today|[a-z]+day)\b)"
)


class Zone(Struct, frozen=True):
    """The name of a zone in the IANA database; ``doubt``: what has to be asked where it may be several."""

    name: str
    doubt: str = ""


def read_zones(text: Text, after: frozenset[int]) -> list[Piece[Zone]]:
    """The zones of a text. ``after``: where a time ends; short names count only right behind one."""
    found: list[Piece[Zone]] = []

    def add(begin: int, end: int, zone: str, form: str, doubt: str = "") -> None:
        if not any(each.begin < end and begin < each.end for each in found):
            found.append(Piece(begin, end, Zone(zone, doubt), form))

    if not after:
        return []
    for begin, end, match in text.find(_NAMED):
        name = _known().get(f"{match['area']}/{match['town']}".replace(" ", ""))
        if name is not None:
            add(begin, end, name, "name")
    for _, end, match in text.find(_TIMED):
        for words in (match["words"], match["words"].rsplit(" ", 1)[-1]):
            zone = _SPOKEN.get(words) or _towns().get(words) or _SHORT.get(words)
            if zone is not None:
                add(end - 1 - len(words.split()), end, zone, "spoken")
                break
    behind = after | {each + 1 for each in after if text.lows[each : each + 1] in (["("], [","])}
    for begin, end, match in text.find(_OFFSET):
        if begin in behind:
            hours = int(match["sign"] + match["hours"])
            add(begin, end, f"Etc/GMT{-hours:+d}" if hours else "UTC", "offset")
    for begin, end, match in text.find(_ABBREVIATED):
        if begin in behind:
            doubt = _which(match[0]) if match[0] in _SEVERAL else ""
            add(begin, end, _SHORT.get(match[0], ""), "abbreviation", doubt)
    for begin, end, match in text.find(_BARE):
        if begin in behind:
            add(begin, end, _SPOKEN[match[0]], "abbreviation")
    return sorted(found, key=lambda each: each.begin)


def _which(short: str) -> str:
    """The question which of several zones is meant."""
    who, example = _SEVERAL[short]
    return f"{short.upper()} is the time of {who}. Which is meant? Say it by a town, such as {example}."
