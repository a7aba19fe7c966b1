"""Words of a request with their places in the text, and the words of time, one letter wrong at most."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache

from msgspec import Struct

LONGEST = 10_000  # signs of a text that are looked at
MOST_WORDS = 400
_TOKEN = re.compile(
    r"https?://\S+|[\"“„][^\"”“]*[\"”]|[\w.+-]+@[\w-]+(?:\.[\w-]+)+|\d{4}-\d{2}-\d{2}(?:T\d{2}:\d{2})?|\d{4}/\d{1,2}/\d{1,2}|\d{1,2}-\d{1,2}-\d{4}|\d{1,2}[/.]\d{1,2}(?:[/.]\d{2,4})?(?![\w:])"
    r"|\d{1,2}[:.]\d{2}(?!\d)|\d+(?:st|nd|rd|th)\b|\d+(?:\.\d+)?|[^\W\d_]+(?:['’][^\W\d_]+)?(?:-[^\W\d_]+)*|->|→|=>|\.(?=\s|$)|[@&?!,;:()–—-]"
)


class Word(Struct, frozen=True):
    """One word or sign: as it is written, as it is compared, and where it stands."""

    text: str
    low: str
    begin: int
    end: int

    @property
    def is_quoted(self) -> bool:
        """Whether it is a quoted stretch."""
        return self.text[:1] in '"“„' and len(self.text) > 1


def split_words(text: str) -> list[Word]:
    """The words of a text, as many as a request may have."""
    found: list[Word] = []
    for each in _TOKEN.finditer(text[:LONGEST]):
        if (
            "-" in each[0]
            and len(parts := each[0].split("-")) == 2
            and (
                all(part.lower() in _SPANNING for part in parts)
                or (parts[0].lower() in NUMBERS and parts[1].lower() in UNITS)
            )
        ):
            at = each.start() + len(parts[0])
            found.append(Word(parts[0], parts[0].lower(), each.start(), at))
            found.append(Word("-", "-", at, at + 1))
            found.append(Word(parts[1], parts[1].lower(), at + 1, each.end()))
            continue
        low = each[0].lower().replace("’", "'")
        if "t" in low and low[:1].isdecimal() and "-" in low:  # 2027-04-02T10:00
            at = each.start() + low.index("t")
            found.append(Word(each[0][: at - each.start()], low.partition("t")[0], each.start(), at))
            found.append(Word(each[0][at - each.start() + 1 :], low.partition("t")[2], at + 1, each.end()))
            continue
        if low in ("it's", "that's"):
            found.append(Word(each[0], low[:-2], each.start(), each.end() - 2))
            found.append(Word("'s", "is", each.end() - 2, each.end()))
            continue
        if low.endswith("'s") and low[:-2] in _OWNING:
            low = low[:-2]
        found.append(Word(each[0], _SHORT.get(low, low), each.start(), each.end()))
        if len(found) >= MOST_WORDS:
            break
    return found


_SHORT = {
    "->": "to",
    "→": "to",
    "=>": "to",
    "–": "-",
    "—": "-",
    "tmrw": "tomorrow",
    "tmr": "tomorrow",
    "tomo": "tomorrow",
    "tmw": "tomorrow",
    "2moro": "tomorrow",
    "2morrow": "tomorrow",
    "tdy": "today",
    "2day": "today",
    "tonite": "tonight",
    "thx": "thanks",
    "pls": "please",
    "plz": "please",
    "wanna": "want",
    "mtg": "meeting",
    "appt": "appointment",
    "@": "at",
    "wk": "week",
    "wks": "weeks",
    "nxt": "next",
    "wat": "what",
    "wht": "what",
    "waht": "what",
    "hwat": "what",
    "whta": "what",
    "wath": "what",
    "wehn": "when",
    "whne": "when",
    "hwen": "when",
    "whn": "when",
    "whats": "what's",
    "wats": "what's",
    "whens": "when's",
    "dont": "don't",
    "cant": "can't",
    "im": "i'm",
    "teh": "the",
    "u": "you",
    "bday": "birthday",
}

WEEKDAYS = {
    "monday": 0,
    "mon": 0,
    "tuesday": 1,
    "tue": 1,
    "tues": 1,
    "wednesday": 2,
    "wed": 2,
    "weds": 2,
    "thursday": 3,
    "thu": 3,
    "thur": 3,
    "thurs": 3,
    "friday": 4,
    "fri": 4,
    "saturday": 5,
    "sat": 5,
    "sunday": 6,
    "sun": 6,
}
MONTHS = {
    "january": 1,
    "jan": 1,
    "february": 2,
    "feb": 2,
    "march": 3,
    "mar": 3,
    "april": 4,
    "apr": 4,
    "may": 5,
    "june": 6,
    "jun": 6,
    "july": 7,
    "jul": 7,
    "august": 8,
    "aug": 8,
    "september": 9,
    "sep": 9,
    "sept": 9,
    "october": 10,
    "oct": 10,
    "november": 11,
    "nov": 11,
    "december": 12,
    "dec": 12,
}
NUMBERS = {
    "a": 1,
    "an": 1,
    "one": 1,
    "two": 2,
    "three": 3,
    "four": 4,
    "five": 5,
    "six": 6,
    "seven": 7,
    "eight": 8,
    "nine": 9,
    "ten": 10,
    "eleven": 11,
    "twelve": 12,
    "thirteen": 13,
    "fourteen": 14,
    "fifteen": 15,
    "sixteen": 16,
    "seventeen": 17,
    "eighteen": 18,
    "nineteen": 19,
    "twenty": 20,
    "thirty": 30,
    "forty": 40,
    "forty-five": 45,
    "fifty": 50,
    "ninety": 90,
    "couple": 2,
    "few": 3,
    "half": 0,
}
ORDINALS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}
UNITS = {
    "m": "minute",
    "min": "minute",
    "mins": "minute",
    "minute": "minute",
    "minutes": "minute",
    "h": "hour",
    "hr": "hour",
    "hrs": "hour",
    "hour": "hour",
    "hours": "hour",
    "day": "day",
    "days": "day",
    "week": "week",
    "weeks": "week",
    "month": "month",
    "months": "month",
    "fortnight": "fortnight",
    "fortnights": "fortnight",
    "year": "year",
    "years": "year",
}
_SPANNING = {*WEEKDAYS, *MONTHS}
_OWNING = {*WEEKDAYS, "today", "tomorrow", "tonight", "yesterday", "week", "month", "weekend", "tmrw"}


# One letter from a word of time or a command, and none.
_WORDS_OF_THEIR_OWN = frozenset(
    [
        "being",
        "black",
        "blocked",
        "booked",
        "canal",
        "chance",
        "channel",
        "charge",
        "clean",
        "cleans",
        "clock",
        "inter",
        "marsh",
        "match",
        "matches",
        "money",
        "moved",
        "moves",
        "plain",
        "plane",
        "plant",
        "pushed",
        "scrape",
        "scrub",
        "shirt",
        "shirts",
        "stock",
        "sundae",
        "sunny",
        "thirsty",
        "weekly",
        "update",
    ]
)


@lru_cache(maxsize=4096)
def spelled(low: str, known: frozenset[str]) -> str:
    """The known word that is meant: itself, or the one that is one letter away; empty if there is none, or there are
    several.

    Of words of five letters only what hardly is another word counts: two letters turned round, one doubled or left out.
    """
    if low in known:
        return low
    if len(low) < 4 or not low.isalpha() or low in _WORDS_OF_THEIR_OWN:
        return ""
    near = [word for word in known if len(word) >= 5 and abs(len(word) - len(low)) <= 1 and _is_near(low, word)]
    if len(near) > 1:
        near = [word for word in near if word[0] == low[0]]
    return near[0] if len(near) == 1 else ""


def slipped(low: str, known: frozenset[str]) -> str:
    """The short known word that is meant where hardly another can be: two letters turned round, one doubled or left
    out."""
    if low in known or len(low) < 3 or not low.isalpha():
        return low if low in known else ""
    near = [word for word in known if len(word) >= 4 and _is_slip(low, word)]
    return near[0] if len(near) == 1 else ""


def _is_near(one: str, other: str) -> bool:
    """Whether a word differs from a known one by one letter: one more, one less, one other, or two turned round."""
    return _is_slip(one, other) if len(other) == 5 else is_one_off(one, other)


def is_word_of_its_own(low: str) -> bool:
    """Whether a word is one letter from a word of time or a command, and none."""
    return low in _WORDS_OF_THEIR_OWN


def is_one_off(one: str, other: str) -> bool:
    """Whether two words differ by one letter: one more, one less, one other, or two turned round."""
    if len(one) == len(other):
        places = [i for i in range(len(one)) if one[i] != other[i]]
        if len(places) == 2 and places[1] == places[0] + 1:
            return one[places[0]] == other[places[1]] and one[places[1]] == other[places[0]]
        return len(places) <= 1
    short, long = sorted((one, other), key=len)
    return any(long[:i] + long[i + 1 :] == short for i in range(len(long)))


def _is_slip(one: str, other: str) -> bool:
    if len(one) == len(other):
        places = [i for i in range(len(one)) if one[i] != other[i]]
        is_next = len(places) == 2 and places[1] == places[0] + 1
        return is_next and one[places[0]] == other[places[1]] and one[places[1]] == other[places[0]]
    if len(one) == len(other) + 1:
        return any(one[i] == one[i - 1] and one[:i] + one[i + 1 :] == other for i in range(1, len(one)))
    return (
        len(one) == len(other) - 1
        and one[0] == other[0]
        and any(other[:i] + other[i + 1 :] == one for i in range(1, len(other)))
    )


def look_up(word: Word, table: Mapping[str, int]) -> int | None:
    """What a word stands for in a table, one letter wrong at most."""
    low = word.low.rstrip(".")
    found = spelled(low, _keys(tuple(table)))
    if not found and low.endswith("s"):
        found = spelled(low[:-1], _keys(tuple(table)))
    return table[found] if found else None


@lru_cache(maxsize=64)
def _keys(names: tuple[str, ...]) -> frozenset[str]:
    return frozenset(names)


def number_of(word: Word) -> float | None:
    """The number that a word is."""
    if word.low.replace(".", "", 1).isdecimal():
        return float(word.low)
    return NUMBERS.get(word.low) or None
