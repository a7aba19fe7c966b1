"""Triggers: one file a kind, each a definition. ``TRIGGERS`` lists them all."""

from whenvoca.language.definitions import TriggerDefinition
from whenvoca.triggers.events import EVENTS
from whenvoca.triggers.rows import ROWS

TRIGGERS: tuple[TriggerDefinition, ...] = (ROWS, EVENTS)
