"""The agenda by its words: whole titles that stand in a text, and which events go by a word."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cached_property, lru_cache
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.speech.request import Target
from whenvoca.speech.words import MONTHS, UNITS, WEEKDAYS, spelled, split_words

_TIMES = {
    *MONTHS,
    *WEEKDAYS,
    *UNITS,
    "today",
    "tomorrow",
    "tonight",
    "morning",
    "evening",
    "noon",
    "night",
    "lunch",
    "call",
    "free",
}
_LONGEST = timedelta(days=2)  # events that are longer are looked at whatever the time


class AgendaIndex:
    """An agenda, looked up by words and by times."""

    def __init__(self, agenda: Sequence[Target], zone: ZoneInfo) -> None:
        self._agenda = [each for each in agenda if not each.event.cancelled]
        self._zone = zone

    @cached_property
    def titles(self) -> dict[str, None]:
        """Every title that a text may name as a whole, in words as they are compared."""
        found = dict.fromkeys(to_words(each.event.title) for each in self._agenda)
        return {title: None for title in found if title and title not in _TIMES}

    @cached_property
    def _by_token(self) -> dict[str, set[int]]:
        found: dict[str, set[int]] = {}
        for n, each in enumerate(self._agenda):
            for token in event_tokens(each.event):
                found.setdefault(token, set()).add(n)
        return found

    @cached_property
    def _tokens(self) -> list[str]:
        return sorted(self._by_token)

    def knows(self, words: Sequence[str]) -> bool:
        """Whether some event goes by all of these words."""
        return bool(words) and bool(self._places(words, loosely=False))

    def called(self, words: Sequence[str], *, loosely: bool = False) -> list[Target]:
        """The events that go by all of these words; ``loosely``: one letter wrong."""
        return [self._agenda[n] for n in sorted(self._places(words, loosely=loosely))] if words else self._agenda

    def _places(self, words: Sequence[str], *, loosely: bool) -> set[int]:
        found: set[int] | None = None
        for word in words:
            fit = self._places_of(word, loosely=loosely)
            found = fit if found is None else found & fit
            if not found:
                return set()
        return found or set()

    def _places_of(self, word: str, *, loosely: bool) -> set[int]:
        forms = {word, word.removesuffix("'s"), f"{word}s", f"{word}es"}
        if word.endswith("s"):
            forms |= {word[:-1], word[:-2] if word.endswith("es") else word[:-1]}
        found: set[int] = set()
        for form in forms:
            found |= self._by_token.get(form, set())
        if len(word) >= 4:
            at = bisect_left(self._tokens, word)
            while at < len(self._tokens) and self._tokens[at].startswith(word):
                found |= self._by_token[self._tokens[at]]
                at += 1
        if not found and loosely and len(word) >= 5 and (near := spelled(word, frozenset(self._tokens))):
            found |= self._by_token[near]
        return found

    @cached_property
    def _by_time(self) -> tuple[list[float], list[Target], list[Target]]:
        """Single short events by their start, and all others."""
        single, others = [], []
        for each in self._agenda:
            event = each.event
            start = event.start
            if event.is_series or not isinstance(start, datetime) or event.occurrence is not None:
                others.append(each)
                continue
            end = event.end
            if not isinstance(end, datetime) or end - start > _LONGEST:
                others.append(each)
            else:
                single.append(
                    (
                        start.astimezone(UTC).timestamp()
                        if start.tzinfo
                        else start.replace(tzinfo=self._zone).timestamp(),
                        each,
                    )
                )
        single.sort(key=lambda pair: pair[0])
        return [at for at, _ in single], [each for _, each in single], others

    def around(self, low: datetime, high: datetime) -> list[Target]:
        """The events that may lie between two moments; the expansion tells."""
        starts, single, others = self._by_time
        first = bisect_left(starts, (low - _LONGEST).timestamp())
        last = bisect_left(starts, high.timestamp())
        return [*single[first:last], *others]


_LAST: list[tuple[Sequence[Target], ZoneInfo, AgendaIndex]] = []  # the index of the agenda that was read last


def index_of(agenda: Sequence[Target], zone: ZoneInfo) -> AgendaIndex:
    """The index of an agenda, made once for it."""
    if not _LAST or _LAST[0][0] is not agenda or _LAST[0][1] is not zone:
        _LAST[:] = [(agenda, zone, AgendaIndex(agenda, zone))]
    return _LAST[0][2]


def known_titles(lows: Sequence[str], index: AgendaIndex) -> frozenset[int]:
    """The places of words that are together the whole title of an event, the longest one first."""
    said = " " + " ".join(low.removesuffix("'s") for low in lows) + " "
    found: set[int] = set()
    standing = [title for title in index.titles if f" {title} " in said]
    for title in sorted(standing, key=len, reverse=True):
        begin = said.index(f" {title} ")
        first = said[:begin].count(" ")
        places = range(first, first + title.count(" ") + 1)
        if not found & set(places):
            found |= set(places)
    return frozenset(found)


@lru_cache(maxsize=16384)
def to_words(text: str) -> str:
    """A text as its words are compared."""
    return " ".join(word.low for word in split_words(text))


@lru_cache(maxsize=16384)
def _tokens(text: str) -> frozenset[str]:
    return frozenset(part for word in split_words(text) for part in (word.low, *word.low.replace("-", " ").split()))


def event_tokens(event: Event) -> frozenset[str]:
    """The words that an event goes by: its title, its place, the names of its people."""
    if not event.attendees:
        return _tokens(f"{event.title} {event.location}" if event.location else event.title)
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
