"""A series that ends before one of its occurrences; what follows is gone, or goes on changed as a series of its own."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from functools import partial

from msgspec.structs import replace

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.patch import extra_lines
from whenvoca.calendars.series import changed_from, ended_before, moved_rest, refuse_lost, rest_of
from whenvoca.calendars.state import event_key
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change, to_creation, to_deletion
from whenvoca.engine.acting.stage import Missing, Stage
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.lineage import Lineage
from whenvoca.errors import RowFault


def deciders_of_ending(stage: Stage, place: str, occurrence: Event) -> Iterator[Callable[[], Effect | None]]:
    """What gives the effects that take away this occurrence and those after it, whatever was changed in one of them.

    Each raises RowFault where no rule says how the series goes on.
    """
    stored = stage.find_event(place, occurrence.uid)
    changed = changed_from(occurrence, stored.others) if stored is not None else []
    yield partial(_to_ending, stage, place, occurrence)
    for each in changed:
        yield partial(_to_deletion, stage, place, event_key(each.uid, each.occurrence))


def _to_ending(stage: Stage, place: str, occurrence: Event) -> Effect | None:
    stored = stage.find_event(place, occurrence.uid)
    if stored is None:
        return None
    return to_change(stored, ended_before(stored.event, occurrence), place, occurrence.uid)


def _to_deletion(stage: Stage, place: str, key: str) -> Effect | None:
    stored = stage.find_event(place, key)
    return to_deletion(stored, place, key) if stored is not None else None


class Splitting:
    """This occurrence and those after it become a series of their own, of that lineage, with ``change`` made to it."""

    def __init__(
        self, stage: Stage, place: str, occurrence: Event, lineage: Lineage, change: Callable[[Event], Event]
    ) -> None:
        self._stage = stage
        self._place = place
        self._occurrence = occurrence
        self._lineage = lineage
        self._change = change

    def __call__(self, number: int = 1) -> Effect | None:
        """The effect that makes the later part; None where nothing is changed in it, or the series has gone.

        Raises RowFault where the two parts cannot be had: nothing is done then.
        """
        stored = self._stage.find_event(self._place, self._occurrence.uid)
        if stored is None:
            return None
        master = stored.event
        refuse_lost(master, self._occurrence, stored.others)
        rest = rest_of(master, self._occurrence, self._stage.calendar(self._place).zone)
        changed = self._change(rest)
        if not changed_fields(rest, changed):
            return None
        new = replace(
            moved_rest(rest, changed),
            uid=self._lineage.to_uid(number),
            origin=self._lineage.to_mark(),
            sequence=0,
            extra=extra_lines(stored.data, master.uid),
        )
        ended_before(master, self._occurrence)
        return to_creation(new, self._place, number, [f'the later part of "{master.title}"'])

    def _to_ending(self) -> Effect | None:
        stored = self._stage.find_event(self._place, self._occurrence.uid)
        if stored is not None:
            refuse_lost(stored.event, self._occurrence, stored.others)
        return _to_ending(self._stage, self._place, self._occurrence)

    def effects(self) -> Generator[Effect, Receipt, Event | None]:
        """Both effects; answers the later part. Where the old series cannot be ended the later part is taken back.

        Raises RowFault then, and where nothing can be done.
        """
        made = self._stage.find_made(self._place, self._lineage)
        if isinstance(made, Missing):
            creation = self(made.number)
            if creation is None:
                return None
            yield creation
            later = creation.event
        else:
            later = made.stored.event
        assert later is not None
        try:
            yield from retry_on_conflict(self._to_ending)
        except RowFault:
            if stored := self._stage.find_event(self._place, later.uid):
                yield to_deletion(stored, self._place, later.uid)
            raise
        return later
