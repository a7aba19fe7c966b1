"""The pieces of a text: days, times, lengths, repetitions and reminders, in forms that people really use."""

from __future__ import annotations

from datetime import date, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.speech.chart.chart import Chart, read_chart

NOW = datetime(2027, 3, 17, 10)  # a Wednesday


def chart(text: str, order: str = "day first") -> Chart:
    """The pieces of a text, seen from NOW."""
    return read_chart(text, NOW, order, {"ines": "ines", "april": "april"})


DAYS = [
    ("dentist tmrw 2pm", "tmrw", "03-18", "03-18"),
    ("fri the 26th 10pm to 2am", "fri the 26th", "03-26", "03-26"),
    ("monday after next between 9 and 11", "monday after next", "03-29", "03-29"),
    ("holidays since 3 may until 14 may", "since 3 may until 14 may", "05-03", "05-14"),
    ("4th–10th oct", "4th–10th oct", "10-04", "10-10"),
    ("friday 8 october to monday 11 october", "friday 8 october to monday 11 october", "10-08", "10-11"),
    ("21 of april", "21 of april", "04-21", "04-21"),
    ("12.7., 14h", "12.7.", "07-12", "07-12"),
    ("week on monday", "week on monday", "03-29", "03-29"),
    ("friday in eight days", "friday in eight days", "03-26", "03-26"),
    ("day 22 at 16h", "day 22", "03-22", "03-22"),
    ("last working day of september", "last working day of september", "09-30", "09-30"),
    ("in a fortnight at noon", "in a fortnight", "03-31", "03-31"),
    ("the twenty-fourth of this month", "the twenty-fourth of this month", "03-24", "03-24"),
    ("Wendsday 14.30", "Wendsday", "03-17", "03-17"),
    ("25/26 march", "25/26 march", "03-25", "03-26"),
    ("wk 27: wed 1100", "wk 27: wed", "07-07", "07-07"),
    ("tomorrow week", "tomorrow week", "03-25", "03-25"),
    ("in 3 working days", "in 3 working days", "03-22", "03-22"),
    ("good friday", "good friday", "03-26", "03-26"),
]


@pytest.mark.parametrize(("text", "said", "first", "last"), DAYS, ids=[each[0] for each in DAYS])
def test_days(text: str, said: str, first: str, last: str) -> None:
    read = chart(text)
    found = {read.text.said(each.begin, each.end): each.value for each in read.days}
    assert said in found, found
    assert (found[said].first, found[said].last) == tuple(date.fromisoformat(f"2027-{each}") for each in (first, last))


@pytest.mark.parametrize(
    ("text", "order", "said"),
    [
        ("3/4", "", "Is 3/4 the 3 April or the 4 March?"),
        ("31 april", "", "31 April is not a date: April has 30 days. Which day is meant?"),
        ("friday 20 march", "", "20 March 2027 is a Saturday, not a Friday. Which day is meant?"),
        ("25/3", "", ""),
    ],
)
def test_days_in_doubt(text: str, order: str, said: str) -> None:
    assert [each.value.doubt for each in chart(text, order).days][:1] == [said]


STRETCHES = [
    ("10pm to 2am", "22:00-02:00"),
    ("2-4p", "14:00-16:00"),
    ("from ten at night until four in the morning", "22:00-04:00"),
    ("1100 hrs to 1145 hrs", "11:00-11:45"),
    ("14h until 17h30", "14:00-17:30"),
    ("between 9 and 11", "09:00-11:00"),
    ("from 10 to 12", "10:00-12:00"),
    ("7-9pm", "19:00-21:00"),
]


@pytest.mark.parametrize(("text", "told"), STRETCHES, ids=[each[0] for each in STRETCHES])
def test_stretches(text: str, told: str) -> None:
    [found] = chart(text).stretches
    ends = (found.value.begin, found.value.end)
    assert "-".join(f"{each.hour:02}:{each.minute:02}" for each in ends) == told


CLOCKS = [
    ("half eleven", 11, 30, True),
    ("quarter to five", 4, 45, True),
    ("at 8 hours and 15 minutes", 8, 15, True),
    ("two thirty pm", 14, 30, False),
    ("at 18 o'clock", 18, 0, False),
    ("noonish", 12, 0, False),
    ("tide 1120 sat", 11, 20, True),
    ("ten to eight in the morning", 7, 50, False),
    ("0730", 7, 30, False),
]


@pytest.mark.parametrize(("text", "hour", "minute", "is_open"), CLOCKS, ids=[each[0] for each in CLOCKS])
def test_clocks(text: str, hour: int, minute: int, is_open: bool) -> None:
    found = [(each.value.hour, each.value.minute, each.value.is_open) for each in chart(text).clocks]
    assert (hour, minute, is_open) in found


RULES = [
    ("bins every other tues", "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU"),
    ("the last friday of each month", "FREQ=MONTHLY;BYDAY=-1FR"),
    ("on the 27th of every month", "FREQ=MONTHLY;BYMONTHDAY=27"),
    ("q2w tues 5pm", "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU"),
    ("daily mon-fri", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR"),
    ("1st and 3rd wednesdays of the month", "FREQ=MONTHLY;BYDAY=1WE,3WE"),
    ("every tuesday and thursday", "FREQ=WEEKLY;BYDAY=TU,TH"),
    ("fridays at half four", "FREQ=WEEKLY;BYDAY=FR"),
]


@pytest.mark.parametrize(("text", "rule"), RULES, ids=[each[0] for each in RULES])
def test_repetitions(text: str, rule: str) -> None:
    assert rule in [each.value.rule for each in chart(text).repetitions]


@pytest.mark.parametrize(
    ("text", "minutes"),
    [
        ("blood test mon 1130 remind me 2 hrs b4", 120),
        ("with an alarm a day before", 1440),
        ("buzz me an hour b4", 60),
        ("with a 10-min warning", 10),
        ("alert 24 h prior", 1440),
        ("remind 30", 30),
        ("30 minutes earlier", None),
    ],
)
def test_reminders(text: str, minutes: int | None) -> None:
    assert next((each.value for each in chart(text).reminders), None) == minutes


def test_a_month_is_no_person_where_it_is_part_of_a_date() -> None:
    """The first Sunday of April is nobody's; April and Ines come."""
    assert [each.value for each in chart("concert on the first sunday of april with ines").people] == ["ines"]


@given(st.text(max_size=200), st.sampled_from(["", "day first", "month first"]))
def test_any_text_has_pieces_within_it(text: str, order: str) -> None:
    """Every piece takes at least one token, and none beyond the last."""
    read = chart(text, order)
    pieces = [*read.days, *read.clocks, *read.stretches, *read.lengths, *read.repetitions, *read.reminders]
    assert all(0 <= each.begin < each.end <= len(read.text.tokens) for each in pieces)


@pytest.mark.parametrize(
    ("text", "said", "zone"),
    [
        ("call tomorrow at 3pm London time", "London time", "Europe/London"),
        ("at 11:30 new york time friday", "new york time", "America/New_York"),
        ("friday, us eastern time, 10am", "us eastern time", "America/New_York"),
        ("briefing 10am Pacific Friday", "Pacific", "America/Los_Angeles"),
        ("fri 14:00-15:00 CET", "CET", "Europe/Brussels"),
        ("fri 14:00 (Europe/Berlin)", "Europe/Berlin", "Europe/Berlin"),
        ("9am America/New_York", "America/New_York", "America/New_York"),
        ("demo 10:00 UTC-5", "UTC-5", "Etc/GMT+5"),
        ("demo 10:00, UTC", "UTC", "UTC"),
        ("2 to 3 p.m. Newfoundland time", "Newfoundland time", "America/St_Johns"),
        ("3pm for 40 min, gmt", "gmt", "UTC"),
        ("3pm IST", "IST", ""),
    ],
)
def test_zones(text: str, said: str, zone: str) -> None:
    read = chart(text)
    assert [(read.text.said(each.begin, each.end), each.value.name) for each in read.zones] == [(said, zone)]


@pytest.mark.parametrize(
    "text",
    [
        "3pm in London",
        "3pm pacific fleet talk",
        "fri 3pm West wing tour",
        "easter time lunch at 12:00",
        "West wing tour 3pm",
        "London time",
    ],
)
def test_what_is_no_zone(text: str) -> None:
    assert not chart(text).zones
