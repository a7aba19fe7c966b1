"""When people are busy besides what the calendars of a conversation say: by what is told elsewhere."""

from __future__ import annotations

from datetime import datetime

from whenvoca.calendars.free_time import Span
from whenvoca.engine.acting.stage import Stage
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault
from whenvoca.speech.request import BusyBesides


def busy_besides(stage: Stage) -> BusyBesides:
    """What answers it; time of which nothing is told counts as taken. It raises PlaceTrouble where that cannot be
    read."""

    def busy(address: str, low: datetime, high: datetime) -> list[Span]:
        try:
            told = stage.busy_elsewhere(address, low, high)
        except (SourceFault, RowFault) as fault:
            raise PlaceTrouble(fault.message, where=fault.where, fix=fault.fix) from fault
        if told is None:
            return []
        before = [(low, told.begin)] if told.begin is not None and told.begin > low else []
        after = [(told.end, high)] if told.end is not None and told.end < high else []
        return [*before, *told.busy, *after]

    return busy
