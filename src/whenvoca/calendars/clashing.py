"""Clashes: which events take the same time of one calendar, one place or one person."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.calendars.event import Event

WAYS = ("calendar", "location", "person")


class TakenTime(Struct, frozen=True):
    """An occurrence in a calendar."""

    calendar: str
    event: Event


class Clash(Struct, frozen=True):
    """Two occurrences that take the same time. ``way`` is one of WAYS, ``what`` the calendar, place or address."""

    way: str
    what: str
    first: TakenTime
    second: TakenTime
    start: datetime
    end: datetime


def find_clashes(
    held: Iterable[TakenTime], zones: Mapping[str, ZoneInfo], ways: Collection[str] = ("calendar",)
) -> list[Clash]:
    """Each pair, once for each way in which it clashes, in order of when. ``zones`` are those of the calendars."""
    groups: dict[tuple[str, str], list[tuple[datetime, datetime, int, TakenTime]]] = {}
    names: dict[tuple[str, str], str] = {}
    for number, each in enumerate(held):
        if not each.event.takes_time:
            continue
        begin, end = each.event.span(zones[each.calendar])
        if begin >= end:
            continue
        for way in ways:
            for what in _whats(way, each):
                key = (way, " ".join(what.casefold().split()))
                names.setdefault(key, what)
                span = (begin.astimezone(UTC), end.astimezone(UTC), number, each)
                groups.setdefault(key, []).append(span)
    found = [clash for key, spans in groups.items() for clash in _pairs(key[0], names[key], spans)]
    return sorted(found, key=lambda each: (each.start, WAYS.index(each.way), each.what.casefold()))


def _whats(way: str, held: TakenTime) -> Sequence[str]:
    """What an occurrence takes in that way."""
    event = held.event
    if way == "calendar":
        return [held.calendar]
    if way == "location":
        return [event.location] if event.location.strip() else []
    people = {each.address.lower() for each in event.attendees if each.answer.upper() != "DECLINED"}
    return sorted(people | ({event.organizer.lower()} if event.organizer and event.attendees else set()))


def _pairs(way: str, what: str, spans: list[tuple[datetime, datetime, int, TakenTime]]) -> Iterator[Clash]:
    going: list[tuple[datetime, datetime, int, TakenTime]] = []
    for span in sorted(spans, key=lambda each: each[:3]):
        begin, end, _, second = span
        going = [each for each in going if each[1] > begin]
        for _, last, _, first in going:
            if first.event.uid != second.event.uid or first.event.occurrence != second.event.occurrence:
                yield Clash(way, what, first, second, begin, min(last, end))
        going.append(span)
