"""The steps `answer message`; what they do is in `message_actions`, which is only loaded where it is needed."""

from __future__ import annotations

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.messages import MESSAGE_EFFECT

_ASKABLE = ("several", "series", "deletions", "changes", "creations", "nothing")


def _answer(call: StepCall) -> Acting:
    from whenvoca.steps.message_actions import answer

    yield from answer(call)


def _reply(call: StepCall) -> Acting:
    from whenvoca.steps.message_actions import reply

    yield from reply(call)


ANSWER = StepDefinition(
    sentence=Sentence("answer message in CALENDARS"),
    meaning="Takes the message as a request in plain English, does it in these calendars and answers in the same "
    "chat: to make, change, delete or look up events, to find free time, to undo what was done last. New "
    "events go into the first calendar that may be written. What is missing or has two readings is asked "
    "about; what is not a request changes nothing. Each person has one conversation in each room, forgotten "
    "after half an hour; days and times are in their zone. Private events stay hidden in rooms.",
    fields=(
        FieldDefinition(
            "length", "duration", "How long an event is whose end is not said.", default="1 hour", example="45 minutes"
        ),
        FieldDefinition(
            "ask-before",
            "texts",
            "Which requests need a yes: several (deletions of more than one), series (deletions of a whole "
            "one), deletions, changes, creations; or nothing.",
            default='"several", "series"',
            choices=_ASKABLE,
            example='"deletions", "changes"',
        ),
        FieldDefinition(
            "approver",
            "people",
            "Who must agree, by a yes, where somebody asks to delete an event that another one organizes. "
            "Without it who asks is told of the organizer, and asked themselves.",
            example='"ines"',
            is_known=True,
        ),
    ),
    thing="message",
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.change, EVENT_EFFECTS.delete, MESSAGE_EFFECT),
    is_making=False,
    example='answer message in domes, outreach\n  length      50 minutes\n  ask-before  "deletions"',
    act=_answer,
)
REPLY = StepDefinition(
    sentence=Sentence("answer message"),
    meaning="Says something back in the chat that the message came by: in its room, or to its sender alone, whose "
    "zone times are told in. An empty text is not sent.",
    fields=(FieldDefinition("text", "text", "What is said.", example='"Thank you, {message.sender}."'),),
    thing="message",
    is_told=True,
    effects=(MESSAGE_EFFECT,),
    example='answer message\n  text  "Thank you, {message.sender}."',
    act=_reply,
)
