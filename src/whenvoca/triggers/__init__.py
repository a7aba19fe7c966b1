"""Triggers: one file a trigger kind. ``TRIGGERS`` lists them all."""

from whenvoca.language.definitions import TriggerDefinition
from whenvoca.triggers.row_gained import ROW_GAINED

TRIGGERS: tuple[TriggerDefinition, ...] = (ROW_GAINED,)
