"""What a conversation remembers (keys of events, never copies), and what a text is read among."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key, original_start, split_key
from whenvoca.engine.ledger.codec import encode
from whenvoca.engine.place_protocols import Calendar
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.speech.request import BusyBesides, Request, Surroundings, Target, Wish
from whenvoca.values.kinds import from_plain

QUIET = timedelta(minutes=30)  # after so long a conversation is forgotten
_MOST_RUNS = 20


class Asked(Struct):
    """A question put to somebody because another person asked for something: who, where and when, and when it was last
    put; empty while one before it waits for its answer."""

    request: Request
    who: str
    room: str
    at: str
    put: str = ""

    @property
    def key(self) -> tuple[str, str, str]:
        """What tells it from others."""
        return self.who, self.room, self.at


class Memory(Struct):
    """What a conversation remembers: what was spoken of last, the question that waits, the runs that may be undone, and
    the questions on behalf of others, the first of which is put."""

    last: list[Target] = field(default_factory=list)
    pending: Request | None = None
    runs: list[int] = field(default_factory=list)
    asked: list[Asked] = field(default_factory=list)

    def to_text(self, at: datetime) -> str:
        """As the ledger keeps it."""
        return encode(
            {
                "at": at.isoformat(),
                "last": [_key(each) for each in self.last],
                "runs": self.runs[-_MOST_RUNS:],
                "pending": None if self.pending is None else request_to_state(self.pending),
                "asked": [[request_to_state(each.request), *each.key, each.put] for each in self.asked],
            }
        )


def agenda_of(calendar: Callable[[str], Calendar], names: Sequence[str], *, hides: bool = False) -> list[Target]:
    """All events of these calendars, series once; ``hides``: of private ones only the times, since others read it.

    Raises PlaceTrouble where one cannot be reached.
    """
    calendars = [calendar(name) for name in names]
    found = [(each.name, event) for each in calendars for event in each.all_events()]
    return [Target(name, _hidden(event) if hides and event.private else event) for name, event in found]


def hide_private(request: Request) -> Request:
    """The request as a room may read it: private events without what they are about."""
    shown = [Target(each.calendar, _hidden(each.event)) if each.event.private else each for each in request.targets]
    return replace(request, targets=shown)


def _hidden(event: Event) -> Event:
    return replace(event, title="private", location="", attendees=())


def surroundings(
    workspace: Workspace,
    now: datetime,
    zone: ZoneInfo,
    agenda: Sequence[Target],
    *,
    length: int = 60,
    speaker: str = "",
    busy: BusyBesides = lambda address, low, high: (),
) -> Surroundings:
    """What a text is read among in a workspace; ``busy`` tells what is known of people besides the agenda."""
    return Surroundings(
        now,
        zone,
        agenda,
        people=sorted(workspace.people_names),
        order=workspace.dates if workspace.dates in ("day first", "month first") else "",
        length=length,
        hours=workspace.hours,
        contacts=contacts_of(agenda),
        addresses={name: each.mail for name, each in workspace.people.persons.items() if each.mail},
        speaker=speaker,
        busy=busy,
    )


def contacts_of(agenda: Sequence[Target]) -> dict[str, str]:
    """Attendees' addresses in the calendars, by their names, and by first names that only one has."""
    by_name: dict[str, set[str]] = {}
    for target in agenda:
        for each in target.event.attendees:
            name = each.name.lower().strip()
            for word in {name, *name.split()[:1]} if name and "@" not in name else ():
                by_name.setdefault(word, set()).add(each.address)
    return {name: min(addresses) for name, addresses in by_name.items() if len(addresses) == 1}


def recall(text: str, around: Surroundings) -> Memory:
    """What a conversation remembers; only the questions of others where it was quiet too long, and nothing where what
    is kept cannot be read."""
    if not text:
        return Memory()
    try:
        state = json.loads(text)
        asked = [Asked(request_from_state(each, around), *more) for each, *more in state.get("asked", [])]
        if around.now - datetime.fromisoformat(state["at"]) > QUIET:
            return Memory(asked=asked)
        memory = Memory(_found_all(state["last"], around), None, list(state["runs"]), asked)
        if state["pending"] is not None:
            memory.pending = request_from_state(state["pending"], around)
        return memory
    except (ValueError, KeyError, TypeError):
        return Memory()


def request_to_state(request: Request) -> dict[str, Any]:
    """A request as plain data."""
    return {
        "intent": request.intent,
        "scope": request.scope,
        "changes": [[name, value] for name, value in request.changes.items()],
        "missing": request.missing,
        "purpose": request.purpose,
        "text": request.text,
        "home": request.home,
        "question": request.question,
        "targets": [_key(each) for each in request.targets],
        "events": [
            [w.title, w.start, w.end, w.location, w.attendees, w.repeat, w.reminder, w.left_out] for w in request.events
        ],
        "own": [[[name, value] for name, value in each.items()] for each in request.own_changes],
        "period": list(request.period) if request.period is not None else [],
        "free": request.free,
        "details": request.wants_details,
        "offers": [request_to_state(each) for each in request.offers],
    }


def request_from_state(state: Mapping[str, Any], around: Surroundings) -> Request:
    """The request of ``request_to_state``, about the events as they stand now."""
    return Request(
        state["intent"],
        events=[_wish_from(each) for each in state["events"]],
        scope=state["scope"],
        changes={name: from_plain(value) for name, value in state["changes"]},
        own_changes=[{name: from_plain(value) for name, value in each} for each in state.get("own", [])],
        missing=list(state["missing"]),
        question=state["question"],
        targets=_found_all(state["targets"], around),
        purpose=state["purpose"],
        text=state["text"],
        home=state.get("home", ""),
        period=_period_from(state.get("period")),
        free=state.get("free"),
        wants_details=state.get("details", False),
        offers=[request_from_state(each, around) for each in state.get("offers", [])],
    )


def _wish_from(state: Sequence[Any]) -> Wish:
    wish = Wish(*[from_plain(value) for value in state[:7]])
    wish.left_out = [from_plain(value) for each in state[7:] for value in each]
    return wish


def _period_from(state: Any) -> tuple[datetime, datetime] | None:
    if not state:
        return None
    low, high = (from_plain(value) for value in state)
    return low, high


def _key(target: Target) -> list[str]:
    return [target.calendar, event_key(target.event.uid, target.event.occurrence)]


def _found_all(keys: Sequence[Sequence[str]], around: Surroundings) -> list[Target]:
    return [found for each in keys if (found := _found(each, around)) is not None]


def _found(key: Sequence[str], around: Surroundings) -> Target | None:
    calendar, wanted = key
    uid, original = split_key(wanted)[0], original_start(wanted)
    for each in around.agenda:
        if each.calendar != calendar or each.event.uid != uid:
            continue
        if event_key(uid, each.event.occurrence) == wanted:
            return each
        if original is not None and each.event.occurrence is None:
            found = occurrence_at(each.event, original, around.zone)
            if found is not None:
                return Target(calendar, found)
    return None
