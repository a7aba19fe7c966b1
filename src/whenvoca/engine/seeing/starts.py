"""Starts and ends of events: which are due, which were missed, and when the next one is.

For each workflow and UID the ledger keeps the next moment, so that nothing is searched when a moment comes, and a
change costs what its own event costs.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import event_key, from_state, split_key, to_state
from whenvoca.engine.acting.program import Program
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import Source
from whenvoca.engine.seeing.clock_moments import to_span
from whenvoca.engine.seeing.strategy import JUST_BEFORE, Search, TakenUp, TriggerStrategy, missed_after, to_mark
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Scope
from whenvoca.values.durations import Duration, add_to_moment

_SLACK = timedelta(hours=3)  # a day of a trigger's `early` may be so much longer or shorter than 24 hours
_HORIZONS = tuple(timedelta(days=days) for days in (40, 400, 4000))  # how far the next occurrence is looked for


class Moment(Struct, frozen=True):
    """A start or end of an event that a trigger waits for: when it is, and when the trigger fires for it."""

    at: datetime
    fires: datetime
    event: Event


def offset_of(program: Program) -> Duration:
    """How long after the start or end the trigger fires; negative for `early`."""
    settings = program.workflow.trigger.settings
    return to_span(settings.get("late")) - to_span(settings.get("early"))


class EventMoments(TriggerStrategy):
    """Waits for the starts of events, or for their ends."""

    is_timed, is_by_hand = True, False

    def __init__(self, *, is_end: bool) -> None:
        self._is_end = is_end

    def take_up(self, search: Search) -> TakenUp:
        """Finds what is due, of events that changed and of those whose moment has come."""
        ledger, identity, place, now = search.ledger, search.identity, search.source.name, search.now
        reader, mark = ledger.reader(identity, place), ledger.high_water(identity, place)
        high = now - JUST_BEFORE if mark is None else datetime.fromisoformat(mark)
        last = ledger.last_sequence(place)
        if reader is None:
            changed = {split_key(subject)[0] for subject, _ in ledger.standing_sequences(place)}
        elif reader.sequence < last:
            changed = {split_key(seen.subject)[0] for seen in ledger.observations(place, reader.sequence)}
        else:
            changed = set()
        come = set(ledger.due_starts(identity, place, to_mark(now)))
        if not changed and not come:
            ledger.set_high_water(identity, place, to_mark(max(high, now)))
            return TakenUp()
        waits = _Waiting(search.program, search.source, search.zone, is_end=self._is_end)
        due = TakenUp()
        with ledger.transaction():
            found: list[Occurrence] = []
            missed: list[Occurrence] = []
            nexts: dict[str, str] = {}
            for uid in sorted(changed | come):
                events = [from_state(state) for state in ledger.standing_of_uid(place, uid).values()]
                for moment in waits.between(events, high, now):
                    occurrence = waits.occurrence(moment, high, now)
                    if not waits.fits(moment.event, moment.fires):
                        continue
                    if waits.is_own(moment.event):
                        label = occurrence.label
                        due.faults.append(
                            f"{label}: {identity} made it itself and would go round without end; stopped here"
                        )
                        continue
                    is_late = now - datetime.fromisoformat(occurrence.at) > waits.missed
                    (missed if is_late else found).append(occurrence)
                due.faults += [f"{identity}: {said}" for said in waits.left_out.values()]
                following = waits.next_after(events, now)
                nexts[uid] = "" if following is None else to_mark(following)
            due.new = ledger.add_occurrences(found, once=False)
            due.missed = ledger.add_missed(missed, now.isoformat())
            ledger.keep_starts(identity, place, nexts)
            ledger.set_reader(identity, place, last)
            ledger.set_high_water(identity, place, to_mark(max(high, now)))
        return due

    def next_due(self, ledger: Ledger, program: Program, now: datetime, zone: ZoneInfo) -> datetime | None:
        """The next start (or end) among those that were looked at."""
        found = ledger.next_start(program.workflow.identity)
        return datetime.fromisoformat(found) if found else None


STARTS, ENDS = EventMoments(is_end=False), EventMoments(is_end=True)


class _Waiting:
    """What one trigger waits for in the events of a UID."""

    def __init__(self, program: Program, source: Source, zone: ZoneInfo, *, is_end: bool) -> None:
        self._program, self._source, self._zone, self._is_end = program, source, zone, is_end
        self._word = program.workflow.trigger.definition.subject
        self._offset = offset_of(program)
        self.missed = missed_after(program)
        self.left_out: dict[str, str] = {}  # what occurred too often to be told apart in the last look

    def _moments(
        self, events: Iterable[Event], low: datetime, high: datetime, left_out: dict[str, str]
    ) -> Iterator[Moment]:
        """Starts (or ends) later than ``low`` and not later than ``high``, a little before and after with them."""
        zone, low, high = self._source.zone, low - _SLACK, high + _SLACK
        standing = [each for each in events if not each.cancelled]
        for event in expand_events(standing, low, high, zone, left_out):
            start, end = event.span(zone)
            at = end if self._is_end else start
            if low < at <= high:
                yield Moment(at, add_to_moment(at, self._offset).astimezone(UTC), event)

    def between(self, events: list[Event], after: datetime, now: datetime) -> list[Moment]:
        """What fires by now: its moment has come since ``after``, or its event was seen late and had not begun."""
        offset = timedelta(seconds=self._offset.to_seconds())
        self.left_out = {}
        found = self._moments(events, after - max(offset, timedelta()), now - offset, self.left_out)
        return sorted(
            (each for each in found if each.fires <= now and max(each.at, each.fires) > after),
            key=lambda each: each.fires,
        )

    def next_after(self, events: list[Event], now: datetime) -> datetime | None:
        """When the trigger fires next for these events."""
        low = now - timedelta(seconds=self._offset.to_seconds())
        for horizon in _HORIZONS:
            moments = [each.fires for each in self._moments(events, low, low + horizon, {}) if each.fires > now]
            if moments:
                return min(moments)
            zone = self._source.zone
            if all(not each.is_series and each.span(zone)[1] <= low + horizon for each in events):
                return None
        return None

    def fits(self, event: Event, at: datetime) -> bool:
        """Whether the trigger is about the event; one that cannot be judged is, so that its run says why."""
        thing = self._source.thing(event_key(event.uid, event.occurrence), to_state(event))
        try:
            return self._program.where(Scope(thing, self._word, at, self._zone))
        except RowFault:
            return True

    def is_own(self, event: Event) -> bool:
        """Whether the workflow itself has made the event: its start would set it off for ever."""
        lineage = Lineage.from_mark(event.origin) if event.origin else None
        return lineage is not None and lineage.workflow == self._program.workflow.identity

    def occurrence(self, moment: Moment, after: datetime, now: datetime) -> Occurrence:
        """The occurrence of a moment. Its key is the event, its actual start (or end), and the offset."""
        event = moment.event
        at = moment.fires if moment.fires > after else now
        key = event_key(event.uid, event.occurrence)
        return Occurrence(
            self._program.workflow.identity,
            self._source.name,
            key,
            -int(moment.at.timestamp()),
            at.astimezone(self._zone).isoformat(),
            "ended" if self._is_end else "begun",
            label=self._source.label(key, to_state(event)),
        )
