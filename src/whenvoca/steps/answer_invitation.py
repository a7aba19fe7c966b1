"""The step `answer invitation`: accepted, declined or tentative, to its organizer (RFC 5546 3.2.3, RFC 6047)."""

from __future__ import annotations

import json
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.itip import to_reply, write_itip
from whenvoca.calendars.state import event_key
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change
from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.errors import PlaceTrouble, RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.keep_invitation import invitation_of
from whenvoca.steps.messages import name_addressee

_WORDS = ("accepted", "declined", "tentative")
_HEADS = {"accepted": "Accepted", "declined": "Declined", "tentative": "Tentative"}


def _act(call: StepCall) -> Acting:
    invitation = invitation_of(call)
    if invitation.is_cancelled:
        return  # nobody waits for an answer
    word = call.text("answer").strip().lower()
    if word not in _WORDS:
        raise RowFault(f'answer is never "{word}"', fix=f"it is one of: {', '.join(_WORDS)}")
    address = invitation.invited
    if not address:
        raise RowFault(
            "none of the addresses that the invitation was written to is among those invited",
            where=invitation.where_is(""),
        )
    if word != "declined":
        yield from _confirm(call, invitation.event, address, word)
    comment = call.told("text", None).strip()
    replies = [to_reply(each, address, word) for each in invitation.events]
    event = invitation.event
    root = call.stage.workspace.root
    number = Lineage(root, "answers", invitation.key, "answer invitation").to_uid(1)
    after: dict[str, Any] = {
        "to": [event.organizer],
        "sender": address,
        "subject": f"{_HEADS[word]}: {event.title}",
        "text": comment or f"{address}: {word}",
        "method": "REPLY",
        "in-reply-to": invitation.key,
        "references": [*invitation.references, invitation.key],
    }
    kept = json.dumps([write_itip("REPLY", replies, call.now, comment=comment).decode()], ensure_ascii=False)
    outbox = call.stage.invitation_outbox()
    yield Effect(verb="answer invitation", place=outbox, target=number, after=after, kept=kept)


def _confirm(call: StepCall, event: Event, address: str, word: str) -> Acting:
    """The event that was kept is confirmed, and says who comes; wherever it is kept."""
    key = event_key(event.uid, event.occurrence)
    for name in call.stage.calendar_names():
        try:
            found = call.stage.find_event(name, key)
        except PlaceTrouble:
            continue  # it is not kept in a calendar that the workflow could not reach
        if found is None or found.event.organizer.lower() != event.organizer.lower():
            continue

        def decide(name: str = name) -> Effect | None:
            now = call.stage.find_event(name, key)
            if now is None:
                return None
            busy = "yes" if word == "accepted" else "tentative"
            new = replace(now.event, busy=busy, attendees=tuple(_answered(now.event, address, word)))
            change = to_change(now, new, name, key)
            if change is None or new.answers == now.event.answers:
                return change
            before = {**(change.before or {}), "answers": now.event.content()["answers"]}
            return replace(change, before=before, after={**(change.after or {}), "answers": new.content()["answers"]})

        yield from retry_on_conflict(decide)


def _answered(event: Event, address: str, word: str) -> list[Attendee]:
    return [
        replace(each, answer=word.upper(), answer_wanted=False) if each.address.lower() == address.lower() else each
        for each in event.attendees
    ]


REPLY_EFFECT = EffectKind(
    verb="answer invitation",
    line=lambda effect: f"answer to {name_addressee(effect)}: {(effect.after or {}).get('subject')}",
    target=name_addressee,
    detail=lambda effect: str((effect.after or {}).get("subject")),
    counts_as=("email",),
    told_as=lambda effect: f"the answer to {name_addressee(effect)}",
)
ANSWER_INVITATION = StepDefinition(
    sentence=Sentence("answer invitation"),
    meaning="Answers the organizer from the address that is invited: accepted (the event that was kept is confirmed), "
    "declined or tentative. An invitation that is cancelled is not answered.",
    fields=(
        FieldDefinition("answer", "choice", "What is answered.", choices=_WORDS, example='"accepted"'),
        FieldDefinition(
            "text",
            "text",
            "What is said with it.",
            example='"The library is taken until {first(meeting.clashes).end as time}."',
        ),
    ),
    thing="invitation",
    is_told=True,
    effects=(REPLY_EFFECT, EVENT_EFFECTS.change),
    example='answer invitation\n  answer  "accepted"',
    act=_act,
)
