"""An invitation that came in as a thing in a workflow: whose it is, and the event that it is about."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.reader import read_events
from whenvoca.engine.things.email import CALENDAR, METHOD, EmailThing
from whenvoca.engine.things.event import EventThing, event_type
from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.types import MOMENT, TEXT, Type, list_of, thing

_OWN = ("kind", "to", "sender", "sent")


def invitation_type(place: PlaceInfo | None = None) -> Type:
    """The type of an invitation: its own fields, and those of its event."""
    own = {"kind": TEXT, "to": list_of(TEXT), "sender": TEXT, "sent": MOMENT}
    return thing("invitation", {**event_type(place).fields, **own})


INVITATION_FIELDS = frozenset(invitation_type().fields)


class InvitationThing(EmailThing):
    """An invitation as it came in by email."""

    __slots__ = ("__dict__",)

    def __init__(self, key: str, state: Mapping[str, Any], place: str, zone: ZoneInfo) -> None:
        super().__init__(key, state, place, zone)
        self.zone = zone

    @cached_property
    def events(self) -> list[Event]:
        """The components of the event: the whole one first, then its changed occurrences."""
        found = read_events(str(self.state.get(CALENDAR) or "").encode(), self.zone)
        return sorted(found, key=lambda each: each.occurrence is not None)

    @property
    def event(self) -> Event:
        """The event, or the occurrence, that it is about."""
        return self.events[0]

    @property
    def is_cancelled(self) -> bool:
        """Whether it takes the event back."""
        return self.state.get(METHOD) == "CANCEL"

    @property
    def invited(self) -> str:
        """The address of ours that is invited: of those that the email was written to, the one that attends."""
        written = [str(each) for word in ("to", "copies") for each in self.state.get(word) or ()]
        attending = {each.address.lower(): each.address for event in self.events for each in event.attendees}
        return next((attending[each.lower()] for each in written if each.lower() in attending), "")

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of an invitation."""
        if word == "kind":
            return "cancelled" if self.is_cancelled else "changed" if self.event.sequence else "new"
        if word in ("to", "sender", "sent"):
            return super().value_of(word)
        if word == "address":
            return None
        return EventThing(self.event, self.place, "", self.zone).value_of(word)
