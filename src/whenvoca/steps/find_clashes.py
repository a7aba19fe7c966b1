"""The step `find clashes in`: what is booked twice."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from whenvoca.calendars.clashing import WAYS, Clash, TakenTime, find_clashes
from whenvoca.calendars.state import from_state, to_state
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.place_protocols import Found
from whenvoca.engine.things.event import event_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, PlaceInfo, Sentence, StepDefinition
from whenvoca.language.evaluation import Thing
from whenvoca.language.types import MOMENT, TEXT, Type, list_of, thing
from whenvoca.steps.windows import FROM, UNTIL, check_window, window

_MOST = 10_000


def clash_type(place: PlaceInfo | None = None) -> Type:
    """The type of a clash."""
    event = event_type(place)
    return thing("clash", {"what": TEXT, "by": TEXT, "first": event, "second": event, "start": MOMENT, "end": MOMENT})


class ClashThing:
    """Two events that take the same time."""

    def __init__(self, fields: dict[str, Any]) -> None:
        self._fields = fields

    @property
    def key(self) -> str:
        """What makes it the same clash."""
        return f"{self._fields['by']} {self._fields['what']} {self._fields['first'].key} {self._fields['second'].key}"

    def where_is(self, word: str) -> str:
        """Which clash."""
        return f"the clash at {self._fields['what']}"

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is none of its fields."""
        return self._fields[word]


def _act(call: StepCall) -> Acting:
    yield from ()
    low, high = window(call)
    if low is None or high is None:
        raise RowFault("from and until are empty", fix="say from when until when it is looked for")

    def search() -> list[Found]:
        held, zones, rules = [], {}, {}
        for name in call.calendars:
            calendar = call.stage.calendar(name)
            zones[calendar.name], rules[calendar.name] = calendar.zone, calendar.clash_rule
            events = calendar.find_between(low - timedelta(days=1), high)
            held += [TakenTime(calendar.name, each) for each in events if not each.cancelled]
        clashes = find_clashes(held, zones, call.value("by", ("calendar",)), rules)
        within = [each for each in clashes if each.end > low and each.start < high]
        if len(within) > _MOST:
            raise RowFault(f"there are more than {_MOST:,} clashes", fix="look in a shorter time")
        return [found for each in within for found in _recorded(each)]

    found = call.where.recalled(search)
    pairs = zip(found[::2], found[1::2], strict=True)
    return [ClashThing(_fields(call, first, second)) for first, second in pairs]


def _recorded(clash: Clash) -> list[Found]:
    """A clash as the journal keeps it: both events, and what they share with the first."""
    shared = {"way": clash.way, "what": clash.what, "start": clash.start, "end": clash.end}
    return [
        Found(
            clash.first.calendar, "first", {**to_state(clash.first.event), **{f"@{k}": v for k, v in shared.items()}}
        ),
        Found(clash.second.calendar, "second", to_state(clash.second.event)),
    ]


def _fields(call: StepCall, first: Found, second: Found) -> dict[str, Any]:
    state = dict(first.state)
    way, what, start, end = (state.pop(f"@{name}") for name in ("way", "what", "start", "end"))
    person = call.people.find(what) if way == "person" else None

    def event(place: str, told: Any) -> Thing:
        return call.stage.to_thing(place, from_state(told))

    zone = call.scope.zone
    return {
        "what": person.name if person is not None else what,
        "by": way,
        "first": event(first.place, state),
        "second": event(second.place, second.state),
        "start": start.astimezone(zone),
        "end": end.astimezone(zone),
    }


FIND_CLASHES = StepDefinition(
    sentence=Sentence("find clashes in CALENDARS"),
    meaning="Gives each pair of events that take the same time, in order of when: what (the calendar, the location or "
    "the person), by (in which of these ways), first, second, and start and end of the time that they share. What is "
    "not busy, cancelled or declined takes no time.",
    fields=(
        FROM,
        UNTIL,
        FieldDefinition(
            "by",
            "choices",
            "Whose time it is that is taken twice: that of a calendar, a location, a person; or several.",
            choices=WAYS,
            default="calendar",
            example="location, person",
        ),
    ),
    reads_only=True,
    makes=lambda place: list_of(clash_type(place)),
    check_fields=check_window,
    example="find clashes in domes, outreach as clashes\n  from   now\n  until  today + 14 days\n"
    "  by     location, person",
    act=_act,
)
