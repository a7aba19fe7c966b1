"""The triggers by hand: somebody starts the workflow, and chooses what it is about."""

from __future__ import annotations

from whenvoca.engine.seeing.strategy import BY_HAND
from whenvoca.engine.things.event import event_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition
from whenvoca.language.names import row_type, untyped

_WHERE = FieldDefinition(
    "where", "condition", "Which of them are offered. Several lines must all hold.", example="Booking is empty"
)


ASKED = TriggerDefinition(
    sentence=Sentence("asked"),
    meaning="Starts when somebody runs it: whenvoca run NAME. What `ask` lines want is asked at the prompt, or given: "
    "--give NAME=VALUE.",
    subject="",
    subject_type=untyped,
    strategy=BY_HAND,
    happening="asked",
    example='when asked\n\nask span "For how long?"\n  kind     duration\n  default  45 minutes',
)
ABOUT_ROW = TriggerDefinition(
    sentence=Sentence("asked about a row of SHEET"),
    meaning="Starts when somebody runs it, for the row chosen by --row, or from the list that is shown. Started again "
    "for the same row it makes nothing twice.",
    subject="row",
    subject_type=row_type,
    settings=(_WHERE,),
    strategy=BY_HAND,
    happening="asked",
    example="when asked about a row of upkeep\n  where  Booking is empty",
)
ABOUT_EVENT = TriggerDefinition(
    sentence=Sentence("asked about an event of CALENDARS"),
    meaning="Starts when somebody runs it, for the event chosen by --event, or from the list that is shown.",
    subject="event",
    subject_type=event_type,
    settings=(_WHERE,),
    strategy=BY_HAND,
    happening="asked",
    example="when asked about an event of outreach\n  where  start between now and now + 12 days",
)
