"""The agenda by the words that events go by, and by their times."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cached_property, lru_cache
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.speech.chart.tokens import Token, read_tokens
from whenvoca.speech.request import Target

_LONGEST = timedelta(days=2)  # events that are longer are looked at whatever the time


class AgendaIndex:
    """An agenda, looked up by words and by times."""

    def __init__(self, agenda: Sequence[Target], zone: ZoneInfo) -> None:
        self._agenda = [each for each in agenda if not each.event.cancelled]
        self._zone = zone
        self.expanded: tuple[Any, list[Any]] = None, []  # occurrences of a time, as ``Mentions`` wants them

    @cached_property
    def _by_token(self) -> dict[str, set[int]]:
        found: dict[str, set[int]] = {}
        for n, each in enumerate(self._agenda):
            for token in event_words(each.event):
                found.setdefault(token, set()).add(n)
        return found

    @cached_property
    def places(self) -> frozenset[str]:
        """Every place, in lower case."""
        return frozenset(each.event.location.lower() for each in self._agenda if each.event.location)

    @cached_property
    def whole_titles(self) -> frozenset[str]:
        """Every title, in lower case."""
        return frozenset(each.event.title.lower() for each in self._agenda)

    @cached_property
    def _by_stem(self) -> dict[str, set[int]]:
        found: dict[str, set[int]] = {}
        for token, places in self._by_token.items():
            found.setdefault(token[:4], set()).update(places)
        return found

    def mentioned(self, stems: Sequence[str]) -> list[Target]:
        """The events that some of these words may be about, by how words begin."""
        found: set[int] = set()
        for stem in stems:
            if len(stem) > 1:
                found |= self._by_stem.get(stem[:4], set())
        return [self._agenda[n] for n in sorted(found)]

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


@lru_cache(maxsize=16384)
def to_words(text: str) -> tuple[str, ...]:
    """A text as the words that are compared."""
    return tuple(compared(token) for token in read_tokens(text).tokens if token.low[0].isalnum())


def compared(token: Token) -> str:
    """A word as titles are compared by: a number in words stays a word."""
    return token.text.lower() if token.low[0].isdigit() else token.low


def event_words(event: Event) -> frozenset[str]:
    """The words that an event goes by: its title, its place, the names of its people."""
    people = " ".join(f"{each.address.partition('@')[0]} {each.address} {each.name}" for each in event.attendees)
    return frozenset(to_words(f"{event.title} {event.location} {people}"))
