"""The triggers of a calendar: an event comes into the set that `where` describes, changes in it, or leaves it."""

from __future__ import annotations

from whenvoca.engine.seeing.changes import CHANGES
from whenvoca.engine.things.event import event_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition
from whenvoca.triggers.rows import FIELDS

EVENTS = TriggerDefinition(
    sentence=Sentence("CALENDARS CHANGES an event"),
    meaning="Starts for each event that comes into the set that `where` describes (gains), changes in it, or leaves "
    "it (loses), in one calendar, in several, or in any calendar. An occurrence of a series that is moved or "
    "taken out is a change or loss of its own. old.FIELD is the value before, changes lists field, old and "
    "new.",
    subject="event",
    subject_type=event_type,
    settings=(
        FieldDefinition(
            "where", "condition", "Which events count. Several lines must all hold.", example='category is "school"'
        ),
        FIELDS,
        FieldDefinition(
            "existing",
            "yes-no",
            "Whether events that were there before the first run count as gained.",
            default="no",
            example="yes",
        ),
    ),
    strategy=CHANGES,
    existing_by_default=False,
    example='when outreach changes an event\n  fields  start, end, location\n  where   category is "school"',
)
