"""Titles of events in the agenda as texts speak of them: whole ones that stand in a text, and single words of them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from whenvoca.calendars.event import Event
from whenvoca.speech.request import Target
from whenvoca.speech.words import MONTHS, UNITS, WEEKDAYS, spelled, split_words

_TIMES = {*MONTHS, *WEEKDAYS, *UNITS, "today", "tomorrow", "tonight", "morning", "evening", "noon", "night", "lunch", "call", "free"}


def known_titles(lows: Sequence[str], agenda: Sequence[Target]) -> frozenset[int]:
    """The places of words that are together the whole title of an event, the longest one first."""
    said = f" {' '.join(lows)} "
    found: set[int] = set()
    titles = {to_words(each.event.title) for each in agenda if each.event.title}
    standing = [title for title in titles if title and title not in _TIMES and f" {title} " in said]
    for title in sorted(standing, key=len, reverse=True):
        begin = said.index(f" {title} ")
        first = said[:begin].count(" ")
        places = range(first, first + title.count(" ") + 1)
        if not found & set(places):
            found |= set(places)
    return frozenset(found)


@lru_cache(maxsize=8192)
def to_words(text: str) -> str:
    """A text as its words are compared."""
    return " ".join(word.low for word in split_words(text))


@lru_cache(maxsize=8192)
def _tokens(text: str) -> frozenset[str]:
    return frozenset(part for word in split_words(text) for part in (word.low, *word.low.replace("-", " ").split()))


def event_tokens(event: Event) -> frozenset[str]:
    """The words that an event goes by: its title, its place, the names of its people."""
    people = " ".join(f"{each.address.partition('@')[0]} {each.address} {each.name}" for each in event.attendees)
    return _tokens(f"{event.title} {event.location} {people}")


def is_named(word: str, tokens: frozenset[str], *, loosely: bool = False) -> bool:
    """Whether a word is one of these, in one number or the other; ``loosely``: one letter wrong where it is long."""
    if word in tokens or word.removesuffix("'s") in tokens:
        return True
    if word.endswith("s") and (word[:-1] in tokens or (word.endswith("es") and word[:-2] in tokens)):
        return True
    if f"{word}s" in tokens or f"{word}es" in tokens:
        return True
    if len(word) >= 4 and any(token.startswith(word) for token in tokens):
        return True
    return loosely and len(word) >= 5 and bool(spelled(word, tokens))
