"""The event as a thing in a workflow: its fields by the language's names."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.state import event_key
from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.types import ANY, DATE, DURATION, MOMENT, NUMBER, TEXT, YES_NO, Type, list_of, thing
from whenvoca.values.durations import Duration

ANSWERS = ("accepted", "declined", "unanswered")  # who has answered so


def event_type(place: PlaceInfo | None = None) -> Type:
    """The type of an event: each field that a workflow can read."""
    texts = "title zone location details repeat busy colour uid address calendar organizer meeting-link".split()
    fields: dict[str, Type] = dict.fromkeys(texts, TEXT)
    fields |= {
        "start": MOMENT,
        "end": MOMENT,
        "length": DURATION,
        "first-day": DATE,
        "last-day": DATE,
        "priority": NUMBER,
    }
    fields |= {
        "attendees": list_of(TEXT),
        "optional": list_of(TEXT),
        "reminder": list_of(DURATION),
        "category": list_of(TEXT),
        **dict.fromkeys(ANSWERS, list_of(TEXT)),
    }
    fields |= {"private": YES_NO, "whole-day": YES_NO, "busy": ANY}
    return thing("event", {**fields, "travel": list_of(thing("event", fields))})


# they are the event's own
_PLAIN = frozenset(["title", "location", "details", "busy", "priority", "colour", "private", "uid", "organizer"])
EVENT_FIELDS = frozenset(event_type().fields)


class EventThing:
    """An event at its calendar: ``place`` is the calendar's name."""

    __slots__ = ("_address", "_travel", "_zone", "event", "place")

    def __init__(
        self,
        event: Event,
        place: str,
        address: str,
        zone: ZoneInfo,
        travel: Callable[[str], Sequence[Event]] = lambda key: (),
    ) -> None:
        self.event = event
        self.place = place
        self._address = address
        self._zone = zone
        self._travel = travel

    @property
    def uid(self) -> str:
        """The UID."""
        return self.event.uid

    @property
    def is_private(self) -> bool:
        """Whether others see no more of it than its time."""
        return self.event.private

    @property
    def key(self) -> str:
        """What makes it the same event: the UID, for an occurrence with its original start."""
        return event_key(self.event.uid, self.event.occurrence)

    def where_is(self, word: str) -> str:
        """The calendar and the title."""
        return f'{self.place}, "{self.event.title}"'

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of an event."""
        event = self.event
        if word in _PLAIN:
            return getattr(event, word)
        if word == "address":
            return self._address or None
        start, end = event.span(self._zone)
        match word:
            case "start":
                return start
            case "end":
                return end
            case "length":
                return Duration.between(start, end)
            case "first-day":
                return event.start.date() if isinstance(event.start, datetime) else event.start
            case "last-day":
                return event.last_day
            case "zone":
                return getattr(start.tzinfo, "key", "UTC")
            case "attendees" | "optional":
                return [each.address for each in event.attendees if each.optional == (word == "optional")]
            case "accepted" | "declined":
                return [each.address for each in event.attendees if each.answer.lower() == word]
            case "unanswered":
                return [each.address for each in event.attendees if not each.has_answered]
            case "reminder" | "alarm":
                return list(event.alarms)
            case "category":
                return list(event.categories)
            case "whole-day":
                return event.is_whole_day
            case "repeat":
                return event.rule or None
            case "meeting-link":
                return event.meeting_link or None
            case "calendar":
                return self.place
            case "travel":
                return [EventThing(each, self.place, "", self._zone) for each in self._travel(self.key)]
        raise KeyError(word)
