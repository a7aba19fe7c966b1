"""The triggers of a calendar by time: an event begins, or ends."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.seeing.starts import ENDS as EVENT_ENDS
from whenvoca.engine.seeing.starts import STARTS as EVENT_STARTS
from whenvoca.engine.things.event import event_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition

_WHERE = FieldDefinition(
    "where",
    "condition",
    "Which events count, as they are when the moment comes. Several lines must all hold.",
    example="busy is yes and not whole-day",
)
_EARLY = FieldDefinition("early", "duration", "How long before.", example="12 minutes")
_LATE = FieldDefinition("late", "duration", "How long after.", example="30 minutes")
_MEANING = (
    " Occurrences of series count each by itself; one that is moved or taken out is followed until the last moment, "
    "and moved to later it fires again. A whole day begins with its first moment in the calendar's zone. What was "
    "missed while the program was off runs late, as long as the setting `missed` allows (an hour unless it says "
    "otherwise), else it is told as missed."
)


def _definition(verb: str, what: str, **more: Any) -> TriggerDefinition:
    return TriggerDefinition(
        sentence=Sentence(f"CALENDARS {verb} an event"),
        meaning=what + _MEANING,
        subject="event",
        subject_type=event_type,
        settings=(_WHERE, _EARLY, _LATE),
        **more,
    )


BEGINS = _definition(
    "begins",
    "Starts when an event begins, so long before (early) or after (late) it.",
    strategy=EVENT_STARTS,
    happening="begun",
    example="when domes begins an event\n  early  12 minutes\n  where  busy is yes and not whole-day",
)
ENDS = _definition(
    "ends",
    "Starts when an event ends, so long before (early) or after (late) its end.",
    strategy=EVENT_ENDS,
    happening="ended",
    example='when domes ends an event\n  where  category is not "upkeep"',
)
