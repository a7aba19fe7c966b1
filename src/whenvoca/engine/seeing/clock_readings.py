"""Triggers by the clock: which of their moments have come, and when the next one does."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

from whenvoca.engine.acting.program import Program
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.seeing.clock_moments import clock_moments, next_moment
from whenvoca.engine.seeing.strategy import JUST_BEFORE, Search, TakenUp, TriggerStrategy, missed_after, to_mark

CLOCK = "clock"  # stands for a place in occurrences by the clock


class ClockReadings(TriggerStrategy):
    """Waits for moments of the clock."""

    is_timed, is_by_hand = True, False

    def take_up(self, search: Search) -> TakenUp:
        """Finds the moments that have come since the workflow last looked; of several only the newest runs."""
        ledger, identity, now = search.ledger, search.identity, search.now
        mark = ledger.high_water(identity, CLOCK)
        high = now - JUST_BEFORE if mark is None else datetime.fromisoformat(mark)
        due = TakenUp()
        count, newest = 0, None
        for moment in clock_moments(search.program.workflow.trigger, high, now, search.zone):
            count, newest = count + 1, moment
        with ledger.transaction():
            if newest is not None:
                more = f" and {count - 1} before it" if count > 1 else ""
                at = newest.isoformat()
                occurrence = Occurrence(
                    identity, CLOCK, at, -int(newest.timestamp()), at, "come", label=f"{newest:%a %d %b %H:%M}{more}"
                )
                if now - newest > missed_after(search.program):
                    due.missed = ledger.add_missed([occurrence], now.isoformat())
                else:
                    due.new = ledger.add_occurrences([occurrence], once=False)
            ledger.set_high_water(identity, CLOCK, to_mark(max(high, now)))
        return due

    def next_due(self, ledger: Ledger, program: Program, now: datetime, zone: ZoneInfo) -> datetime | None:
        """Its next moment after those that were looked at, within five years."""
        mark = ledger.high_water(program.workflow.identity, CLOCK)
        after = now if mark is None else datetime.fromisoformat(mark)
        return next_moment(program.workflow.trigger, after, zone)


CLOCK_READINGS = ClockReadings()
