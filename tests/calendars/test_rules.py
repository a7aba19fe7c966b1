"""Repetition: the arithmetic held against dateutil, and whole expansions against an independent library."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events, moments_between
from whenvoca.calendars.rules import first_wall, parse_rule, walls_between
from whenvoca.errors import RowFault

DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
ZONES = ("Atlantic/Azores", "Europe/Lisbon", "America/Sao_Paulo", "Australia/Lord_Howe", "UTC")


@st.composite
def rules(draw: st.DrawFn) -> str:
    frequency = draw(st.sampled_from(["DAILY", "WEEKLY", "MONTHLY", "YEARLY"]))
    parts = [f"FREQ={frequency}"]
    if draw(st.booleans()):
        parts.append(f"INTERVAL={draw(st.integers(1, 5))}")
    if frequency == "WEEKLY" and draw(st.booleans()):
        parts.append("BYDAY=" + ",".join(draw(st.lists(st.sampled_from(DAYS), min_size=1, max_size=4, unique=True))))
    if frequency == "WEEKLY" and draw(st.booleans()):
        parts.append(f"WKST={draw(st.sampled_from(['MO', 'SU']))}")
    if frequency == "MONTHLY":
        parts += draw(
            st.sampled_from(
                [[], ["BYMONTHDAY=31"], ["BYMONTHDAY=-1"], ["BYDAY=-1FR"], ["BYDAY=2TU"], ["BYDAY=5MO"], ["BYDAY=MO"]]
            )
        )
    end = draw(st.sampled_from(["", "COUNT", "UNTIL"]))
    if end == "COUNT":
        parts.append(f"COUNT={draw(st.integers(1, 40))}")
    if end == "UNTIL":
        parts.append(f"UNTIL={draw(st.dates(date(2026, 1, 1), date(2031, 1, 1))):%Y%m%d}T120000Z")
    return ";".join(parts)


MOMENTS = st.datetimes(datetime(2026, 1, 1), datetime(2028, 12, 31)).map(lambda moment: moment.replace(microsecond=0))


@given(rules(), MOMENTS, st.integers(-400, 900), st.integers(0, 900), st.sampled_from(ZONES))
def test_arithmetic_gives_what_dateutil_gives(
    rule: str, wall: datetime, begin: int, length: int, zone_name: str
) -> None:
    zone = ZoneInfo(zone_name)
    low = wall + timedelta(days=begin)
    high = low + timedelta(days=length)
    expected = [each for each in parse_rule(rule, wall, zone).xafter(low, inc=True, count=2000) if each <= high]
    assert list(walls_between(rule, wall, low, high, zone)) == expected


@given(rules(), MOMENTS, st.integers(0, 500), st.sampled_from(ZONES))
def test_moments_lie_where_they_are_asked_for_and_keep_the_wall_clock(
    rule: str, wall: datetime, begin: int, zone_name: str
) -> None:
    start = wall.replace(tzinfo=ZoneInfo(zone_name)).astimezone(UTC).astimezone(ZoneInfo(zone_name))
    low = start + timedelta(days=begin)
    high = low + timedelta(days=200)
    found = list(moments_between(rule, start, low, high))
    assert found == sorted(found)
    assert all(low <= each < high for each in found)
    everything = [
        each.replace(tzinfo=start.tzinfo)
        for each in walls_between(
            rule,
            start.replace(tzinfo=None),
            start.replace(tzinfo=None),
            (high + timedelta(days=2)).replace(tzinfo=None),
            start.tzinfo,
        )
    ]
    expected = {
        each.astimezone(UTC)
        for each in everything
        if low.astimezone(UTC) <= each.astimezone(UTC) < high.astimezone(UTC)
    }
    assert {each.astimezone(UTC) for each in found} == expected


def test_expansion_over_clock_changes_equals_an_independent_library() -> None:
    import icalendar
    import recurring_ical_events

    from whenvoca.calendars.writer import write_calendar

    zone = ZoneInfo("Atlantic/Azores")
    start = datetime(2027, 1, 6, 0, 30, tzinfo=zone)
    for rule in (
        "FREQ=WEEKLY;BYDAY=WE,SU",
        "FREQ=DAILY;INTERVAL=3",
        "FREQ=MONTHLY;BYDAY=-1SU",
        "FREQ=MONTHLY;BYMONTHDAY=31",
    ):
        event = Event(
            uid="u",
            title="x",
            start=start,
            end=start + timedelta(hours=2),
            rule=rule,
            excluded=(start + timedelta(days=21),),
        )
        low, high = datetime(2027, 1, 1, tzinfo=UTC), datetime(2028, 12, 31, tzinfo=UTC)
        ours = [each.span(zone)[0].astimezone(UTC) for each in expand_events([event], low, high, zone)]
        calendar = icalendar.Calendar.from_ical(write_calendar(event, low))
        theirs = [each["DTSTART"].dt.astimezone(UTC) for each in recurring_ical_events.of(calendar).between(low, high)]
        assert ours == sorted(theirs), rule


@pytest.mark.parametrize(
    "rule", ["FREQ=SOMETIMES", "x", "FREQ=WEEKLY;BYDAY=XX", "FREQ=DAILY;INTERVAL=0", "FREQ=DAILY;COUNT=many"]
)
def test_what_is_no_rule_is_said(rule: str) -> None:
    with pytest.raises(RowFault, match="is no rule of repetition"):
        list(walls_between(rule, datetime(2027, 1, 1), datetime(2027, 1, 1), datetime(2027, 2, 1), UTC))


FIRSTS = (
    "FREQ=WEEKLY;BYDAY=MO,FR",
    "FREQ=MONTHLY;BYDAY=-1FR",
    "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29",
    "FREQ=YEARLY;BYWEEKNO=53;BYDAY=MO",
    "FREQ=YEARLY;BYYEARDAY=366",
    "FREQ=DAILY;INTERVAL=3;COUNT=2",
    "FREQ=HOURLY;INTERVAL=5",
)


@given(st.sampled_from(FIRSTS), st.datetimes(min_value=datetime(1901, 1, 1), max_value=datetime(2085, 1, 1)))
def test_first_wall_time_is_that_of_dateutil(rule: str, wall: datetime) -> None:
    wall = wall.replace(second=0, microsecond=0)
    assert first_wall(rule, wall, UTC) == next(iter(parse_rule(rule, wall, UTC)))


def test_rule_that_gives_nothing_is_told_at_once() -> None:
    assert first_wall("FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31", datetime(2027, 3, 17), UTC) is None
    assert first_wall("FREQ=DAILY;UNTIL=20270316T000000Z", datetime(2027, 3, 17), UTC) is None
