"""What `answer message` does: a request in plain English carried out and answered, or a plain reply."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.inverse_effects import invert_run
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.conversing.conversing import ASKABLE, ASKED_BEFORE, Conversation, Deed, Manner, deed_from_text
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.people import Person
from whenvoca.engine.place_protocols import Found
from whenvoca.engine.things.message import MessageThing
from whenvoca.errors import RowFault
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value

_NOT_HEARD = "I could not make out what was dictated. Please type it."


def reply(call: StepCall) -> Acting:
    """Says something back."""
    message = _message_of(call)
    person = call.people.find(_text_of(message, "sender"))
    text = call.told("text", person.zone if person is not None else None)
    if text.strip():
        yield _to_sender(call, message, text, "reply")


def answer(call: StepCall) -> Acting:
    """Takes the message as a request, does it, and answers."""
    message = _message_of(call)
    text, sender, room = (_text_of(message, word) for word in ("text", "sender", "room"))
    if not text.strip():
        if message.value_of("dictated"):
            yield _to_sender(call, message, _NOT_HEARD, "reply")
        return
    sent = message.value_of("sent")
    talk = Conversation(
        call.stage,
        _manner(call),
        person=call.people.find(sender),
        sender=sender,
        room=room,
        identity=lambda n: _lineage(call, n),
    )
    if call.corrected:
        talk.forget_what_was_asked([each["sent"] for each in call.corrected.values()])
    heard = talk.hear(text, sent, is_anew=bool(call.corrected))
    (found,) = call.where.recalled(lambda: [Found("", "deed", {"deed": heard.to_text()})])
    deed = deed_from_text(found.state["deed"], talk.around)  # after a crash what was decided before
    said = f"{deed.reply} Left as it is: {'; '.join(call.left)}" if call.left else deed.reply
    fault: RowFault | None = None
    try:
        if deed.undoes:
            left: list[str] = []
            yield from _undo(call, deed, left)
            said += f" Left: {'; '.join(left)}" if left else ""
        elif deed.is_done:
            yield from talk.effects(deed.request)
    except RowFault as refused:
        fault, said, deed.is_done = refused, f"That failed: {refused.message}", False
    approver = _approver(call, talk, deed)
    if approver is not None:
        asked = talk.ask_another(deed, approver, sent)
        said = f"{approver.name} must approve this; "
        said += "I have asked them." if asked else "I ask them as soon as the questions before it are answered."
        if asked:
            yield _to(call, approver, asked, "question")
    elif deed.answers[0]:
        yield from _tell_asker(call, talk, deed, said)
    open_question = talk.remember(deed, call.run, sent, is_asked=approver is not None)
    yield _to_sender(call, message, said + open_question, "reply")
    if fault is not None:
        raise fault


def _undo(call: StepCall, deed: Deed, left: list[str]) -> Acting:
    """Takes back what an earlier run did; its messages stay, of course."""
    records = [each for each in call.stage.runs(deed.undoes) if each.undone is None]
    for record in records:
        yield from invert_run(call.stage, record, left)
    for record in records:
        call.stage.note_undone(call.run, record)


def _approver(call: StepCall, talk: Conversation, deed: Deed) -> Person | None:
    """Who else has to agree to what is asked for."""
    name = talk.needs_approver(deed)
    person = call.people.find(name) if name else None
    if name and person is None:
        raise RowFault(f'approver: there is nobody "{name}" in [people]')
    return person


def _tell_asker(call: StepCall, talk: Conversation, deed: Deed, said: str) -> Acting:
    """Who waited for another one's yes hears what came of it, where they asked."""
    name, room, _ = deed.answers
    person = call.people.find(name)
    zone = (person.zone if person is not None else None) or call.stage.workspace.zone
    told = talk.told_to_asker(deed, said, zone)
    if room:
        yield _effect(call, {"room": room, "text": f"{name}: {told}"}, "word")
    elif person is not None:
        yield _to(call, person, told, "word")


def _manner(call: StepCall) -> Manner:
    calendars = call.calendars
    writable = [name for name in calendars if not call.stage.calendar(name).info().readonly]
    before = call.value("ask-before")
    said = [show_value(each).strip().lower() for each in (before if isinstance(before, list | tuple) else [before])]
    asked = ASKED_BEFORE if is_empty(before) else tuple(said)
    for each in asked:
        if each not in (*ASKABLE, "nothing"):
            raise RowFault(f'ask-before is never "{each}"', fix=f"one or several of: {', '.join(ASKABLE)}, or nothing")
    length = call.value("length")
    return Manner(
        calendars=calendars,
        home=writable[0] if writable else "",
        length=60 if length is None else round(length.to_seconds() / 60),
        ask_before=asked,
        approver=call.text("approver").strip(),
    )


def _lineage(call: StepCall, number: int) -> Lineage:
    own = call.lineage
    return Lineage(own.root, own.workflow, own.subject, own.step, f"{own.repetition}{number}")


def _message_of(call: StepCall) -> MessageThing:
    message: Any = call.subject
    if not isinstance(message, MessageThing):
        raise RowFault("the workflow is not about a message")
    return message


def _text_of(message: MessageThing, word: str) -> str:
    return str(message.value_of(word) or "")


def _to_sender(call: StepCall, message: MessageThing, text: str, what: str) -> Effect:
    """A message back to where it came from: the room, or the sender alone."""
    room, sender = _text_of(message, "room"), _text_of(message, "sender")
    if room:
        return _effect(call, {"room": room, "text": text}, what)
    person = call.people.find(sender)
    if person is not None:
        return _to(call, person, text, what)
    return _effect(call, {"person": sender, "chat": sender, "text": text}, what)


def _to(call: StepCall, person: Person, text: str, what: str) -> Effect:
    return _effect(call, {"person": person.name, "chat": person.chat or person.name, "text": text}, what)


def _effect(call: StepCall, after: dict[str, Any], what: str) -> Effect:
    return Effect(verb="send message", place=call.about.place, target=call.occasion(what), after=after)
