"""The step `keep invitation in CALENDAR`: its event, tentative, for as long as its organizer wants it."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.state import event_key
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change, to_creation, to_deletion
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.engine.things.event import EventThing, event_type
from whenvoca.engine.things.invitation import InvitationThing
from whenvoca.errors import RowFault
from whenvoca.language.definitions import PlaceInfo, Sentence, StepDefinition
from whenvoca.language.types import Type, list_of, thing
from whenvoca.steps.dated_effects import EVENT_EFFECTS

_LOOKED_AT = timedelta(days=731)  # how far occurrences are held against what is in the calendar
_TAKEN_OVER = ("title", "start", "end", "location", "details", "rule", "excluded", "added", "periods", "attendees")


def kept_type(place: PlaceInfo | None = None) -> Type:
    """The type of the event that is kept: an event, with what it clashes with."""
    return thing("event", {**event_type(place).fields, "clashes": list_of(event_type(place))})


class ClashingEvent(EventThing):
    """An event that takes the time already. Others learn of it only when it is."""

    @property
    def is_private(self) -> bool:
        """It is, whatever it says of itself: who invites is an outsider."""
        return True


class KeptEvent(EventThing):
    """The event that is kept, with what it clashes with."""

    def __init__(self, kept: EventThing, clashes: list[ClashingEvent], zone: Any) -> None:
        super().__init__(kept.event, kept.place, str(kept.value_of("address") or ""), zone)
        self.clashes = clashes

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of it."""
        return list(self.clashes) if word == "clashes" else super().value_of(word)


def invitation_of(call: StepCall) -> InvitationThing:
    """The invitation that the workflow is about. Raises RowFault where it is about something else, or it says
    nothing."""
    invitation: Any = call.subject
    if not isinstance(invitation, InvitationThing):
        raise RowFault("the workflow is not about an invitation")
    if not invitation.events:
        raise RowFault("the invitation has no event that can be read", where=invitation.where_is(""))
    organizer = invitation.event.organizer
    if not organizer:
        raise RowFault("the invitation names no organizer", where=invitation.where_is(""))
    if organizer.lower() not in (invitation.value_of("sender") or "").lower():
        raise RowFault(
            f"the invitation is of {organizer}, and {invitation.value_of('sender')} has sent it",
            where=invitation.where_is(""),
            fix="ask its organizer",
        )
    return invitation


def _act(call: StepCall) -> Acting:
    invitation = invitation_of(call)
    calendar = call.stage.calendar(call.place)
    organizer = invitation.event.organizer.lower()
    stored = calendar.find_event(invitation.event.uid)
    if stored is not None and stored.event.organizer.lower() != organizer:
        raise RowFault(f'"{stored.event.title}" has another organizer; it is left as it is', where=f"{calendar.name}")
    if invitation.is_cancelled:
        yield from _cancel(call, invitation, stored)
        return None
    for event in invitation.events:
        yield from _keep(call, event)
    now = call.stage.find_event(calendar.name, event_key(invitation.event.uid, invitation.event.occurrence))
    if now is None:
        return None
    clashes = [
        ClashingEvent(each, calendar.name, "", calendar.zone)
        for each in call.stage.find_clashes(calendar.name, now.event, _LOOKED_AT)
    ]
    return KeptEvent(call.stage.to_thing(calendar.name, now.event), clashes, calendar.zone)


def _cancel(call: StepCall, invitation: InvitationThing, stored: StoredEvent | None) -> Acting:
    """What the organizer has cancelled goes: the whole event, or these occurrences."""
    if stored is None:
        return
    for event in invitation.events:
        key = event_key(event.uid, event.occurrence)

        def decide(key: str = key) -> Effect | None:
            found = call.stage.find_event(call.place, key)
            return None if found is None else to_deletion(found, call.stage.calendar(call.place).name, key)

        yield from retry_on_conflict(decide)


def _keep(call: StepCall, event: Event) -> Acting:
    """One component: made where it is not there, else changed as the organizer has it now."""
    place, key = call.stage.calendar(call.place).name, event_key(event.uid, event.occurrence)
    wanted = replace(event, busy="tentative", alarms=(), origin="", extra=(), cancelled=False)
    if call.stage.find_event(place, event.uid) is None:
        yield to_creation(replace(wanted, occurrence=None) if event.occurrence else wanted, place, 1)
        return

    def decide() -> Effect | None:
        found = call.stage.find_event(place, key)
        if found is None:
            return None
        taken = {name: getattr(wanted, name) for name in _TAKEN_OVER if event.occurrence is None or name != "rule"}
        moved = (found.event.start, found.event.end) != (wanted.start, wanted.end)
        busy = "tentative" if moved else found.event.busy  # it has to be answered anew
        new = replace(found.event, **taken, busy=busy, sequence=max(event.sequence, found.event.sequence))
        return to_change(found, new, place, key)

    yield from retry_on_conflict(decide)


KEEP_INVITATION = StepDefinition(
    sentence=Sentence("keep invitation in CALENDAR"),
    meaning="Keeps the event of the invitation: it is made tentative, changed as its organizer changes it, and taken "
    "away when they cancel it; under the organizer's UID, and for nobody but the organizer. NAME.clashes lists what "
    "takes the time of any of its occurrences within two years; of that, others are told only when it is. Where the "
    "invitation is cancelled NAME is empty.",
    makes=kept_type,
    thing="event",
    is_making=True,
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.change, EVENT_EFFECTS.delete),
    example="keep invitation in library as meeting",
    act=_act,
)
