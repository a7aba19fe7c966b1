"""What is written into a calendar: start, end and rule are such as can be read again."""

from __future__ import annotations

from datetime import UTC, date, datetime

import pytest

from whenvoca.calendars.event import Event
from whenvoca.calendars.task import Task
from whenvoca.calendars.valid import refuse_invalid
from whenvoca.errors import RowFault

DAY, NOON = date(2027, 3, 17), datetime(2027, 3, 17, 12, tzinfo=UTC)
WRONG = [
    (Event(uid="a", start=DAY, end=NOON), "are of two kinds"),
    (Event(uid="a", start=NOON, end=DAY), "are of two kinds"),
    (Event(uid="a", start=NOON, end=NOON.replace(hour=11)), "does not come after the start"),
    (Event(uid="a", start=DAY, end=DAY), "does not come after the start"),
    (Event(uid="a", start=date(9999, 12, 30), end=date(9999, 12, 31)), "outside the years"),
    (Event(uid="a", start=date(1, 1, 1), end=date(1, 1, 2)), "outside the years"),
    (Event(uid="a", start=NOON, end=NOON, rule="FREQ=DAILY;INTERVAL=0"), "INTERVAL"),
    (Event(uid="a", start=NOON, end=NOON, rule="FREQ=MINUTELY"), "more often than each hour"),
    (Task(uid="a", start=NOON, end=DAY), "start and due are of two kinds"),
    (Task(uid="a", end=date(9999, 12, 31)), "the due 9999-12-31"),
]


@pytest.mark.parametrize(("event", "said"), WRONG)
def test_what_no_calendar_can_hold_is_refused(event: Event, said: str) -> None:
    with pytest.raises(RowFault, match=said):
        refuse_invalid(event)


@pytest.mark.parametrize(
    "event",
    [
        Event(uid="a", start=NOON, end=NOON),
        Event(uid="a", start=DAY, end=date(2027, 3, 18), rule="FREQ=YEARLY"),
        Task(uid="a"),
        Task(uid="a", start=DAY, end=DAY),
        Task(uid="a", start=NOON),
    ],
)
def test_what_a_calendar_can_hold_passes(event: Event) -> None:
    refuse_invalid(event)
