"""A day or a time by itself, as people say it: next tuesday, half past ten, friday at 3."""

from __future__ import annotations

from datetime import date, datetime, time
from typing import Any, Literal

from whenvoca.speech.judging.judge import score, shipped
from whenvoca.speech.judging.readings import TextReader
from whenvoca.speech.request import Surroundings


def moment_in(
    text: str, around: Surroundings, kind: Literal["date", "time", "moment"]
) -> date | time | datetime | None:
    """What a text names that holds nothing else. None where it holds more, or is in doubt."""
    weights = shipped()
    reader = TextReader(text if kind != "time" else f"at {text}", around, weights)
    chart = reader.chart
    covered: set[int] = set()
    pieces: list[Any] = [*chart.days, *chart.clocks, *chart.parts, *chart.zones]
    for each in pieces:
        covered |= set(range(each.begin, each.end))
    if any(low[0].isalnum() and n not in covered and low not in ("at", "on") for n, low in enumerate(chart.text.lows)):
        return None
    if any(day.value.doubt or day.value.first != day.value.last for day in chart.days):
        return None
    if kind == "date":
        return chart.days[0].value.first if len(chart.days) == 1 else None
    whens = [each for each in reader.whens if isinstance(each.start, datetime)]
    if kind == "moment":
        whens = [each for each in whens if "day none" not in each.marks]
    if not whens or (kind == "time" and chart.zones):
        return None
    best = max(whens, key=lambda each: score(weights["when"], each.marks)).start
    assert isinstance(best, datetime)
    return best.time() if kind == "time" else best.replace(tzinfo=reader.zone)
