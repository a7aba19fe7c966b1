"""Triggers: one file a kind, each a definition. ``TRIGGERS`` lists them all."""

from whenvoca.language.definitions import TriggerDefinition
from whenvoca.triggers.answers import RECEIVES_ANSWER
from whenvoca.triggers.asked import ABOUT_EVENT, ABOUT_ROW, ASKED
from whenvoca.triggers.clock import PASSES, READS, READS_ON
from whenvoca.triggers.emails import RECEIVES_EMAIL, RECEIVES_INVITATION
from whenvoca.triggers.entries import CALLS, ENTRIES, RECEIVES_CALL, RECEIVES_ENTRY
from whenvoca.triggers.events import EVENTS
from whenvoca.triggers.messages import HEARS
from whenvoca.triggers.rows import ROWS
from whenvoca.triggers.starts import BEGINS, ENDS
from whenvoca.triggers.tasks import FINISHED

TRIGGERS: tuple[TriggerDefinition, ...] = (
    ROWS,
    EVENTS,
    BEGINS,
    ENDS,
    FINISHED,
    HEARS,
    RECEIVES_EMAIL,
    RECEIVES_INVITATION,
    RECEIVES_ANSWER,
    RECEIVES_ENTRY,
    ENTRIES,
    RECEIVES_CALL,
    CALLS,
    READS_ON,
    READS,
    PASSES,
    ASKED,
    ABOUT_ROW,
    ABOUT_EVENT,
)
