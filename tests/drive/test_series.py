"""Repeating events through the program: one occurrence, it and those after it, the whole series."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.calendars.event import Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import expand_events

AZORES = ZoneInfo("Atlantic/Azores")
LOW, HIGH = datetime(2027, 1, 1, tzinfo=AZORES), datetime(2028, 1, 1, tzinfo=AZORES)
MAKE = (
    'when requests gains a row\n  where  Title is "series"\ncreate event in domes as wash\n  title   "Mirror wash"\n'
    "  start   Day at From\n  end     Day at To\n  repeat  every week on tuesday, 8 times\n"
)
FIND = (
    'when requests gains a row\n  where  Title is "change"\nfind event in domes as one\n  where  title is "Mirror '
    'wash"\n'
    "  from   Day\n  until  Day + 1 day\n\n"
)


@pytest.fixture
def series(desk: Desk) -> Desk:
    desk.settings(SETTINGS, REQUESTS).workflow(MAKE, "make")
    desk.rows(",,R-1,series,02.03.2027,11:20,12:20")
    assert desk.run("run").code == 0
    return desk


def play(desk: Desk, step: str, day: str = "16.03.2027") -> list[Event]:
    desk.workflow(FIND + step, "change")
    desk.rows(",,R-1,series,02.03.2027,11:20,12:20", f",,R-2,change,{day},,")
    result = desk.run("run", "change")
    assert result.code == 0, result
    assert "nothing new" in desk.run("run").err
    return expanded(desk)


def expanded(desk: Desk) -> list[Event]:
    events = [event for path in desk.events() for event in read_events(path.read_bytes(), AZORES)]
    return expand_events(events, LOW, HIGH, AZORES)


def shown(events: list[Event]) -> list[str]:
    return [
        f"{event.start:%d.%m. %H:%M}" + ("" if event.title == "Mirror wash" else f" {event.title}") for event in events
    ]


PLAIN = [
    "02.03. 11:20",
    "09.03. 11:20",
    "16.03. 11:20",
    "23.03. 11:20",
    "30.03. 11:20",
    "06.04. 11:20",
    "13.04. 11:20",
    "20.04. 11:20",
]


def test_series_is_made_and_keeps_its_wall_clock(series: Desk) -> None:
    assert shown(expanded(series)) == PLAIN


def test_one_occurrence_is_moved_and_the_others_stay(series: Desk) -> None:
    found = play(series, 'change event one\n  start  one.start + 2 hours\n  title  "late"\n')
    assert shown(found) == [*PLAIN[:2], "16.03. 13:20 late", *PLAIN[3:]]
    assert found[2].end - found[2].start == timedelta(hours=1)  # type: ignore[operator]
    assert len(series.events()) == 1
    assert series.run("undo", "2", "--yes").code == 0
    assert shown(expanded(series)) == PLAIN


def test_one_occurrence_is_taken_out_and_comes_back(series: Desk) -> None:
    assert shown(play(series, "delete event one\n")) == [*PLAIN[:2], *PLAIN[3:]]
    assert series.run("undo", "2", "--yes").code == 0
    assert shown(expanded(series)) == PLAIN


def test_this_and_later_become_a_series_of_their_own(series: Desk) -> None:
    found = play(series, "change event one\n  which  this and later\n  start  one.start - 1 hour\n")
    assert shown(found) == [*PLAIN[:2], *(each.replace("11:20", "10:20") for each in PLAIN[2:])]
    assert len(series.events()) == 2
    assert series.run("undo", "2", "--yes").code == 0
    assert shown(expanded(series)) == PLAIN
    assert len(series.events()) == 1


def test_this_and_later_are_taken_away(series: Desk) -> None:
    assert shown(play(series, "delete event one\n  which  this and later\n")) == PLAIN[:2]


def test_the_whole_series_moves_by_one_of_its_occurrences(series: Desk) -> None:
    found = play(
        series, 'change event one\n  which  all of them\n  start  one.start + 30 minutes\n  location  "Dome"\n'
    )
    assert shown(found) == [each.replace("11:20", "11:50") for each in PLAIN]
    assert {event.location for event in found} == {"Dome"}
    assert len(series.events()) == 1


def test_the_whole_series_goes(series: Desk) -> None:
    assert play(series, "delete event one\n  which  all of them\n") == []


def test_later_ones_end_with_those_that_were_changed_by_hand(series: Desk) -> None:
    play(series, 'change event one\n  location  "Hall"\n', day="30.03.2027")
    before = expanded(series)
    series.workflow(FIND.replace('"change"', '"end"') + "delete event one\n  which  this and later\n", "end")
    series.rows(",,R-1,series,02.03.2027,11:20,12:20", ",,R-3,end,16.03.2027,,")
    assert series.run("run", "end").code == 0
    assert shown(expanded(series)) == PLAIN[:2]
    assert series.run("undo", "3", "--yes").code == 0
    assert shown(expanded(series)) == shown(before)


def test_later_ones_that_were_changed_by_hand_are_not_lost_by_a_change(series: Desk) -> None:
    play(series, 'change event one\n  location  "Hall"\n', day="30.03.2027")
    before = [path.read_bytes() for path in series.events()]
    change = 'change event one\n  which  this and later\n  title  "Rinse"\n'
    series.workflow(FIND.replace('"change"', '"end"') + change, "end")
    series.rows(",,R-1,series,02.03.2027,11:20,12:20", ",,R-3,end,16.03.2027,,")
    result = series.run("run", "end", "--json")
    assert result.code == 1
    assert "one occurrence from 2027-03-30 on would be lost" in result.json["runs"][0]["reason"]
    assert [path.read_bytes() for path in series.events()] == before


def test_looked_up_by_uid_a_series_is_changed_whole(series: Desk) -> None:
    series.workflow(
        'when requests gains a row\n  where  Title is "end"\nchange event in domes\n  where  title is "Mirror wash"\n '
        " repeat  every week on tuesday, 3 times\n",
        "end",
    )
    series.rows(",,R-1,series,02.03.2027,11:20,12:20", ",,R-3,end,,,")
    assert series.run("run", "end").code == 0
    assert shown(expanded(series)) == PLAIN[:3]


def test_take_back_leaves_what_another_hand_changed(series: Desk) -> None:
    series.rows(",,R-1,series,02.03.2027,11:20,12:20", ",,R-5,series,03.03.2027,11:20,12:20".replace("03.03", "09.03"))
    assert series.run("run").code == 0
    touched = series.events()[0]
    touched.write_bytes(touched.read_bytes().replace(b"SUMMARY:Mirror wash", b"SUMMARY:Mine"))
    series.workflow('when requests gains a row\n  where  Title is "clear"\ntake back "make" in domes\n', "clear")
    series.rows(",,R-1,series,02.03.2027,11:20,12:20", ",,R-5,series,09.03.2027,11:20,12:20", ",,R-9,clear,,,")
    result = series.run("run", "clear", "--json")
    assert result.code == 0
    effects = result.json["runs"][0]["effects"]
    assert [effect["verb"] for effect in sorted(effects, key=lambda effect: effect["verb"])] == [
        "delete event",
        "take event as changed",
    ]
    assert series.events() == [touched]
