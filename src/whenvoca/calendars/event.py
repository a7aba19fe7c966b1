"""The event as workflows see it: RFC 5545 (VEVENT) with RFC 7986 (COLOR), in the language's own field names."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, date, datetime, timedelta
from typing import Any, Literal
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.values.durations import Duration
from whenvoca.values.zones import first_moment

COMMENT = "X-WHENVOCA-COMMENT"  # a parameter of ATTENDEE
Busy = Literal["yes", "no", "tentative", "unavailable"]


class Attendee(Struct, frozen=True):
    """One ATTENDEE (RFC 5545 3.8.4.1): ``answer`` is the PARTSTAT, empty while nothing was asked."""

    address: str
    optional: bool = False
    answer: str = ""
    answer_wanted: bool = False
    name: str = ""
    comment: str = ""  # what they said with their answer

    @property
    def has_answered(self) -> bool:
        """Whether they said whether they come."""
        return self.answer.upper() not in ("", "NEEDS-ACTION")


class Event(Struct, frozen=True, kw_only=True):
    """One event, or the master of a series. ``end`` is the first moment (or day) free again.

    A whole-day event has dates, any other aware datetimes. ``alarms`` are spans relative to the start, negative before
    it.
    """

    uid: str
    title: str = ""
    start: datetime | date
    end: datetime | date
    location: str = ""
    details: str = ""
    attendees: tuple[Attendee, ...] = ()
    organizer: str = ""
    alarms: tuple[Duration, ...] = ()
    rule: str = ""  # the RRULE's value
    excluded: tuple[datetime | date, ...] = ()  # EXDATE
    exception_rules: tuple[str, ...] = ()  # EXRULE, of RFC 2445
    added: tuple[datetime | date, ...] = ()  # RDATE
    periods: tuple[tuple[datetime, datetime], ...] = ()  # RDATE;VALUE=PERIOD: each with its own end
    occurrence: datetime | date | None = None  # RECURRENCE-ID
    and_later: bool = False  # RANGE=THISANDFUTURE: changed together with all occurrences after it
    later: tuple[Event, ...] = ()  # of a series: those of its changed occurrences that are ``and_later``, in order
    busy: Busy = "yes"
    priority: int = 0
    colour: str = ""
    categories: tuple[str, ...] = ()
    private: bool = False
    url: str = ""
    meeting_link: str = ""  # CONFERENCE (RFC 7986 5.11): where one joins from afar
    origin: str = ""  # our mark, X-WHENVOCA-ORIGIN
    sequence: int = 0
    cancelled: bool = False
    extra: tuple[str, ...] = ()  # content lines to be written as they are: what nothing here reads, or what stood

    @property
    def is_whole_day(self) -> bool:
        """Whether it takes whole days."""
        return not isinstance(self.start, datetime)

    @property
    def is_series(self) -> bool:
        """Whether it has more dates than its start."""
        return bool(self.rule or self.added or self.periods)

    @property
    def last_day(self) -> date:
        """The last day it takes something of."""
        if isinstance(self.end, datetime):
            return (self.end - timedelta(microseconds=1)).date() if self.end > self.start else self.end.date()
        return self.end - timedelta(days=1) if self.end > self.start else self.start

    @property
    def takes_time(self) -> bool:
        """Whether it makes its time taken (TRANSP, and not cancelled)."""
        return self.busy != "no" and not self.cancelled

    def span(self, zone: ZoneInfo) -> tuple[datetime, datetime]:
        """Start and end as moments; whole days begin and end with the first moments of their days in ``zone``."""
        return to_start(self.start, zone), to_start(self.end, zone)

    @property
    def answers(self) -> dict[str, str]:
        """What attendees have answered, by their addresses in lower case: accepted, declined, tentative, delegated."""
        return {each.address.lower(): each.answer.lower() for each in self.attendees if each.has_answered}

    def content(self) -> dict[str, Any]:
        """What a person sees of it, by the language's field names: for comparing and for telling changes.

        Moments compare as moments, whichever zone writes them; attendees by address.
        """
        return {
            "title": self.title,
            "start": self.start,
            "end": self.end,
            "location": self.location,
            "details": self.details,
            "attendees": sorted([each.address.lower() for each in self.attendees if not each.optional]),
            "optional": sorted([each.address.lower() for each in self.attendees if each.optional]),
            "answers": sorted(f"{address}: {word}" for address, word in self.answers.items()),
            "reminder": list(self.alarms),
            "repeat": ";".join(sorted(self.rule.split(";"))) if self.rule else "",
            "busy": self.busy,
            "priority": self.priority,
            "colour": self.colour.lower(),
            "category": sorted(self.categories),
            "private": self.private,
            "meeting-link": self.meeting_link,
        }


_ATTRIBUTES = {
    "reminder": "alarms",
    "repeat": "rule",
    "category": "categories",
    "due": "end",
    "meeting-link": "meeting_link",
}


def from_content(uid: str, kind: type[Event], fields: Mapping[str, Any]) -> Event:
    """An event, or a task, with these fields as ``content`` tells them."""
    given: dict[str, Any] = {
        _ATTRIBUTES.get(name, name): tuple(value) if isinstance(value, list) else value
        for name, value in fields.items()
        if name not in ("attendees", "optional", "answers")
    }
    needed, optional = fields.get("attendees", ()), fields.get("optional", ())
    attendees = tuple(Attendee(each, optional=each in optional) for each in (*needed, *optional))
    return kind(uid=uid, attendees=attendees, **given)


def to_start(value: datetime | date, zone: ZoneInfo) -> datetime:
    """A moment as it is; a date as its first moment in ``zone``."""
    return value if isinstance(value, datetime) else first_moment(value, zone)


def changed_fields(old: Event, new: Event, *, with_answers: bool = False) -> dict[str, tuple[Any, Any]]:
    """Each field in which the two differ, with its old and its new value. What attendees answer is no change of the
    event, unless it is asked for."""
    before, after = old.content(), new.content()
    return {
        name: (before[name], after[name])
        for name in before
        if (name != "answers" or with_answers) and not _is_equal(before[name], after[name])
    }


def _is_equal(old: Any, new: Any) -> bool:
    if isinstance(old, datetime) and isinstance(new, datetime):
        return old.astimezone(UTC) == new.astimezone(UTC)
    return type(old) is type(new) and bool(old == new)
