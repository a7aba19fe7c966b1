"""What counts as a clash: by the calendar or the location, and how much a calendar holds."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.calendars.clashing import ClashRule, TakenTime, find_clashes
from whenvoca.calendars.event import Event
from whenvoca.calendars.free_time import busy_spans

UTC_ZONE = ZoneInfo("UTC")
DAY = datetime(2027, 3, 1, tzinfo=UTC)
SPANS = st.lists(st.tuples(st.integers(0, 40), st.integers(1, 8)), max_size=9)
WORKFLOW = """
when requests gains a row
  where  Answer is empty

create event in domes as slot
  title     Title
  start     Day at From
  end       Day at To
  location  if Title begins with "M" then "Mirror hall" else Title
  clash     refuse

change row
  Booking  slot.uid
"""


def hour(number: int) -> datetime:
    return DAY + timedelta(hours=number)


def events(spans: list[tuple[int, int]]) -> list[Event]:
    return [
        Event(uid=f"e{number}", start=hour(begin), end=hour(begin + length))
        for number, (begin, length) in enumerate(spans)
    ]


@given(SPANS, st.integers(1, 4), st.tuples(st.integers(0, 40), st.integers(1, 8)))
def test_there_is_room_until_as_many_are_there_as_it_holds(
    spans: list[tuple[int, int]], holds: int, mine: tuple[int, int]
) -> None:
    taken = [sum(begin <= at < begin + length for begin, length in spans) for at in range(60)]
    others = events(spans)
    [own] = events([mine])
    found = ClashRule(holds).in_the_way([own], others, UTC_ZONE)
    full = [at for at in range(mine[0], sum(mine)) if taken[at] >= holds]
    assert {each.uid for each in found} == {
        each.uid for each in others if any(each.start <= hour(at) < each.end for at in full)
    }
    busy = busy_spans(others, UTC_ZONE, (), holds)
    assert [any(low <= hour(at) < high for low, high in busy) for at in range(60)] == [n >= holds for n in taken]
    pairs = find_clashes([TakenTime("d", each) for each in others], {"d": UTC_ZONE}, rules={"d": ClashRule(holds)})
    assert bool(pairs) == (max(taken) > holds)


CASES = [
    ("", ["granted", "", "", ""], 1),
    ("holds = 2\n", ["granted", "granted", "", ""], 2),
    ('clash-by = "location"\n', ["granted", "", "granted", "granted"], 3),
    ('clash-by = "location"\nholds = 2\n', ["granted", "granted", "granted", "granted"], 4),
]


@pytest.mark.parametrize(("setting", "made", "count"), CASES)
def test_steps_and_agenda_go_by_the_same_rule(desk: Desk, setting: str, made: list[str], count: int) -> None:
    folder = 'kind = "calendar"\nfolder = "domes"\n'
    desk.settings(SETTINGS, REQUESTS.replace(folder, folder + setting))
    desk.workflow(WORKFLOW)
    desk.rows(
        ",,R-1,M 1,10.03.2027,20:00,22:00",
        ",,R-2,M 2,10.03.2027,21:00,23:00",
        ",,R-3,Dome,10.03.2027,21:00,23:00",
        ",,R-4,Roof,10.03.2027,21:30,23:00",
    )
    desk.run("run")
    booked = [line.split(",")[1] != "" for line in desk.read().splitlines()[1:]]
    assert booked == [each == "granted" for each in made]
    assert len(desk.events()) == count
    told = desk.run("agenda", "--from", "2027-03-01", "--until", "2027-04-01", "--clashes", "--json").json["clashes"]
    assert [each for each in told if each["by"] == "calendar"] == []


def test_more_than_it_holds_is_listed(desk: Desk) -> None:
    folder = 'kind = "calendar"\nfolder = "domes"\n'
    desk.settings(SETTINGS, REQUESTS.replace(folder, folder + "holds = 2\n"))
    desk.workflow(WORKFLOW.replace("  clash     refuse\n", ""))
    desk.rows(*(f",,R-{n},M {n},10.03.2027,20:00,22:00" for n in (1, 2)))
    desk.run("run")
    clashes = ("agenda", "--from", "2027-03-01", "--until", "2027-04-01", "--clashes", "--json")
    assert desk.run(*clashes).json["clashes"] == []
    desk.rows(*(f",,R-{n},M {n},10.03.2027,20:00,22:00" for n in (1, 2, 3)))
    desk.run("run")
    told = desk.run(*clashes).json["clashes"]
    assert [each["by"] for each in told] == ["calendar", "calendar", "location", "location"]


@pytest.mark.parametrize(
    ("setting", "message"),
    [('clash-by = "person"\n', 'clash-by is never "person"'), ("holds = 0\n", "holds is no whole number from 1 on")],
)
def test_settings_that_say_no_rule(desk: Desk, setting: str, message: str) -> None:
    folder = 'kind = "calendar"\nfolder = "domes"\n'
    desk.settings(SETTINGS, REQUESTS.replace(folder, folder + setting)).workflow(WORKFLOW)
    result = desk.run("check")
    assert result.code == 2
    assert message in result.err


@pytest.mark.parametrize(
    ("setting", "clash", "told"),
    [
        ("", "refuse", "R-1 and R-2 on 10 Mar 2027 21:00; R-2 and R-3 on 10 Mar 2027 22:30"),
        ("", "tentative", "R-1 and R-2 on 10 Mar 2027 21:00; R-2 and R-3 on 10 Mar 2027 22:30"),
        ("", "allow", ""),
        ("holds = 2\n", "refuse", ""),
        ('clash-by = "location"\n', "refuse", "R-1 and R-2 on 10 Mar 2027 21:00"),
    ],
)
def test_check_names_rows_that_take_each_others_time(desk: Desk, setting: str, clash: str, told: str) -> None:
    folder = 'kind = "calendar"\nfolder = "domes"\n'
    desk.settings(SETTINGS, REQUESTS.replace(folder, folder + setting))
    desk.workflow(WORKFLOW.replace("clash     refuse", f"clash     {clash}"))
    desk.rows(
        ",,R-1,M 1,10.03.2027,20:00,22:00",
        ",,R-2,M 2,10.03.2027,21:00,23:00",
        ",,R-3,Dome,10.03.2027,22:30,23:30",
        ",,R-4,Roof,11.03.2027,21:30,23:00",
        ",,R-5,Roof,31.02.2027,21:30,23:00",
    )
    [note] = [each for each in desk.run("check", "--json").json["warnings"] if "each other's" in each] or [""]
    assert note == (f"slots: rows take each other's time in domes: {told}" if told else "")
    assert desk.events() == []


ANSWERS = [
    ("yes", 0, 2, ""),
    ("no", 1, 1, "takes that time"),
    ("tentative", 0, 2, "tentative"),
    ("maybe", 1, 1, "none"),
]


@pytest.mark.parametrize(("answer", "code", "count", "said"), ANSWERS)
def test_with_ask_the_run_waits_until_somebody_says(desk: Desk, answer: str, code: int, count: int, said: str) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(WORKFLOW.replace("refuse", "ask"))
    desk.rows(",,R-1,M 1,10.03.2027,20:00,22:00", ",,R-2,M 2,10.03.2027,21:00,23:00")
    rehearsed = desk.run("rehearse")
    assert "would wait" in rehearsed.out
    for _ in range(2):
        waits = desk.run("run")
        assert "all the same?" in " ".join(waits.out.split())
        assert len(desk.events()) == 1
    done = desk.run("run", "--give", f"clash={answer}")
    assert done.code == code, done
    assert said in done.out + done.err
    assert len(desk.events()) == count
    if answer in ("yes", "tentative"):
        assert "nothing new" in desk.run("run").err


def test_a_mirror_that_moves_heeds_clashes_too(desk: Desk) -> None:
    mirror = (
        "when requests gains, changes or loses a row\n\nmirror event in domes\n  title  Title\n  start  Day at From\n"
    )
    desk.settings(SETTINGS, REQUESTS).workflow(f"{mirror}  end  Day at To\n  clash  refuse\n")
    desk.rows(",,R-1,M 1,10.03.2027,20:00,22:00", ",,R-2,M 2,10.03.2027,22:00,23:00")
    assert desk.run("run").code == 0
    desk.rows(",,R-1,M 1,10.03.2027,20:00,22:00", ",,R-2,M 2,10.03.2027,21:00,23:00")
    refused = desk.run("run")
    assert refused.code == 1
    assert '"M 1" takes that time' in " ".join(refused.out.split())
    desk.rows(",,R-1,M 1,10.03.2027,20:00,21:00", ",,R-2,M 2,10.03.2027,21:00,23:00")
    assert desk.run("run").code == 0
