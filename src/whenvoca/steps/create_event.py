"""The step `create event in CALENDAR`."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.engine.acting.dated_changes import to_change, to_creation
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.meeting_links import write_with_link
from whenvoca.engine.acting.stage import ExistingThing, Missing
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.things.event import event_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import Sentence, StepDefinition
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.dated_kinds import DatedKind, kind_of
from whenvoca.steps.event_fields import EVENT_FIELDS, check_fields, heed_clashes
from whenvoca.steps.meeting_links import LINK_EFFECTS, linked


def create_thing(call: StepCall) -> Acting:
    """Makes the event or task that the step describes, unless it stands.

    Raises RowFault where a field cannot be read or its time is taken.
    """
    kind = kind_of(call)
    calendar = call.stage.calendar(call.place)
    lineage = call.lineage
    made = call.stage.find_made(calendar.name, lineage)
    if isinstance(made, Missing) and made.number == 1 and (adopted := _find_by_booking(call)) is not None:
        lineage, made = adopted
    notes: list[str] = []
    event = kind.make(call, lineage.to_uid(made.number), lineage.to_mark(), notes)
    event = heed_clashes(call, event, call.text("clash") or calendar.clash, notes)
    if isinstance(made, ExistingThing):
        event = replace(event, uid=made.stored.event.uid)
        event = yield from linked(call, event, made.stored.event.meeting_link)
        if changed_fields(made.stored.event, event):
            _refuse_another(call, made, lineage)
        receipt = yield _to_change(kind, made, event, calendar.name, lineage, notes)
    else:
        event = yield from linked(call, event, "")
        creation = to_creation(event, calendar.name, made.number, notes)
        receipt = yield from write_with_link(call.stage, event, creation)
    return call.stage.to_thing(calendar.name, event, receipt.address)


def _find_by_booking(call: StepCall) -> tuple[Any, ExistingThing] | None:
    """Without a ledger an edited row may still keep the UID of its event: that event is it, if this step made it."""
    calendar = call.stage.calendar(call.place)
    uid = getattr(call.subject, "booking", "")
    stored = calendar.find_event(uid) if uid else None
    lineage = call.lineage_of(stored.event.origin) if stored else None
    if stored is None or lineage is None:
        return None
    return lineage, ExistingThing(stored, 1, is_untouched=False)


def _refuse_another(call: StepCall, made: ExistingThing, lineage: Lineage) -> None:
    """Raises RowFault where the row was gone for a while since its event was made: it may be another row by now."""
    if call.stage.was_lost_since_made(call.about.place, call.about.key, lineage):
        raise RowFault(
            f'the {call.definition.adds} "{made.stored.event.title}" was made for an earlier row of this key, which '
            "was "
            f"deleted meanwhile; "
            "it is left as it is",
            fix="give the new row a key of its own, or take that event away and run again",
        )


def _to_change(
    kind: DatedKind, made: ExistingThing, event: Event, place: str, lineage: Lineage, notes: list[str]
) -> Effect:
    """What makes the event that is there the one that is wanted. Raises RowFault where somebody has changed it."""
    old, mark = made.stored.event, lineage.to_mark()
    wanted = replace(event, sequence=old.sequence + 1)
    change = to_change(made.stored, wanted, place, event.uid, notes, lineage=mark, number=made.number)
    if change is None:
        return Effect(
            verb=kind.verb("take"),
            place=place,
            target=event.uid,
            after={},
            stored=made.stored,
            event=old,
            lineage=mark,
            number=made.number,
            notes=tuple(notes),
        )
    if not made.is_untouched:
        said = ", ".join(change.after or {})
        raise RowFault(
            f'its {kind.noun} "{old.title}" stands already and was changed by another hand ({said}); it is left as it '
            "is",
            fix="change the event back, or take it away and run again",
        )
    return change


CREATE_EVENT = StepDefinition(
    sentence=Sentence("create event in CALENDAR"),
    meaning="Makes one event. Its identity comes from the row, so that a second run makes no second one.",
    fields=EVENT_FIELDS,
    makes=event_type,
    thing="event",
    is_making=True,
    adds="event",
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.change, EVENT_EFFECTS.take, *LINK_EFFECTS),
    check_fields=check_fields,
    example='create event in domes as slot\n  title  "{Target} with {Instrument}"\n  start  Night-of at From\n'
    "  end    Night-of at To",
    act=create_thing,
)
