"""Starts and ends of events: which are due, which were missed, and when the next one is.

For each workflow and UID the ledger keeps the next moment, so that nothing is searched when a moment comes, and a
change costs what its own event costs.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import event_key, from_state, split_key, to_state
from whenvoca.engine.acting.program import Program
from whenvoca.engine.ledger.protocol import Ledger, Occurrence
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.seeing.clock_moments import clock_moments, next_moment, to_span
from whenvoca.engine.seeing.sources import CalendarSource
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Scope
from whenvoca.values.durations import Duration, add_to_moment

_MOMENT = timedelta(microseconds=1)
_SLACK = timedelta(hours=3)  # a day of a trigger's `early` may be so much longer or shorter than 24 hours
_HORIZONS = tuple(timedelta(days=days) for days in (40, 400, 4000))  # how far the next occurrence is looked for
CLOCK = "clock"  # stands for a place in occurrences by the clock
HOUR = timedelta(hours=1)  # how late a start or a moment of the clock may still run, unless `missed` says otherwise


class TakenUp(Struct):
    """What a look at the moments brought: new occurrences, and those that come too late to run."""

    new: int = 0
    circles: list[str] = field(default_factory=list)
    missed: list[Occurrence] = field(default_factory=list)


class Moment(Struct, frozen=True):
    """A start or end of an event that a trigger waits for: when it is, and when the trigger fires for it."""

    at: datetime
    fires: datetime
    event: Event


def offset_of(program: Program) -> Duration:
    """How long after the start or end the trigger fires; negative for `early`."""
    trigger = program.workflow.trigger
    assert trigger is not None
    return to_span(trigger.settings.get("late")) - to_span(trigger.settings.get("early"))


def missed_after(program: Program) -> timedelta:
    """How late the workflow may still run."""
    node = program.workflow.settings.missed
    return HOUR if node is None else to_span(node).to_timedelta()


def take_up_starts(ledger: Ledger, program: Program, source: CalendarSource, now: datetime, zone: ZoneInfo) -> TakenUp:
    """Finds the starts (or ends) that are due, of events that changed and of those whose moment has come."""
    identity, place = program.workflow.identity, source.name
    reader, mark = ledger.reader(identity, place), ledger.high_water(identity, place)
    high = now - _MOMENT if mark is None else datetime.fromisoformat(mark)
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
    waits = _Waiting(program, source, zone)
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
                    due.circles.append(
                        f"{label}: {identity} made it itself and would go round without end; stopped here"
                    )
                    continue
                is_late = now - datetime.fromisoformat(occurrence.at) > waits.missed
                (missed if is_late else found).append(occurrence)
            following = waits.next_after(events, now)
            nexts[uid] = "" if following is None else to_mark(following)
        due.new = ledger.add_occurrences(found, once=False)
        due.missed = ledger.add_missed(missed, now.isoformat())
        ledger.keep_starts(identity, place, nexts)
        ledger.set_reader(identity, place, last)
        ledger.set_high_water(identity, place, to_mark(max(high, now)))
    return due


def take_up_clock(ledger: Ledger, program: Program, now: datetime, zone: ZoneInfo) -> TakenUp:
    """Finds the moments of the clock that have come since the workflow last looked; of several only the newest runs."""
    identity, trigger = program.workflow.identity, program.workflow.trigger
    assert trigger is not None
    mark = ledger.high_water(identity, CLOCK)
    high = now - _MOMENT if mark is None else datetime.fromisoformat(mark)
    due = TakenUp()
    count, newest = 0, None
    for moment in clock_moments(trigger, high, now, zone):
        count, newest = count + 1, moment
    with ledger.transaction():
        if newest is not None:
            more = f" and {count - 1} before it" if count > 1 else ""
            at = newest.isoformat()
            occurrence = Occurrence(
                identity, CLOCK, at, -int(newest.timestamp()), at, "come", label=f"{newest:%a %d %b %H:%M}{more}"
            )
            if now - newest > missed_after(program):
                due.missed = ledger.add_missed([occurrence], now.isoformat())
            else:
                due.new = ledger.add_occurrences([occurrence], once=False)
        ledger.set_high_water(identity, CLOCK, to_mark(max(high, now)))
    return due


def next_due(ledger: Ledger, program: Program, now: datetime, zone: ZoneInfo) -> datetime | None:
    """When a workflow that waits for a moment has to look again, None if nothing is known to come."""
    trigger = program.workflow.trigger
    assert trigger is not None
    if trigger.definition.watches == "clock":
        mark = ledger.high_water(program.workflow.identity, CLOCK)
        return next_moment(trigger, now if mark is None else datetime.fromisoformat(mark), zone)
    found = ledger.next_start(program.workflow.identity)
    return datetime.fromisoformat(found) if found else None


class _Waiting:
    """What one trigger waits for in the events of a UID."""

    def __init__(self, program: Program, source: CalendarSource, zone: ZoneInfo) -> None:
        trigger = program.workflow.trigger
        assert trigger is not None
        self._program, self._source, self._zone = program, source, zone
        self._is_end = trigger.definition.watches == "ends"
        self._word = trigger.definition.subject
        self._offset = offset_of(program)
        self.missed = missed_after(program)

    def _moments(self, events: Iterable[Event], low: datetime, high: datetime) -> Iterator[Moment]:
        """Starts (or ends) later than ``low`` and not later than ``high``, a little before and after with them."""
        zone, low, high = self._source.zone, low - _SLACK, high + _SLACK
        for event in expand_events([each for each in events if not each.cancelled], low, high, zone):
            start, end = event.span(zone)
            at = end if self._is_end else start
            if low < at <= high:
                yield Moment(at, add_to_moment(at, self._offset).astimezone(UTC), event)

    def between(self, events: list[Event], after: datetime, now: datetime) -> list[Moment]:
        """What fires by now: its moment has come since ``after``, or its event was seen too late for that and had not
        begun."""
        offset = timedelta(seconds=self._offset.to_seconds())
        found = self._moments(events, after - max(offset, timedelta()), now - offset)
        return sorted(
            (each for each in found if each.fires <= now and max(each.at, each.fires) > after),
            key=lambda each: each.fires,
        )

    def next_after(self, events: list[Event], now: datetime) -> datetime | None:
        """When the trigger fires next for these events."""
        low = now - timedelta(seconds=self._offset.to_seconds())
        for horizon in _HORIZONS:
            moments = [each.fires for each in self._moments(events, low, low + horizon) if each.fires > now]
            if moments:
                return min(moments)
            zone = self._source.zone
            if all(not (each.rule or each.added) and each.span(zone)[1] <= low + horizon for each in events):
                return None
        return None

    def fits(self, event: Event, at: datetime) -> bool:
        """Whether the event is one of those that the trigger is about; one that cannot be told is, so that its run says
        why."""
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


def to_mark(moment: datetime) -> str:
    """A moment as the ledger keeps it: in an order that texts have too."""
    return moment.astimezone(UTC).isoformat(timespec="microseconds")
