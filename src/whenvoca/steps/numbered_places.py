"""Which events `number events in` counts, in which order, and what is known of each."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import date, datetime, timedelta
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import end_of_series, expand_events
from whenvoca.calendars.state import event_key, split_key
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.lineage import Lineage
from whenvoca.errors import RowFault
from whenvoca.language.operations import to_instant

NUMBERS = "numbers"  # in a base, besides the state of the event: of each occurrence its key, title, plain title, number
_MOST = 20_000  # events in all sequences of one step


class Owner(Struct):
    """An event, or a whole series: what stands, and what this step last wrote to it."""

    calendar: str
    master: Event | None
    lineage: Lineage
    base: Mapping[str, Any]
    numbers: Mapping[str, tuple[str, str, int]]  # by occurrence: the title that was written, the plain one, the number


class NumberedPlace(Struct):
    """One event in its sequence. ``plain`` is its title without a number, ``own`` the number it had."""

    owner: Owner
    event: Event
    begin: datetime
    plain: str
    own: int | None = None
    is_by_hand: bool = False  # its title is a person's
    derived: Event | None = None  # of an occurrence: what its series says of it
    wanted: str = ""  # the title that it is to have
    number: int = 0

    @property
    def name(self) -> str:
        """Which occurrence of its series it is; empty for a whole event."""
        return split_key(event_key(self.event.uid, self.event.occurrence))[1]


def find_sequences(call: StepCall, pattern: re.Pattern[str] | None) -> list[list[NumberedPlace]]:
    """The sequences, each in its order; ``pattern`` tells a numbered title. Raises RowFault for too many events, and
    for a series without an end."""
    names = [call.stage.calendar(name).name for name in call.calendars]
    places = [place for name in names for place in _places(call, name, pattern)]
    if len(places) > _MOST:
        raise RowFault(f"{len(places):,} events fit, and {_MOST:,} are the most", fix="say more in where, or until")
    places.sort(key=lambda each: (each.begin, each.event.uid), reverse=call.text("order") == "latest first")
    found: dict[tuple[Any, ...], list[NumberedPlace]] = {}
    for each in places:
        found.setdefault((_period(call, each), *_own_sequence(call, each)), []).append(each)
    return list(found.values())


def _own_sequence(call: StepCall, place: NumberedPlace) -> tuple[str, ...]:
    match call.text("each"):
        case "series":
            return place.owner.calendar, place.event.uid
        case "title":
            return (place.plain.casefold(),)
    return ()


def _period(call: StepCall, place: NumberedPlace) -> date | None:
    """The first day of the year, month or week in which its numbers begin anew."""
    day = place.begin.astimezone(call.stage.calendar(place.owner.calendar).zone).date()
    match call.text("restart"):
        case "every year":
            return day.replace(month=1, day=1)
        case "every month":
            return day.replace(day=1)
        case "every week":
            return day - timedelta(days=(day.weekday() - call.stage.workspace.first_weekday) % 7)
    return None


def _places(call: StepCall, name: str, pattern: re.Pattern[str] | None) -> Iterator[NumberedPlace]:
    """The events of a calendar that fit, by their titles as they are, as we wrote them, or without a number."""
    zone = call.stage.calendar(name).zone
    until = call.value("until")
    end = None if until is None else to_instant(until, call.scope.zone)
    for group in _groups(call.stage.calendar(name).all_events()):
        owner = _owner(call, name, group)
        for event, derived in _occurrences(call, owner, group, end):
            begin = event.span(zone)[0]
            if end is not None and begin >= end:
                continue
            place = _known(owner, event, begin, pattern)
            place.derived = derived
            written = owner.numbers.get(place.name, (place.plain,))[0]
            if any(_fits(call, name, event, title) for title in dict.fromkeys((event.title, place.plain, written))):
                yield place


def _groups(events: Iterable[Event]) -> Iterable[list[Event]]:
    """The standing events by their UIDs: the master of a series with its changed occurrences."""
    found: dict[str, list[Event]] = {}
    for event in events:
        if not event.cancelled or event.occurrence is not None:
            found.setdefault(event.uid, []).append(event)
    return found.values()


def _owner(call: StepCall, name: str, group: list[Event]) -> Owner:
    about = call.lineage
    lineage = Lineage(about.root, about.workflow, group[0].uid, about.step, about.repetition)
    known = call.stage.made(name, lineage.to_mark())
    base: Mapping[str, Any] = known.base if known is not None and known.base is not None else {}
    numbers = {key: (title, plain, number) for key, title, plain, number in base.get(NUMBERS, ())}
    master = next((event for event in group if event.occurrence is None), None)
    return Owner(name, master, lineage, base, numbers)


def _occurrences(
    call: StepCall, owner: Owner, group: list[Event], until: datetime | None
) -> Iterable[tuple[Event, Event | None]]:
    """The event, or the occurrences of the series, each with what the series says of it; None where that gives none.

    Raises RowFault for a series without an end that is to be numbered.
    """
    name, master = owner.calendar, owner.master
    zone = call.stage.calendar(name).zone
    if master is None or not master.is_series:
        return [(event, None) for event in group if not event.cancelled]
    end = until if until is not None else end_of_series(master, zone)
    if end is None:
        if _fits(call, name, master, master.title):
            raise RowFault(
                f'the series "{master.title}" has no end', where=name, fix="say up to when: until  today + 1 year"
            )
        return [(event, None) for event in group if event.occurrence is not None and not event.cancelled]
    begins = [event.span(zone)[0] for event in group]
    high = max([end, *(event.span(zone)[1] for event in group if event.occurrence is not None)]) + timedelta(days=1)
    found = [event for event in expand_events(group, min(begins), high, zone) if not event.cancelled]
    if len(group) == 1:
        return [(event, event) for event in found]
    derived = {event_key(each.uid, each.occurrence): each for each in expand_events([master], min(begins), high, zone)}
    return [(event, derived.get(event_key(event.uid, event.occurrence))) for event in found]


def _fits(call: StepCall, name: str, event: Event, title: str) -> bool:
    return call.where.fits(call.stage.to_thing(name, event if event.title == title else replace(event, title=title)))


def _known(owner: Owner, event: Event, begin: datetime, pattern: re.Pattern[str] | None) -> NumberedPlace:
    """What is known of the event: what this step wrote to it, else what its title says."""
    written = owner.numbers.get(split_key(event_key(event.uid, event.occurrence))[1])
    read = pattern.fullmatch(event.title) if pattern is not None else None
    groups = read.groupdict() if read is not None else {}
    title, plain, own = written or ("", str(groups.get("plain") or event.title), groups.get("number"))
    by_hand = written is not None and event.title not in (title, plain)
    if by_hand and read is not None and groups.get("plain", plain) == plain:
        by_hand = False  # no more than another number, as in a copy
    return NumberedPlace(owner, event, begin, plain, None if own is None else int(own), by_hand)
