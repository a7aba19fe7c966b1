"""The triggers by the clock."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.seeing.clock_readings import CLOCK_READINGS
from whenvoca.language.definitions import Sentence, TriggerDefinition
from whenvoca.language.names import untyped


def _definition(words: str, meaning: str, **more: Any) -> TriggerDefinition:
    return TriggerDefinition(
        sentence=Sentence(words),
        meaning=meaning,
        subject="",
        subject_type=untyped,
        strategy=CLOCK_READINGS,
        happening="come",
        **more,
    )


_MEANING = (
    "Starts when the clock of the workflow's zone reads that time; several times stand with commas between. A time "
    "that the clocks skip fires right after the gap, one that comes twice fires once. Of moments missed while the "
    "program was off only the newest runs, if the setting `missed` allows. `whenvoca run NAME` starts it once at "
    "once."
)
READS = _definition("clock reads TIME", _MEANING, value_type="time", example="when clock reads 06:40, 18:40")
READS_ON = _definition(
    "clock reads TIME on DAYS",
    _MEANING + " Days are weekdays, weekends, names of days (monday, friday), days of the month (the 1st, day 15 of "
    "the month, the last day), or the first, second … last such weekday of the month (the last friday).",
    value_type="time",
    example="when clock reads 16:20 on weekdays",
)
PASSES = _definition(
    "clock passes every DURATION",
    "Starts each time so much has passed: minutes and hours are counted from midnight, days, weeks and months from a "
    "Monday, the first of a month. Of moments missed only the newest runs.",
    value_type="duration",
    example="when clock passes every 15 minutes",
)
