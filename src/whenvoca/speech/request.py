"""What a text was understood as: plain data, the same for every way it came in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime, time
from typing import Any, Literal
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.calendars.event import Event
from whenvoca.calendars.free_time import Span

Intent = Literal["create", "change", "delete", "query", "free", "none", "ask", "undo", "yes", "no", "choose"]


class Because(Struct, frozen=True):
    """Why something was read so: the words, where they stand, and what they were read as."""

    text: str
    span: tuple[int, int]
    read_as: str


class Wish(Struct):
    """One event that is wished for. ``end`` is the first moment free again; whole days have dates."""

    title: str = ""
    start: datetime | date | None = None
    end: datetime | date | None = None
    location: str = ""
    attendees: list[str] = field(default_factory=list)
    repeat: str = ""
    reminder: int | None = None  # minutes before the start
    left_out: list[datetime | date] = field(default_factory=list)  # starts that its repetition leaves out

    def to_json(self) -> dict[str, Any]:
        """As JSON has it."""
        is_whole = self.start is not None and not isinstance(self.start, datetime)
        last = None
        if is_whole and self.end is not None:
            from datetime import timedelta

            last = (self.end - timedelta(days=1)).isoformat()
        return {
            "title": self.title or None,
            "start": self.start.isoformat() if self.start else None,
            "end": self.end.isoformat() if self.end else None,
            "whole_day": is_whole,
            "all_day": is_whole,  # its old name, until 0.2
            "last_day": last,
            "location": self.location or None,
            "attendees": self.attendees,
            "repeat": self.repeat or None,
            "except": [each.isoformat() for each in self.left_out],
            "reminders": [] if self.reminder is None else [self.reminder],
            "alarm_minutes": self.reminder,  # its old name, until 0.2
        }


class Target(Struct, frozen=True):
    """An event that is meant: in which calendar, and which one."""

    calendar: str
    event: Event

    def to_json(self, changes: Mapping[str, Any] | None = None) -> dict[str, Any]:
        """As JSON has it, with the changes that are of this one alone."""
        occurrence = self.event.occurrence
        told = occurrence.isoformat() if occurrence else None
        return {"uid": self.event.uid, "occurrence": told, "changes": dict(changes or {})}


class Request(Struct):
    """A text as it was understood."""

    intent: Intent = "none"
    events: list[Wish] = field(default_factory=list)
    targets: list[Target] = field(default_factory=list)
    scope: str = "this"
    changes: dict[str, Any] = field(default_factory=dict)
    own_changes: list[dict[str, Any]] = field(default_factory=list)  # of each target, where they differ
    period: tuple[datetime, datetime] | None = None
    count: int | None = None
    free: bool | None = None
    slots: list[tuple[datetime, datetime]] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    question: str = ""
    because: list[Because] = field(default_factory=list)
    wants_count: bool = False  # how many was asked for
    seconds: int | None = None  # how much time the targets took, where that was asked for
    shares: list[tuple[str, int]] | None = None  # of whom how many of these seconds, where that was asked for
    searches: bool = False  # free time was looked for: ``slots`` is the answer
    asks_busy: bool = False  # whether it is busy was asked for, not whether it is free
    choice: list[int] = field(default_factory=list)  # of a numbered question
    purpose: str = ""  # of a question: what is done when it is answered
    home: str = ""  # the calendar that new events go into, where it was asked for
    wants_details: bool = False  # of each event, not when it is alone
    text: str = ""  # what was said
    today: date | None = None  # when it was said: other years are told
    offers: list[Request] = field(default_factory=list)  # readings to choose from
    answer: str = ""  # to small talk

    def changes_of(self, target: Target) -> dict[str, Any]:
        """What is changed of one of the targets."""
        if not self.own_changes:
            return self.changes
        return {**self.changes, **self.own_changes[self.targets.index(target)]}

    def to_json(self) -> dict[str, Any]:
        """As docs/json.md says."""

        def plain(value: Any) -> Any:
            if isinstance(value, datetime | date):
                return value.isoformat()
            return [plain(each) for each in value] if isinstance(value, list | tuple) else value

        known = ("create", "change", "delete", "query", "free", "none", "ask")
        return {
            "intent": self.intent if self.intent in known else "none",
            "events": [each.to_json() for each in self.events],
            "targets": [
                each.to_json({name: plain(value) for name, value in _json_changes(own).items()})
                for each, own in zip(self.targets, self.own_changes or [{}] * len(self.targets), strict=True)
            ],
            "scope": self.scope,
            "changes": {name: plain(value) for name, value in _json_changes(self.changes).items()},
            "period": {"from": self.period[0].isoformat(), "until": self.period[1].isoformat()}
            if self.period
            else None,
            "answer": {
                "count": self.count,
                "free": self.free,
                "slots": plain(self.slots),
                "hours": None if self.seconds is None else round(self.seconds / 3600, 2),
            },
            "missing": self.missing,
            "question": self.question or None,
            "offers": [each.to_json() for each in self.offers],
            "because": [{"text": each.text, "span": list(each.span), "read_as": each.read_as} for each in self.because],
        }


def _json_changes(changes: Mapping[str, Any]) -> Mapping[str, Any]:
    if "reminder" not in changes:
        return changes
    others = {name: value for name, value in changes.items() if name != "reminder"}
    return {
        **others,
        "reminders": [changes["reminder"]],
        "alarm": changes["reminder"],
    }  # alarm: its old name, until 0.2


# Given an address and two moments, when somebody is busy between these besides what the agenda says.
BusyBesides = Callable[[str, datetime, datetime], Sequence[Span]]


class Surroundings(Struct, frozen=True):
    """What a text is read among: the moment, the zone, the agenda, the people, the workspace's habits, and what was
    said before."""

    now: datetime
    zone: ZoneInfo
    agenda: Sequence[Target] = ()
    people: Sequence[str] = ()
    order: str = ""  # day first, month first, or nothing: then 03/04 is asked about
    length: int = 60  # minutes of an event whose end is not said
    hours: tuple[time, time] = (time(8, 30), time(17, 30))
    workdays: tuple[int, ...] = (0, 1, 2, 3, 4)
    last: Sequence[Target] = ()  # what was spoken of last
    pending: Request | None = None  # a question that waits for its answer
    addresses: Mapping[str, str] = field(default_factory=dict)  # of people, by their lower-case names
    speaker: str = ""  # the address of who asks, where it is known
    busy: BusyBesides = lambda address, low, high: ()
    """What is known of when somebody is busy besides the agenda."""
    contacts: Mapping[str, str] = field(default_factory=dict)  # addresses by the lower-case names that attendees go by

    @property
    def names(self) -> dict[str, str]:
        """Everybody who may be named, in lower case, with what stands for them: a name of the workspace, or an
        address."""
        return {**self.contacts, **{name.lower(): name for name in self.people}}
