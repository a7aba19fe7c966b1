"""Free time against an oracle that looks at each minute, in zones that change their clocks."""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.free_time import Window, busy_spans, free_starts

MINUTE = timedelta(minutes=1)
LOW = datetime(2027, 3, 27, 6, 17, tzinfo=UTC)  # the clocks change in the night after
HIGH = LOW + timedelta(days=3)
ZONES = ("Atlantic/Azores", "Europe/Lisbon", "America/New_York", "Asia/Kathmandu")
MOMENTS = st.integers(-600, 4600).map(lambda minutes: LOW + minutes * MINUTE)
EVENTS = st.builds(
    lambda start, minutes, busy: Event(uid="u", start=start, end=start + minutes * MINUTE, busy=busy),
    MOMENTS,
    st.integers(0, 300),
    st.sampled_from(["yes", "tentative", "unavailable", "no"]),
)
TIMES = st.builds(time, st.integers(0, 23), st.integers(0, 59))
WINDOWS = st.builds(Window, TIMES, TIMES, st.frozensets(st.integers(0, 6), min_size=1)).filter(
    lambda window: window.begin != window.end
)


@given(st.lists(EVENTS, max_size=12), WINDOWS, st.sampled_from(ZONES), st.integers(5, 180), st.integers(5, 120))
def test_what_is_offered_is_free_and_nothing_free_is_left_out(
    events: list[Event], window: Window, zone: str, length: int, every: int
) -> None:
    here = ZoneInfo(zone)
    found = list(free_starts(window, LOW, HIGH, here, busy_spans(events, here), length * MINUTE, every * MINUTE))
    taken = {
        each.start + step * MINUTE
        for each in events
        if each.takes_time and isinstance(each.start, datetime) and isinstance(each.end, datetime)
        for step in range((each.end - each.start) // MINUTE)
    }
    wanted = []
    for offset in range(-1, 4):
        day = LOW.astimezone(here).date() + timedelta(days=offset)
        if day.weekday() not in window.weekdays:
            continue
        begin = datetime.combine(day, window.begin, here).astimezone(UTC)
        end = datetime.combine(day + timedelta(days=window.end <= window.begin), window.end, here).astimezone(UTC)
        start = begin
        while start + length * MINUTE <= min(end, HIGH):
            minutes = {start + step * MINUTE for step in range(length)}
            if start >= LOW and not minutes & taken:
                wanted.append(start)
            start += every * MINUTE
    assert found == sorted(wanted)


def test_whose_time_counts() -> None:
    day = datetime(2027, 3, 17, 9, tzinfo=UTC)

    def event(hour: int, *attendees: Attendee, organizer: str = "") -> Event:
        start = day + timedelta(hours=hour)
        return Event(
            uid=str(hour), start=start, end=start + timedelta(hours=1), attendees=attendees, organizer=organizer
        )

    events = [
        event(0, Attendee("ines@example.org")),
        event(2, Attendee("rui@example.org")),
        event(4, Attendee("INES@example.org", answer="DECLINED")),
        event(6),
        event(8, Attendee("rui@example.org"), organizer="ines@example.org"),
        Event(uid="all day", start=date(2027, 3, 19), end=date(2027, 3, 20)),
    ]
    zone = ZoneInfo("UTC")
    whole = (datetime(2027, 3, 19, tzinfo=UTC), datetime(2027, 3, 20, tzinfo=UTC))

    def hours(people: tuple[str, ...]) -> list[int]:
        return [(begin - day) // timedelta(hours=1) for begin, _ in busy_spans(events, zone, people)[:-1]]

    assert busy_spans(events, zone)[-1] == whole
    assert hours(()) == [0, 2, 4, 6, 8]
    assert hours(("ines@example.org",)) == [0, 6, 8]
    assert hours(("rui@example.org",)) == [2, 6, 8]


def test_a_window_over_midnight() -> None:
    window = Window(time(22), time(2), frozenset({5}))  # saturday evening, into the sunday whose clocks change
    zone = ZoneInfo("Europe/Lisbon")
    starts = free_starts(window, LOW, HIGH, zone, [], timedelta(hours=1), timedelta(hours=1))
    assert [each.astimezone(zone).strftime("%a %H:%M") for each in starts] == ["Sat 22:00", "Sat 23:00", "Sun 00:00"]
