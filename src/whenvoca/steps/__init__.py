"""Steps: one file a step family, each a definition with what it does. ``STEPS`` lists them all."""

from whenvoca.language.definitions import StepDefinition
from whenvoca.steps.add_row import ADD_ROW
from whenvoca.steps.change_row import CHANGE_ROW
from whenvoca.steps.create_event import CREATE_EVENT

STEPS: tuple[StepDefinition, ...] = (CREATE_EVENT, CHANGE_ROW, ADD_ROW)
