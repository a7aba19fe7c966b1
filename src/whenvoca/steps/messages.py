"""The steps `send message to room …` and `send message to person …`."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, show_brief
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.steps.people import persons_of
from whenvoca.values.texts import show_value

_TEXT = FieldDefinition(
    "text", "text", "What is said. An empty text is not sent.", example='"{count(tonight)} bookings tonight"'
)


def _to_room(call: StepCall) -> Acting:
    room = show_value(call.sentence_value).strip()
    rooms = call.stage.rooms_of(call.place)
    if room not in rooms:
        raise RowFault(f'{call.place} has no room "{room}"', fix=f"rooms: {', '.join(rooms) or 'none'}")
    text = call.told("text", None)
    if text.strip():
        yield _message(call, call.occasion(room), {"room": room, "text": text})


def _to_person(call: StepCall) -> Acting:
    for person in persons_of(call):
        text = call.told("text", person.zone)
        if text.strip():
            yield _message(
                call,
                call.occasion(person.name),
                {"person": person.name, "chat": person.chat or person.name, "text": text},
            )


def _message(call: StepCall, number: str, after: dict[str, Any]) -> Effect:
    return Effect(verb="send message", place=call.place, target=number, after=after)


def name_addressee(effect: Effect) -> str:
    """Whom a message or email is for: a room, a person, or addresses."""
    after = effect.after or {}
    if after.get("room"):
        return show_brief(f"room {after['room']}")
    return show_brief(after.get("person") or after.get("for") or after.get("to"))


def message_number(target: str) -> str:
    """What names a message, without the one of several people for whom it is."""
    return target.partition(" ")[0]


MESSAGE_EFFECT = EffectKind(
    verb="send message",
    line=lambda effect: (
        f"to {name_addressee(effect)} in {effect.place}: {show_brief((effect.after or {}).get('text'))}"
    ),
    target=name_addressee,
    detail=lambda effect: str((effect.after or {}).get("text") or ""),
    counts_as=("message",),
    told_as=lambda effect: f"the message to {(effect.after or {}).get('room') or (effect.after or {}).get('person')}",
)
_MEANING = (
    "It is sent once; after a crash it may be sent again, under the same id, so that it can be told apart. Titles of "
    "private events "
    'stay out of it, unless the workflow says "private shown" above its trigger.'
)
SEND_TO_ROOM = StepDefinition(
    sentence=Sentence("send message to room ROOM in CHAT"),
    meaning="Says something in a room of a chat. " + _MEANING,
    fields=(_TEXT,),
    value_type="text",
    is_told=True,
    effects=(MESSAGE_EFFECT,),
    example='send message to room "dome-floor" in chat\n  text  "{event.title} begins at {event.start as time}"',
    act=_to_room,
)
SEND_TO_PERSON = StepDefinition(
    sentence=Sentence("send message to person PEOPLE in CHAT"),
    meaning="Says something to a person, or to each of several; times are told in their zone. " + _MEANING,
    fields=(_TEXT,),
    value_type="people",
    is_told=True,
    effects=(MESSAGE_EFFECT,),
    example='send message to person "ines" in chat\n  text  "The dome is free from {event.end as time}."',
    act=_to_person,
)
