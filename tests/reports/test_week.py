"""A week laid out: pieces on their days, side by side where they overlap, over the changes of the clocks."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.calendars.event import Event
from whenvoca.reports.week import (
    PALETTE,
    ShownEvent,
    bar_rows,
    colour_of,
    lay_out_week,
    monday_of,
    shown_hours,
    time_label,
)

AZORES = ZoneInfo("Atlantic/Azores")
MONDAY = date(2027, 3, 22)  # its Sunday has 23 hours


def shown(start: datetime | date, end: datetime | date, **more: Any) -> ShownEvent:
    return ShownEvent(Event(uid=f"{start} {end}", start=start, end=end, **more), "domes")


def at(day: int, hour: int, minute: int = 0) -> datetime:
    return datetime(2027, 3, day, hour, minute, tzinfo=AZORES)


def test_a_night_stands_on_both_its_days() -> None:
    week = lay_out_week([shown(at(24, 21, 30), at(25, 2))], MONDAY, AZORES)
    assert [(each.day, each.begin, each.end, each.is_first) for each in week.pieces] == [
        (2, 21.5, 24.0, True),
        (3, 0.0, 2.0, False),
    ]
    assert time_label(week.pieces[0].shown.event, AZORES) == "21:30–02:00"


def test_what_overlaps_stands_side_by_side_and_what_follows_does_not() -> None:
    week = lay_out_week(
        [
            shown(at(24, 9), at(24, 11)),
            shown(at(24, 10), at(24, 12)),
            shown(at(24, 11), at(24, 12)),
            shown(at(24, 12), at(24, 13)),
        ],
        MONDAY,
        AZORES,
    )
    assert [(each.begin, each.lane, each.lanes) for each in week.pieces] == [
        (9.0, 0, 2),
        (10.0, 1, 2),
        (11.0, 0, 2),
        (12.0, 0, 1),
    ]


def test_a_moment_without_length_is_seen() -> None:
    (piece,) = lay_out_week([shown(at(24, 9), at(24, 9))], MONDAY, AZORES).pieces
    assert (piece.begin, piece.end) == (9.0, 9.25)


def test_whole_days_are_cut_at_the_ends_of_the_week_and_stand_in_rows() -> None:
    week = lay_out_week(
        [
            shown(date(2027, 3, 20), date(2027, 3, 24)),
            shown(date(2027, 3, 23), date(2027, 3, 30)),
            shown(date(2027, 3, 26), date(2027, 3, 27)),
            shown(date(2027, 3, 1), date(2027, 3, 22)),
            shown(date(2027, 3, 29), date(2027, 3, 30)),
        ],
        MONDAY,
        AZORES,
    )
    assert [(low, high) for _, low, high in week.whole] == [(0, 1), (1, 6), (4, 4)]
    assert bar_rows(week) == [0, 1, 0]


EVENTS = st.lists(
    st.builds(
        lambda start, minutes: shown(start.replace(tzinfo=UTC), start.replace(tzinfo=UTC) + timedelta(minutes=minutes)),
        st.datetimes(datetime(2027, 3, 20), datetime(2027, 3, 31)),
        st.integers(0, 3000),
    ),
    max_size=8,
)


@given(EVENTS)
def test_no_two_pieces_cover_each_other(found: list[ShownEvent]) -> None:
    week = lay_out_week(found, MONDAY, AZORES)
    for number, one in enumerate(week.pieces):
        assert 0 <= one.day < 7
        assert 0 <= one.begin < one.end <= 24.25
        assert 0 <= one.lane < one.lanes
        for other in week.pieces[:number]:
            apart = one.day != other.day or one.begin >= other.end or other.begin >= one.end
            assert apart or one.lane != other.lane
    low, high = shown_hours(week)
    assert 0 <= low <= 8
    assert 18 <= high <= 24


@pytest.mark.parametrize(
    ("day", "starts", "first"),
    [
        (date(2027, 3, 24), "monday", MONDAY),
        (MONDAY, "monday", MONDAY),
        (date(2027, 3, 28), "sunday", date(2027, 3, 28)),
        (date(2027, 3, 27), "sunday", date(2027, 3, 21)),
        (date(2027, 3, 24), "someday", MONDAY),
    ],
)
def test_weeks_begin_where_the_workspace_says(day: date, starts: str, first: date) -> None:
    assert monday_of(day, starts) == first


def test_colours_are_the_events_own_or_their_calendars() -> None:
    assert colour_of(shown(at(24, 9), at(24, 10), colour="teal"), ["domes"]) == "teal"
    calendars = [f"c{number}" for number in range(len(PALETTE))] + ["domes"]
    assert colour_of(shown(at(24, 9), at(24, 10)), calendars) == PALETTE[0]


def test_an_empty_week_shows_the_day() -> None:
    assert shown_hours(lay_out_week([], MONDAY, AZORES)) == (8, 18)
    assert shown_hours(lay_out_week([shown(at(24, 5), at(24, 21, 30))], MONDAY, AZORES)) == (5, 22)
