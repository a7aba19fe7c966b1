"""Spans: as they are written, added to days and moments, and shown."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.errors import RowFault
from whenvoca.values.durations import (
    Duration,
    add_to_date,
    add_to_moment,
    parse_clock_duration,
    parse_duration,
    show_duration,
    sum_durations,
)

AZORES, LORD_HOWE = ZoneInfo("Atlantic/Azores"), ZoneInfo("Australia/Lord_Howe")
SPANS = st.builds(Duration, months=st.integers(0, 40), days=st.integers(0, 400), seconds=st.integers(0, 200_000))

WRITTEN = [
    ("90 minutes", Duration(seconds=5400)),
    ("1 h 30 min", Duration(seconds=5400)),
    ("1h30", Duration(seconds=5400)),
    ("1 hour and 30 minutes", Duration(seconds=5400)),
    ("1.5 hours", Duration(seconds=5400)),
    ("1,5 h", Duration(seconds=5400)),
    ("half an hour", Duration(seconds=1800)),
    ("an hour", Duration(seconds=3600)),
    ("hour and a half", Duration(seconds=5400)),
    ("2 weeks, 1 day", Duration(days=15)),
    ("3 months", Duration(months=3)),
    ("1 year 2 months", Duration(months=14)),
    ("45 sec", Duration(seconds=45)),
    ("PT1H30M", Duration(seconds=5400)),
    ("p1dt2h", Duration(days=1, seconds=7200)),
    ("P2W", Duration(days=14)),
    ("2 Std", Duration(seconds=7200)),
    ("  20  min. ", Duration(seconds=1200)),
    ("P", None),
    ("", None),
    ("minutes", None),
    ("1.5 days", None),
    ("10", None),
    ("3 nights", None),
    ("1 hour more", None),
]


@pytest.mark.parametrize(("text", "span"), WRITTEN, ids=[repr(text) for text, _ in WRITTEN])
def test_spans_as_people_write_them(text: str, span: Duration | None) -> None:
    assert parse_duration(text) == span


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("1:30", 5400), ("0:05", 300), ("100:00", 360_000), ("1:30:20", 5420), ("1:60", None), ("1", None)],
)
def test_spans_written_as_clocks(text: str, seconds: int | None) -> None:
    assert parse_clock_duration(text) == (None if seconds is None else Duration(seconds=seconds))


SHOWN = [
    (Duration(), "0 minutes"),
    (Duration(seconds=60), "1 minute"),
    (Duration(seconds=-5400), "-1 hour 30 minutes"),
    (Duration(months=1, days=2, seconds=3), "1 month 2 days 3 seconds"),
    (Duration(days=-1), "-1 day"),
    (Duration(seconds=90_000), "25 hours"),
]


@pytest.mark.parametrize(("span", "text"), SHOWN, ids=[text for _, text in SHOWN])
def test_spans_are_shown_in_words(span: Duration, text: str) -> None:
    assert show_duration(span) == text


@given(SPANS)
def test_what_is_shown_reads_as_the_same_span(span: Duration) -> None:
    assert parse_duration(show_duration(span)) == span


@given(SPANS, SPANS)
def test_spans_add_up_in_any_order_and_away_again(first: Duration, second: Duration) -> None:
    assert first + second == second + first == sum_durations([first, second])
    assert first + second - second == first
    assert bool(first) == (first != Duration())


MOVED_DAYS = [
    (date(2027, 1, 31), Duration(months=1), date(2027, 2, 28)),
    (date(2028, 1, 31), Duration(months=1), date(2028, 2, 29)),
    (date(2027, 3, 31), Duration(months=-1), date(2027, 2, 28)),
    (date(2027, 12, 31), Duration(months=2, days=1), date(2028, 3, 1)),
    (date(2027, 1, 1), Duration(months=-13), date(2025, 12, 1)),
    (date(2027, 3, 1), Duration(days=-1), date(2027, 2, 28)),
]


@pytest.mark.parametrize(("day", "span", "then"), MOVED_DAYS)
def test_days_move_by_months_and_stay_in_the_month(day: date, span: Duration, then: date) -> None:
    assert add_to_date(day, span) == then


def test_hours_cannot_be_added_to_a_day() -> None:
    with pytest.raises(RowFault, match="hours and minutes cannot be added to a date"):
        add_to_date(date(2027, 1, 1), Duration(seconds=60))


def test_a_day_is_the_same_wall_time_and_a_day_of_hours_is_not() -> None:
    before = datetime(2027, 3, 27, 21, 30, tzinfo=AZORES)  # the clocks go forward that night
    assert add_to_moment(before, Duration(days=1)).isoformat() == "2027-03-28T21:30:00+00:00"
    assert add_to_moment(before, Duration(seconds=86400)).isoformat() == "2027-03-28T22:30:00+00:00"


def test_a_moment_never_moves_into_a_gap_or_an_overlap_silently() -> None:
    with pytest.raises(RowFault, match="does not exist"):
        add_to_moment(datetime(2027, 2, 28, 0, 30, tzinfo=AZORES), Duration(months=1))
    with pytest.raises(RowFault, match="comes twice"):
        add_to_moment(datetime(2027, 9, 30, 0, 30, tzinfo=AZORES), Duration(months=1, days=1))


@given(
    st.datetimes(datetime(2026, 1, 1), datetime(2030, 1, 1)),
    st.integers(-(10**7), 10**7),
    st.sampled_from([AZORES, LORD_HOWE]),
)
def test_seconds_pass_on_the_clock_whatever_the_zone_does(wall: datetime, seconds: int, zone: ZoneInfo) -> None:
    start = wall.replace(tzinfo=UTC).astimezone(zone)
    then = add_to_moment(start, Duration(seconds=seconds))
    assert then.astimezone(UTC) - start.astimezone(UTC) == timedelta(seconds=seconds)
    assert Duration.between(start, then) == Duration(seconds=seconds)
    assert then.tzinfo is zone


UNITS = [
    (3, "minutes", Duration(seconds=180)),
    (Decimal("0.5"), "hour", Duration(seconds=1800)),
    (2, "Weeks", Duration(days=14)),
    (1, "year", Duration(months=12)),
]


@pytest.mark.parametrize(("amount", "unit", "span"), UNITS)
def test_amounts_of_units(amount: Decimal | int, unit: str, span: Duration) -> None:
    assert Duration.of(amount, unit) == span


def test_half_a_day_and_months_in_seconds_are_refused() -> None:
    with pytest.raises(RowFault, match=r"0\.5 day is no whole number of day"):
        Duration.of(Decimal("0.5"), "day")
    with pytest.raises(RowFault, match="a month has no fixed length"):
        Duration(months=1).to_seconds()
    assert Duration(days=1, seconds=30).to_timedelta() == timedelta(days=1, seconds=30)
