"""A text as tokens, and as one plain line that patterns are matched on; each place in it belongs to a token."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property

from msgspec import Struct

from whenvoca.speech.words import LONGEST, MOST_WORDS, spelled

_TOKEN = re.compile(
    r"https?://\S+|[\w.+-]+@[\w-]+(?:\.[\w-]+)+|[^\W\d_]+(?:['’][^\W\d_]+)*|\d+|\n|->|→|=>|[^\w\s]|_", re.UNICODE
)
_LONGEST_WORD = 16  # that may be a word of time with a slip
_JOINED = re.compile(r"[a-z0-9]")

# Spellings of chat, and numbers in words, as patterns know them.
_PLAIN = {
    "tmrw": "tomorrow", "tmr": "tomorrow", "tomo": "tomorrow", "tmw": "tomorrow", "tmoro": "tomorrow",
    "tomoz": "tomorrow", "tomorow": "tomorrow", "tommorow": "tomorrow", "tommorrow": "tomorrow", "2moro": "tomorrow", "2moz": "tomorrow",
    "tmrow": "tomorrow", "2morrow": "tomorrow", "morrow": "tomorrow", "tdy": "today", "2day": "today", "tday": "today",
    "yday": "yesterday", "tonite": "tonight", "2nite": "tonight", "2night": "tonight", "nite": "night",
    "arvo": "afternoon", "aft": "afternoon", "morn": "morning", "mornin": "morning", "eve": "evening", "nxt": "next",
    "wk": "week", "wks": "weeks", "wkend": "weekend", "wknd": "weekend", "wkly": "weekly", "mth": "month",
    "mths": "months", "hr": "hour", "hrs": "hours", "min": "minutes", "mins": "minutes", "minute": "minutes",
    "minuts": "minutes", "minits": "minutes", "b4": "before", "til": "until", "till": "until", "untill": "until",
    "thru": "until", "evry": "every", "ev": "every", "pls": "please", "plz": "please", "plse": "please",
    "w": "with", "w/": "with", "wiv": "with", "u": "you", "ur": "your", "n": "and", "rm": "room",
    "noonish": "noon", "midday": "noon", "oclock": "o'clock", "appt": "appointment", "mtg": "meeting",
    "whats": "what's", "wats": "what's", "wots": "what's", "whens": "when's", "wheres": "where's", "whos": "who's",
    "wat": "what", "wot": "what", "cancle": "cancel", "cancell": "cancel", "canx": "cancel", "resched": "reschedule",
    "dont": "don't", "cant": "can't", "im": "i'm", "ive": "i've", "id": "i'd", "lets": "let's", "isnt": "isn't",
    "tues": "tuesday", "tue": "tuesday", "mon": "monday", "wed": "wednesday", "weds": "wednesday",
    "thu": "thursday", "thur": "thursday", "thurs": "thursday", "fri": "friday", "sat": "saturday", "sun": "sunday",
    "wendsday": "wednesday", "wensday": "wednesday", "wendesday": "wednesday", "thrusday": "thursday", "mons": "mondays", "weds'": "wednesdays", "fris": "fridays", "sats": "saturdays", "suns": "sundays",
    "jan": "january", "feb": "february", "mar": "march", "apr": "april", "jun": "june", "jul": "july",
    "aug": "august", "sep": "september", "sept": "september", "oct": "october", "nov": "november", "dec": "december",
    "xmas": "christmas", "o": "o", "remnd": "remind", "anytime": "anytime",
    "one": "1", "two": "2", "three": "3", "four": "4", "five": "5", "six": "6", "seven": "7", "eight": "8",
    "nine": "9", "ten": "10", "eleven": "11", "twelve": "12", "thirteen": "13", "fourteen": "14", "fifteen": "15",
    "sixteen": "16", "seventeen": "17", "eighteen": "18", "nineteen": "19", "twenty": "20", "thirty": "30",
    "forty": "40", "fourty": "40", "fifty": "50", "sixty": "60", "ninety": "90",
    "first": "1st", "second": "2nd", "third": "3rd", "fourth": "4th", "fifth": "5th", "sixth": "6th",
    "seventh": "7th", "eighth": "8th", "ninth": "9th", "tenth": "10th", "eleventh": "11th", "twelfth": "12th",
    "thirteenth": "13th", "fourteenth": "14th", "fifteenth": "15th", "sixteenth": "16th", "seventeenth": "17th",
    "eighteenth": "18th", "nineteenth": "19th", "twentieth": "20th", "thirtieth": "30th",
    "–": "-", "—": "-", "−": "-", "→": "->", "=>": "->", "’": "'", "‘": "'", "“": '"', "”": '"', "„": '"', "½": "½",
}  # fmt: skip
_TIME_WORDS = frozenset(
    [
        "monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "january", "february", "april",
        "august", "september", "october", "november", "december", "tomorrow", "tonight", "afternoon", "morning",
        "evening", "minutes", "fortnight", "weekend", "midnight", "quarter", "cancel", "reschedule", "delete", "remove",
        "postpone", "rename", "march", "april", "create", "schedule", "arrange",
    ]
)  # fmt: skip
_COMBINED = {"2moro", "2moz", "2morrow", "2day", "2nite", "2night", "b4"}  # letters and digits that are one word


class Token(Struct, frozen=True):
    """A word, number or sign: as written, as patterns know it, and where it stands in the text."""

    text: str
    low: str
    begin: int
    end: int

    @property
    def is_word(self) -> bool:
        """Whether it is letters."""
        return self.text[0].isalpha()


class Text(Struct, dict=True):
    """A text with its tokens."""

    raw: str
    tokens: list[Token]

    @cached_property
    def lows(self) -> list[str]:
        """The tokens as patterns know them."""
        return [token.low for token in self.tokens]

    @cached_property
    def _line(self) -> tuple[str, dict[int, int], dict[int, int]]:
        parts: list[str] = []
        begins: dict[int, int] = {}
        ends: dict[int, int] = {}
        at = 0
        for i, token in enumerate(self.tokens):
            if i and token.begin > self.tokens[i - 1].end:
                parts.append(" ")
                at += 1
            begins[at] = i
            parts.append(token.low)
            at += len(token.low)
            ends[at] = i + 1
        return "".join(parts), begins, ends

    @property
    def line(self) -> str:
        """The whole text as patterns are matched on it."""
        return self._line[0]

    def find(self, pattern: re.Pattern[str]) -> Iterator[tuple[int, int, re.Match[str]]]:
        """Where a pattern stands, at whole tokens that are not glued to other letters or digits."""
        line, begins, ends = self._line
        for match in pattern.finditer(line):
            low, high = match.span()
            while high > low and line[high - 1] == " ":
                high -= 1
            while low < high and line[low] == " ":
                low += 1
            if low not in begins or high not in ends or low == high:
                continue
            before, behind = line[low - 1 : low], line[high : high + 1]
            if (_JOINED.match(before) and _JOINED.match(line[low])) or (
                _JOINED.match(behind) and _JOINED.match(line[high - 1])
            ):
                continue
            yield begins[low], ends[high], match

    def said(self, begin: int, end: int) -> str:
        """The words from one token to another as they are written."""
        return self.raw[self.tokens[begin].begin : self.tokens[end - 1].end] if end > begin else ""

    def is_glued(self, i: int) -> bool:
        """Whether a token follows the one before without a space."""
        return 0 < i < len(self.tokens) and self.tokens[i].begin == self.tokens[i - 1].end


def read_tokens(raw: str) -> Text:
    """The tokens of a text, as many as a request may have."""
    raw = raw[:LONGEST]
    found: list[Token] = []
    matches = list(_TOKEN.finditer(raw))[:MOST_WORDS]
    skip = -1
    for i, match in enumerate(matches):
        if i == skip:
            continue
        text, begin, end = match[0], match.start(), match.end()
        low = text.lower().replace("’", "'").replace("‘", "'")
        if i + 1 < len(matches) and matches[i + 1].start() == end:
            pair = low + matches[i + 1][0].lower()
            if pair in _COMBINED or pair == "w/":
                text, low, end, skip = raw[begin : matches[i + 1].end()], pair, matches[i + 1].end(), i + 1
        found.append(Token(text, _plain(low), begin, end))
    for i in range(1, len(found) - 1):  # twenty-fourth, two-thirty
        before, behind = found[i - 1], found[i + 1]
        if (
            found[i].low == "-"
            and before.is_word
            and behind.is_word
            and before.low.isdecimal()
            and behind.low[0].isdecimal()
            and before.end == found[i].begin
            and behind.begin == found[i].end
        ):
            found[i] = Token("-", " ", found[i].begin, found[i].end)
    return Text(raw, found)


def _plain(low: str) -> str:
    if low in _PLAIN:
        return _PLAIN[low]
    if low.endswith("'s") and low[:-2] in _PLAIN:
        return f"{_PLAIN[low[:-2]]}'s"
    if 4 <= len(low) <= _LONGEST_WORD and low.isalpha() and not (low[-1] == "s" and low[:-1] in _TIME_WORDS):
        meant = spelled(low, _TIME_WORDS)
        if meant:
            return meant
        if low.endswith("s") and (meant := spelled(low[:-1], _TIME_WORDS)):
            return f"{meant}s"
    return low
