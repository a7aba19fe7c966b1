"""The step `find free-time in`: when calendars, or people in them, are free for long enough."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.free_time import Span, Window, busy_spans, free_spans, joined, spans_of
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.place_protocols import Found
from whenvoca.errors import RowFault, SourceFault
from whenvoca.language.definitions import FieldDefinition, PlaceInfo, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.types import DURATION, MOMENT, Type, list_of, thing
from whenvoca.steps.people import addresses_of
from whenvoca.steps.windows import FROM, UNTIL, window
from whenvoca.values.durations import Duration
from whenvoca.values.texts import show_value

_MOST = 10_000  # stretches or starts
_LONGEST = timedelta(days=731)
_ALL_DAYS = tuple(range(7))


def gap_type(place: PlaceInfo | None = None) -> Type:
    """The type of a stretch of free time."""
    return thing("free time", {"start": MOMENT, "end": MOMENT, "length": DURATION})


class Gap:
    """A stretch of free time."""

    def __init__(self, start: datetime, end: datetime) -> None:
        self._start, self._end = start, end

    @property
    def key(self) -> str:
        """What makes it the same stretch."""
        return f"{self._start.astimezone(UTC):%Y%m%dT%H%M%SZ}"

    def where_is(self, word: str) -> str:
        """Which stretch."""
        return f"the free time from {show_value(self._start)} on"

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is none of its fields."""
        return {"start": self._start, "end": self._end, "length": Duration.between(self._start, self._end)}[word]


def _act(call: StepCall) -> Acting:
    yield from ()
    zone = call.scope.zone

    def search() -> list[Found]:
        return [Found("", "gap", {"start": start, "end": end}) for start, end in _gaps(call, zone)]

    found = call.where.recalled(search)
    return [Gap(each.state["start"].astimezone(zone), each.state["end"].astimezone(zone)) for each in found]


def _gaps(call: StepCall, zone: ZoneInfo) -> list[Span]:
    low, high = window(call)
    if low is None or high is None:
        raise RowFault("from and until are empty", fix="say from when until when it is looked for")
    if high - low > _LONGEST:
        raise RowFault(f"from {show_value(low)} until {show_value(high)} is too long", fix="two years at most")
    length, every, apart = (_span(call, word) for word in ("length", "every", "apart"))
    length = length or timedelta(hours=1)
    busy = _busy(call, low, high, apart)
    whole = [(low.astimezone(UTC), high.astimezone(UTC))]
    spans = list(spans_of(_window_of(call), low, high, zone)) if _has_window(call) else whole
    found: list[Span] = []
    for span in spans:
        for begin, end in free_spans(span, busy):
            found += _cut(begin, end, span[0], length, every)
            if len(found) > _MOST:
                raise RowFault(f"there are more than {_MOST:,} free times", fix="look in a shorter time, or use first")
    if call.text("each") == "day":
        found = list({begin.astimezone(zone).date(): (begin, end) for begin, end in reversed(found)}.values())[::-1]
    count = call.value("first")
    if count is not None and (not isinstance(count, int) or count < 1):
        raise RowFault(f"first: {show_value(count)} is not a whole number from 1 on")
    return found if count is None else found[:count]


def _cut(begin: datetime, end: datetime, origin: datetime, length: timedelta, every: timedelta) -> Iterator[Span]:
    """A stretch that holds the length, whole, or in starts that are so far apart."""
    if not every:
        if end - begin >= length:
            yield begin, end
        return
    start = origin - ((origin - begin) // every) * every
    while start + length <= end:
        yield start, start + length
        start += every


def _span(call: StepCall, word: str) -> timedelta:
    value = call.value(word)
    if value is None:
        return timedelta()
    if not isinstance(value, Duration) or value.months or value.to_seconds() <= 0:
        raise RowFault(f"{word}: {show_value(value)} is not a length of time", fix=f"such as {word}  30 minutes")
    return timedelta(seconds=float(value.to_seconds()))


def _has_window(call: StepCall) -> bool:
    return call.gives("between") or call.gives("days") or call.text("each") == "day"


def _window_of(call: StepCall) -> Window:
    """The part of which days counts: `between`; without it, on named days, the working hours; else whole days."""
    begin, end = time(0), time(0)
    if call.gives("between"):
        begin, end = call.value("between")
        if not isinstance(begin, time) or not isinstance(end, time) or begin == end:
            raise RowFault("between: here stand two times of day", fix="such as between  09:00 and 17:00")
    elif call.gives("days"):
        begin, end = call.stage.workspace.hours
    return Window(begin, end, frozenset(call.value("days", _ALL_DAYS)))


def _busy(call: StepCall, low: datetime, high: datetime, apart: timedelta) -> list[Span]:
    people = addresses_of(call, "people")
    resources = {name.lower() for name in call.value("resources", ())}
    names = list(dict.fromkeys([*call.calendars, *call.value("resources", ())]))
    taken: list[Span] = []
    day = timedelta(days=1)
    for name in names:
        calendar = call.stage.calendar(name)
        events = calendar.find_between(low - day, high + day)
        whose = () if name.lower() in resources else people
        taken += busy_spans(events, calendar.zone, whose, 1 if whose else calendar.clash_rule.holds)
    for address in people:
        taken += _published(call, address, low, high)
    return joined((begin - apart, end + apart) for begin, end in taken)


def _published(call: StepCall, address: str, low: datetime, high: datetime) -> list[Span]:
    """When somebody is busy by what they publish elsewhere, if they do.

    Raises RowFault where that does not tell of the whole time or cannot be read, PlaceTrouble.
    """
    person = call.people.find(address)
    try:
        told = call.stage.busy_elsewhere(address, low, high)
    except SourceFault as fault:
        raise RowFault(fault.message, where=fault.where, fix=fault.fix) from fault
    if told is None or person is None or person.busy_at is None:
        return []
    where = person.busy_at.where
    if (told.begin is not None and low < told.begin) or (told.end is not None and high > told.end):
        ends = [
            f"{word} {show_value(end.astimezone(call.scope.zone))}"
            for word, end in (("from", told.begin), ("until", told.end))
            if end is not None
        ]
        raise RowFault(f"{where} says when {person.name} is busy only {' '.join(ends)}")
    return told.busy


def _check(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    for word in ("from", "until"):
        if word not in given:
            yield "", f"{word} is missing", "say from when until when it is looked for"


FIND_FREE_TIME = StepDefinition(
    sentence=Sentence("find free-time in CALENDARS"),
    meaning="Gives the stretches of time in which all these calendars are free for long enough, in order: a list, "
    "perhaps empty, each with start, end and length. With people, only events count that one of them attends and has "
    "not declined, and events that name nobody. What is not busy, or cancelled, takes no time; tentative events do.",
    fields=(
        FROM,
        UNTIL,
        FieldDefinition("length", "duration", "How long it has to be.", default="1 hour", example="45 minutes"),
        FieldDefinition("people", "people", "Whose time it is.", example='"ines", "tomas"'),
        FieldDefinition(
            "resources", "calendars", "Calendars that have to be free altogether, whoever booked them.", example="domes"
        ),
        FieldDefinition(
            "between",
            "between",
            "Only between these times of day, also over midnight. On named days the working hours, unless said.",
            default="the whole day",
            example="20:00 and 05:00",
        ),
        FieldDefinition("days", "weekdays", "Only on these days of the week.", example="weekdays"),
        FieldDefinition("apart", "duration", "How far from what is before and after.", example="15 minutes"),
        FieldDefinition(
            "every",
            "duration",
            "Cuts stretches into starts so far apart, each as long as length.",
            example="30 minutes",
        ),
        FieldDefinition("each", "choice", "With day the first of each day alone.", choices=("day",), example="day"),
        FieldDefinition("first", "number", "So many at most.", example="3"),
    ),
    reads_only=True,
    makes=lambda place: list_of(gap_type(place)),
    check_fields=_check,
    example='find free-time in staff, domes as gaps\n  people  "ines", "tomas"\n  length  1 hour\n  from    tomorrow\n'
    "  until   tomorrow + 7 days\n  days    weekdays\n  apart   15 minutes\n  first   3",
    act=_act,
)
