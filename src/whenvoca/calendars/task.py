"""The task as workflows see it: RFC 5545 3.6.2 (VTODO), which shares most of its properties with an event."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event, to_start

_ENDLESS = datetime(9999, 1, 1, tzinfo=UTC)  # where a task without start and due stands in an order of time


class Task(Event, frozen=True, kw_only=True):
    """One task of a list. ``start`` and ``end`` (its DUE) may be missing; ``finished`` is when it was ticked off.

    ``section`` is kept as its category, ``person`` as its one attendee, ``source`` as RELATED-TO: the UID or key of
    what the task was made from.
    """

    start: datetime | date | None = None  # type: ignore[assignment]
    end: datetime | date | None = None  # type: ignore[assignment]
    section: str = ""
    person: str = ""
    person_mail: str = ""  # where the person is known by another name
    finished: datetime | None = None
    source: str = ""

    @property
    def is_whole_day(self) -> bool:
        """Whether it is meant by days."""
        return not isinstance(self.start or self.end, datetime) and (self.start or self.end) is not None

    @property
    def takes_time(self) -> bool:
        """A task takes nobody's time."""
        return False

    def span(self, zone: ZoneInfo) -> tuple[datetime, datetime]:
        """Start and due as moments, for an order of time; one without either comes last."""
        first = self.start or self.end
        last = self.end or self.start
        begin = _ENDLESS if first is None else to_start(first, zone)
        return begin, _ENDLESS if last is None else to_start(last, zone)

    def content(self) -> dict[str, Any]:
        """What a person sees of it, by the language's field names."""
        return {
            "title": self.title,
            "start": self.start,
            "due": self.end,
            "section": self.section,
            "person": self.person.lower(),
            "details": self.details,
            "priority": self.priority,
            "reminder": list(self.alarms),
            "finished": self.finished,
            "source": self.source,
        }


PROPERTIES = {
    "title": ("SUMMARY",),
    "start": ("DTSTART",),
    "due": ("DUE", "DURATION"),
    "section": ("CATEGORIES",),
    "person": ("ATTENDEE",),
    "details": ("DESCRIPTION",),
    "priority": ("PRIORITY",),
    "finished": ("COMPLETED", "STATUS", "PERCENT-COMPLETE"),
    "source": ("RELATED-TO",),
}


def due_after(start: datetime | date, length: timedelta) -> datetime | date:
    """When a task is due that begins then and takes so long (DURATION)."""
    return (start.astimezone(UTC) + length).astimezone(start.tzinfo) if isinstance(start, datetime) else start + length
