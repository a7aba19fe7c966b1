"""Working days in values: over weekends, days off as a list and as a calendar file."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.calendars.event import Event
from whenvoca.calendars.writer import write_calendar
from whenvoca.errors import RowFault
from whenvoca.values.working_days import WEEKENDS, WorkingDays

HEAD = "Answer,Booking,No,Title,Day,From,To\n"
EASTER = 'days-off = ["2027-03-26", 2027-03-29]\n'
FILE = 'days-off = "days-off.ics"\n'
STEP = '\nwhen requests gains a row\n  where  Answer is empty\n\nchange row\n  Answer  ({value}) as "yyyy-MM-dd"\n'
DAYS = st.dates(date(2020, 1, 1), date(2035, 12, 31))


@given(DAYS, st.integers(-60, 60), st.frozensets(DAYS, max_size=20))
def test_as_many_working_days_lie_between_as_were_asked_for(start: date, count: int, off: frozenset[date]) -> None:
    class Off:
        def __contains__(self, day: object) -> bool:
            return day in WEEKENDS or day in off

    found = WorkingDays(count, Off()).after(start)
    low, high = sorted((start, found))
    between = [low + timedelta(days=each) for each in range((high - low).days + 1)]
    assert sum(day not in Off() for day in between if day != start) == abs(count)
    assert not count or found not in Off()


def holidays() -> bytes:
    good_friday, monday = date(2027, 3, 26), date(2027, 3, 29)
    yearly = Event(uid="m", title="Off", start=date(2020, 3, 29), end=date(2020, 3, 30), rule="FREQ=YEARLY", busy="no")
    friday = Event(uid="f", title="Good Friday", start=good_friday, end=date(2027, 3, 27))
    timed = datetime(2027, 3, 25, 9, tzinfo=UTC)
    late = Event(uid="t", title="Opens late", start=timed, end=timed + timedelta(hours=2))
    gone = Event(uid="g", title="Not any more", start=date(2027, 3, 24), end=date(2027, 3, 25), cancelled=True)
    assert monday.weekday() == 0
    stamp = datetime(2027, 1, 1, tzinfo=UTC)
    parts = [write_calendar(each, stamp).decode() for each in (yearly, friday, late, gone)]
    events = [
        "BEGIN:VEVENT" + part.split("BEGIN:VEVENT")[1].split("END:VEVENT")[0] + "END:VEVENT\r\n" for part in parts
    ]
    return ("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n" + "".join(events) + "END:VCALENDAR\r\n").encode()


@pytest.mark.parametrize(
    ("setting", "value", "wanted"),
    [
        ("", "Day - 2 working days", "03-26"),
        (EASTER, "Day - 2 working days", "03-24"),
        (FILE, "Day - 2 working days", "03-24"),
        (FILE, "Day - 1 working day", "03-25"),
        (FILE, "Day + 3 working days", "04-02"),
        (FILE, "Day at From - number(row.No) working days", "03-25"),
        ("", "Day + 0 working days", "03-30"),
    ],
)
def test_days_off_are_left_out(desk: Desk, setting: str, value: str, wanted: str) -> None:
    desk.write("days-off.ics", holidays())
    desk.settings(SETTINGS.replace("wait =", setting + "wait ="), REQUESTS)
    desk.workflow(STEP.format(value=value)).rows(",,1,Tour,30.3.2027,9:00,10:00")
    checked, done = desk.run("check"), desk.run("run")
    assert (checked.code, done.code) == (0, 0), (checked, done)
    assert desk.read().splitlines()[1].startswith(f"2027-{wanted},")


def test_the_file_is_read_again_when_it_has_changed(desk: Desk) -> None:
    from whenvoca.engine.workspace.days_off import DaysOff

    path = desk.write("days-off.ics", holidays())
    off = DaysOff(file=path, zone=ZoneInfo("Atlantic/Azores"))
    assert [day for day in range(22, 32) if date(2027, 3, day) in off] == [26, 27, 28, 29]
    path.write_bytes(holidays().replace(b"20270326", b"20270325").replace(b"20270327", b"20270326"))
    assert [day for day in range(22, 32) if date(2027, 3, day) in off] == [25, 27, 28, 29]
    path.write_bytes(b"BEGIN:VCALENDAR\r\n")
    with pytest.raises(RowFault, match="days off cannot be read"):
        assert date(2027, 3, 25) in off


@pytest.mark.parametrize(
    ("setting", "message"),
    [
        ('days-off = "nowhere.ics"\n', "the days off cannot be read: nowhere.ics"),
        ('days-off = ["someday"]\n', 'days-off: "someday" is no date'),
        ("days-off = 3\n", "days-off = 3 is neither a list of dates nor a file"),
    ],
)
def test_settings_that_say_no_days(desk: Desk, setting: str, message: str) -> None:
    desk.settings(SETTINGS.replace("wait =", setting + "wait ="), REQUESTS).workflow(STEP.format(value="Day"))
    result = desk.run("check")
    assert result.code == 2
    assert message in result.err
    assert "whenvoca.toml:" in result.err


@pytest.mark.parametrize(
    ("value", "message"),
    [
        ("Day - Title working days", "before working days stands a number"),
        ("Title - 2 working days", "working days"),
        ("2 working days - 1 working day", "working day"),
    ],
)
def test_check_refuses_what_cannot_be_counted(desk: Desk, value: str, message: str) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(STEP.format(value=value)).rows(",,1,Tour,30.3.2027,9:00,10:00")
    result = desk.run("check")
    assert result.code == 1
    assert message in result.out + result.err


@pytest.mark.parametrize(("count", "message"), [(10_000, "are too many"), (1, "no working day within a year")])
def test_what_has_no_end_is_refused(count: int, message: str) -> None:
    class Always:
        def __contains__(self, day: object) -> bool:
            return True

    with pytest.raises(RowFault, match=message):
        WorkingDays(count, WEEKENDS if count > 1 else Always()).after(date(2027, 1, 1))
