"""Zones, durations, texts: what the clocks skip or show twice, calendar and clock reckoning, storing."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.errors import RowFault, SettingsFault
from whenvoca.values.durations import Duration, add_to_date, add_to_moment, parse_duration, show_duration
from whenvoca.values.kinds import from_plain, to_plain
from whenvoca.values.texts import show_pattern, show_value
from whenvoca.values.zones import first_moment, load_zone, to_moment

AZORES = ZoneInfo("Atlantic/Azores")


def at(text: str, zone: ZoneInfo = AZORES) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=zone)


def test_moment_in_a_gap_is_reported() -> None:
    with pytest.raises(
        RowFault, match=r"2027-03-28 00:30 does not exist in Atlantic/Azores: the clocks go forward by 1 hour"
    ):
        to_moment(datetime(2027, 3, 28, 0, 30), AZORES)


def test_moment_in_an_overlap_is_reported_with_both_offsets() -> None:
    with pytest.raises(RowFault, match="comes twice") as caught:
        to_moment(datetime(2027, 10, 31, 0, 30), AZORES)
    assert caught.value.fix == 'give the offset too: "2027-10-31 00:30+00:00" or "2027-10-31 00:30-01:00"'


def test_first_moment_of_a_day_is_not_always_midnight() -> None:
    assert first_moment(date(2027, 3, 28), AZORES).time() == time(1)
    assert first_moment(date(2027, 3, 27), AZORES).time() == time(0)


def test_unknown_zone_names_the_nearest() -> None:
    with pytest.raises(SettingsFault, match='there is no zone "Atlantic/Azore"') as caught:
        load_zone("Atlantic/Azore")
    assert "Atlantic/Azores" in caught.value.fix


@pytest.mark.parametrize(
    ("start", "span", "end"),
    [
        ("2027-03-27 22:00", Duration(days=1), "2027-03-28 22:00"),  # a calendar day of 23 hours
        ("2027-03-27 22:00", Duration(seconds=86400), "2027-03-28 23:00"),  # 24 hours on the clock
        ("2027-01-31 10:00", Duration(months=1), "2027-02-28 10:00"),
        ("2027-10-30 22:00", Duration(seconds=4 * 3600), "2027-10-31 01:00"),
        ("2027-03-17 21:30", Duration(days=-2), "2027-03-15 21:30"),
    ],
)
def test_days_count_on_the_calendar_and_hours_on_the_clock(start: str, span: Duration, end: str) -> None:
    assert add_to_moment(at(start), span) == at(end)


def test_a_day_later_in_a_gap_is_reported() -> None:
    with pytest.raises(RowFault, match="does not exist"):
        add_to_moment(at("2027-03-27 00:30"), Duration(days=1))


def test_hours_cannot_be_added_to_a_date() -> None:
    assert add_to_date(date(2027, 1, 31), Duration(months=1)) == date(2027, 2, 28)
    with pytest.raises(RowFault, match="cannot be added to a date"):
        add_to_date(date(2027, 1, 31), Duration(seconds=60))


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("1 h 30 min", 5400),
        ("90 minutes", 5400),
        ("1h30", 5400),
        ("2 hours and 5 minutes", 7500),
        ("1.5 h", 5400),
        ("PT1H30M", 5400),
        ("an hour", 3600),
        ("half an hour", 1800),
        ("2 days", 172800),
        ("45 sec", 45),
    ],
)
def test_durations_are_read(text: str, seconds: int) -> None:
    span = parse_duration(text)
    assert span is not None
    assert span.to_seconds() == seconds


@pytest.mark.parametrize("text", ["soon", "1 parsec", "", "P", "1.5 days", "h", "10"])
def test_other_texts_are_no_durations(text: str) -> None:
    assert parse_duration(text) is None


@given(st.integers(0, 20), st.integers(0, 40), st.integers(0, 10**6))
def test_a_shown_duration_is_read_again(months: int, days: int, seconds: int) -> None:
    span = Duration(months, days, seconds)
    assert parse_duration(show_duration(span)) == span


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (None, ""),
        (True, "yes"),
        (12, "12"),
        (Decimal("2.50"), "2.50"),
        (date(2027, 3, 17), "17 Mar"),
        (date(2026, 3, 17), "17 Mar 2026"),
        (time(21, 30), "21:30"),
        (["a", "b"], "a, b"),
        (Duration(seconds=5400), "1 hour 30 minutes"),
        (at("2027-03-16 11:20"), "16 Mar 11:20"),
    ],
)
def test_values_are_shown(value: Any, text: str) -> None:
    assert show_value(value, year=2027) == text


def test_patterns_are_those_of_unicode() -> None:
    assert show_pattern(at("2027-04-02 10:00"), "EEEE d MMMM, HH:mm") == "Friday 2 April, 10:00"
    with pytest.raises(RowFault, match="cannot show"):
        show_pattern(time(10), "d MMMM")


PLAIN = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(10**9), 10**9),
    st.text(max_size=20),
    st.dates(),
    st.times().map(lambda t: t.replace(microsecond=0)),
    st.decimals(allow_nan=False, allow_infinity=False, places=4),
    st.builds(Duration, st.integers(0, 9), st.integers(0, 9), st.integers(0, 99)),
    st.datetimes(min_value=datetime(2000, 1, 1), max_value=datetime(2040, 1, 1)).map(
        lambda d: d.replace(tzinfo=ZoneInfo("Europe/Lisbon"))
    ),
    st.timedeltas(min_value=timedelta(), max_value=timedelta(days=9)).map(
        lambda s: timedelta(seconds=int(s.total_seconds()))
    ),
)


@given(st.one_of(PLAIN, st.lists(PLAIN, max_size=3)))
def test_values_are_stored_and_come_back_equal(value: Any) -> None:
    assert from_plain(to_plain(value)) == value
