"""The trigger of answers to invitations."""

from __future__ import annotations

from whenvoca.engine.seeing.changes import CHANGES
from whenvoca.engine.things.answer import answer_type
from whenvoca.engine.things.event import event_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition

RECEIVES_ANSWER = TriggerDefinition(
    sentence=Sentence("CALENDAR receives an answer"),
    meaning="Starts once for each answer of an attendee to an invitation to an event of the calendar, as a mailbox of "
    "the workspace brings it: answer.word is accepted, declined, tentative, delegated (answer.delegate says to whom) "
    "or proposed (another time: answer.start, answer.end). event is what it is about, where the answer stands by then. "
    "An answer counts only if it comes from the attendee, and never instead of a newer one.",
    subject="answer",
    subject_type=answer_type,
    settings=(
        FieldDefinition(
            "where",
            "condition",
            "Which answers count. Several lines must all hold.",
            example='answer.word is "declined"',
        ),
        FieldDefinition("existing", "yes-no", "Whether answers from before the first run count.", default="no"),
    ),
    strategy=CHANGES,
    existing_by_default=False,
    happening="gained",
    given={"event": event_type},
    example='when domes receives an answer\n  where  answer.word is "declined"',
)
