"""Clashes: which events take the same time of one calendar, one place or one person, and how much it holds."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.calendars.event import Event
from whenvoca.calendars.free_time import full_spans
from whenvoca.calendars.recurrence import touches

WAYS = ("calendar", "location", "person")


class ClashRule(Struct, frozen=True):
    """What counts as a clash in a calendar: more at one time than it ``holds``, in all of it or at one location."""

    holds: int = 1
    by_location: bool = False

    def concerns(self, event: Event, other: Event) -> bool:
        """Whether the two can take each other's time at all."""
        return not self.by_location or (bool(location_of(event)) and location_of(event) == location_of(other))

    def in_the_way(self, mine: Sequence[Event], others: Iterable[Event], zone: ZoneInfo) -> list[Event]:
        """Those of the others that leave no room for one of mine; all that concern them take time."""
        near = [other for other in others if any(touches(other, *each.span(zone), zone) for each in mine)]
        if self.holds == 1:
            return near
        full = full_spans([other.span(zone) for other in near], self.holds)
        meeting = [
            (max(low, begin), min(high, end))
            for low, high in full
            for begin, end in (each.span(zone) for each in mine)
            if low < end and begin < high
        ]
        return [other for other in near if any(touches(other, low, high, zone) for low, high in meeting)]


def location_of(event: Event) -> str:
    """Its location, without regard to case and blanks."""
    return " ".join(event.location.casefold().split())


class TakenTime(Struct, frozen=True):
    """An occurrence in a calendar."""

    calendar: str
    event: Event


_PLAIN = ClashRule()


class Clash(Struct, frozen=True):
    """Two occurrences that take the same time. ``way`` is one of WAYS, ``what`` the calendar, place or address."""

    way: str
    what: str
    first: TakenTime
    second: TakenTime
    start: datetime
    end: datetime


def find_clashes(
    held: Iterable[TakenTime],
    zones: Mapping[str, ZoneInfo],
    ways: Collection[str] = ("calendar",),
    rules: Mapping[str, ClashRule] | None = None,
) -> list[Clash]:
    """Each pair, once for each way in which it clashes, in order of when. ``zones`` and ``rules`` are those of the
    calendars."""
    rules = rules or {}
    groups: dict[tuple[str, str], list[tuple[datetime, datetime, int, TakenTime]]] = {}
    names: dict[tuple[str, str], str] = {}
    holds: dict[tuple[str, str], int] = {}
    for number, each in enumerate(held):
        if not each.event.takes_time:
            continue
        begin, end = each.event.span(zones[each.calendar])
        if begin >= end:
            continue
        for way in ways:
            rule = rules.get(each.calendar, _PLAIN) if way != "person" else _PLAIN
            for what in _whats(way, each):
                if rule.by_location and not location_of(each.event):
                    continue
                part = f"\n{location_of(each.event)}" if rule.by_location and way == "calendar" else ""
                key = (way, " ".join(what.casefold().split()) + part)
                holds[key] = max(rule.holds, holds.get(key, 1))
                names.setdefault(key, what)
                span = (begin.astimezone(UTC), end.astimezone(UTC), number, each)
                groups.setdefault(key, []).append(span)
    found = [clash for key, spans in groups.items() for clash in _pairs(key[0], names[key], spans, holds[key])]
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


def _pairs(way: str, what: str, spans: list[tuple[datetime, datetime, int, TakenTime]], holds: int) -> Iterator[Clash]:
    going: list[tuple[datetime, datetime, int, TakenTime]] = []
    for span in sorted(spans, key=lambda each: each[:3]):
        begin, end, _, second = span
        going = [each for each in going if each[1] > begin]
        for _, last, _, first in going if len(going) >= holds else ():
            if first.event.uid != second.event.uid or first.event.occurrence != second.event.occurrence:
                yield Clash(way, what, first, second, begin, min(last, end))
        going.append(span)
