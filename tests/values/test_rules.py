"""Repetition: the arithmetic held against dateutil, and whole expansions against an independent library."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events, moments_between
from whenvoca.errors import RowFault
from whenvoca.values.rules import first_wall, parse_rule, walls_between

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


def _numbers(name: str, low: int, high: int, most: int = 3) -> st.SearchStrategy[str]:
    return st.lists(st.integers(low, high).filter(bool), min_size=1, max_size=most, unique=True).map(
        lambda found: f"{name}=" + ",".join(map(str, found))
    )


@st.composite
def dense_rules(draw: st.DrawFn) -> tuple[str, int]:
    """A rule of each hour or less, and for how many hours it may be asked."""
    frequency, hours = draw(st.sampled_from([("HOURLY", 300), ("MINUTELY", 20), ("SECONDLY", 1)]))
    parts = [f"FREQ={frequency}"]
    if draw(st.booleans()):
        parts.append(f"INTERVAL={draw(st.sampled_from([2, 7, 25, 90, 1441, 5000]))}")
    for name, low, high in (("BYMONTH", 1, 12), ("BYMONTHDAY", -31, 31), ("BYHOUR", 1, 23), ("BYMINUTE", 1, 59)):
        if draw(st.integers(0, 4)) == 0:
            parts.append(draw(_numbers(name, low, high)))
    if draw(st.integers(0, 4)) == 0:
        parts.append("BYDAY=" + ",".join(draw(st.lists(st.sampled_from(DAYS), min_size=1, max_size=4, unique=True))))
    if not any("BYM" in part or "BYD" in part for part in parts) and draw(
        st.booleans()
    ):  # else dateutil looks on for ever
        parts.append(f"COUNT={draw(st.integers(1, 300))}")
    return ";".join(parts), hours


@given(dense_rules(), MOMENTS, st.integers(-9, 30))
def test_dense_rules_give_what_dateutil_gives(rule: tuple[str, int], wall: datetime, begin: int) -> None:
    text, hours = rule
    low = wall + timedelta(hours=begin)
    high = low + timedelta(hours=hours)
    zone = ZoneInfo("UTC")
    endless = text if "COUNT" in text else f"{text};UNTIL={high:%Y%m%dT%H%M%S}"  # dateutil looks on to the year 9999
    try:
        expected = parse_rule(endless, wall, zone).between(low, high, inc=True)
    except RowFault:  # dateutil refuses what never comes
        expected = []
    assert list(walls_between(text, wall, low, high, zone)) == expected


OLD = [
    "FREQ=DAILY;BYMONTH=3,4;INTERVAL=3",
    "FREQ=WEEKLY;INTERVAL=3;BYDAY=TU,SU;BYMONTH=3,6;WKST=SU",
    "FREQ=MONTHLY;INTERVAL=7;BYDAY=2TU,-1FR",
    "FREQ=MONTHLY;BYDAY=MO,TU,WE;BYSETPOS=-1;INTERVAL=2",
    "FREQ=MONTHLY;BYMONTHDAY=-1,15",
    "FREQ=YEARLY;BYMONTH=3;BYDAY=-1SU;INTERVAL=4",
    "FREQ=YEARLY;BYYEARDAY=100,-1",
    "FREQ=YEARLY;BYWEEKNO=12",
    "FREQ=YEARLY;INTERVAL=3",
]


@pytest.mark.parametrize("rule", OLD)
@pytest.mark.parametrize("begin", [datetime(1904, 2, 29, 10), datetime(1977, 5, 31, 9), datetime(2026, 12, 30, 8)])
def test_rules_that_began_long_ago_give_what_dateutil_gives(rule: str, begin: datetime) -> None:
    zone, low, high = ZoneInfo("UTC"), datetime(2027, 1, 1), datetime(2036, 1, 1)
    expected = parse_rule(rule, begin, zone).between(low, high, inc=True)
    assert list(walls_between(rule, begin, low, high, zone)) == expected


ENDLESS_SEARCHES = [
    ("FREQ=HOURLY", datetime(1, 1, 1)),
    ("FREQ=MINUTELY;COUNT=2000000000", datetime(1970, 1, 1)),
    ("FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30", datetime(2027, 1, 1)),
    ("FREQ=DAILY;BYMONTH=3", datetime(2, 1, 1)),
]


@pytest.mark.parametrize(("rule", "begin"), ENDLESS_SEARCHES)
def test_a_rule_of_any_density_is_asked_for_a_day_at_no_cost(rule: str, begin: datetime) -> None:
    low = datetime(2027, 3, 17)
    found = list(walls_between(rule, begin, low, low + timedelta(hours=2), ZoneInfo("UTC")))
    assert len(found) == {"FREQ=HOURLY": 3, "FREQ=DAILY;BYMONTH=3": 1}.get(rule, 121 if "MINUTELY" in rule else 0)
