"""`spread tasks in`: jobs laid over a stretch of time, laid again, and taken back."""

from __future__ import annotations

import json
import shutil
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import EXAMPLES, SETTINGS, Desk, Result
from whenvoca.calendars.event import Event
from whenvoca.calendars.free_time import Span, joined
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.spreading import FreeLine, NoRoom, lay_by_lengths, lay_by_weights
from whenvoca.calendars.writer import write_calendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
MINUTE = timedelta(minutes=1)
PLACES = '[places.staff]\nkind = "calendar"\nfolder = "staff"\n[places.domes]\nkind = "calendar"\nfile = "domes.ics"\n'


# --- the laying itself


@st.composite
def lines(draw: st.DrawFn) -> tuple[FreeLine, list[Span], Span]:
    """A time over a change of the clocks, with what is in the way."""
    low = datetime(2027, 3, 27, 20, tzinfo=ZoneInfo("Europe/Lisbon")) + draw(st.integers(0, 700)) * MINUTE
    high = (low.astimezone(UTC) + draw(st.integers(1, 3000)) * MINUTE).astimezone(UTC)
    busy = []
    for _ in range(draw(st.integers(0, 5))):
        begin = low.astimezone(UTC) + draw(st.integers(-100, 2900)) * MINUTE
        busy.append((begin, begin + draw(st.integers(1, 200)) * MINUTE))
    window = (low.astimezone(UTC), high)
    return FreeLine([window], busy), joined(busy), window


@given(lines(), st.lists(st.integers(1, 9), min_size=1, max_size=7), st.integers(0, 40))
def test_by_weights_it_ends_exactly_and_never_overlaps(
    made: tuple[FreeLine, list[Span], Span], weights: list[int], pause: int
) -> None:
    line, busy, window = made
    try:
        laid = lay_by_weights(line, [Fraction(each) for each in weights], pause * 60, 0)
    except NoRoom:
        assert line.length - pause * 60 * (len(weights) - 1) < 2 * 60 * sum(weights)
        return
    pieces = [piece for job in laid for piece in job]
    assert all(first[1] <= second[0] for first, second in pairwise(pieces))
    assert all(begin < end and window[0] <= begin and end <= window[1] for begin, end in pieces)
    assert not any(begin < there[1] and there[0] < end for begin, end in pieces for there in busy)
    assert pieces[-1][1] == line.spans[-1][1]
    took = [sum((end - begin for begin, end in job), timedelta()) / MINUTE for job in laid]
    share = (line.length / 60 - pause * (len(weights) - 1)) / sum(weights)
    assert all(abs(minutes - share * weight) <= 1 for minutes, weight in zip(took, weights, strict=True))
    if not busy:
        gaps = [second[0][0] - first[-1][1] for first, second in pairwise(laid)]
        assert all(gap == pause * MINUTE for gap in gaps)


@given(lines(), st.lists(st.integers(1, 200), min_size=1, max_size=7), st.integers(0, 40), st.sampled_from([0, 10, 30]))
def test_by_lengths_each_gets_its_length_or_nothing(
    made: tuple[FreeLine, list[Span], Span], lengths: list[int], pause: int, least: int
) -> None:
    _, busy, window = made
    line = FreeLine([window], busy, least * 60)
    assume(line.length)
    laid = lay_by_lengths(line, [each * 60 for each in lengths], pause * 60, least * 60)
    pieces = [piece for job in laid if job for piece in job]
    assert all(first[1] <= second[0] for first, second in pairwise(pieces))
    assert not any(begin < there[1] and there[0] < end for begin, end in pieces for there in busy)
    for job, length in zip(laid, lengths, strict=True):
        if job is not None:
            assert sum((end - begin for begin, end in job), timedelta()) == length * MINUTE
            assert all(end - begin >= min(least, length) * MINUTE for begin, end in job)


# --- the step


def plain(done: Result) -> str:
    """What was said, whatever the width of the screen, without the column of workflows."""
    return " ".join(each for each in (done.out + done.err).split() if each not in ("plan", "night-plan"))


def at(text: str) -> datetime:
    return datetime.fromisoformat(f"2027-{text}").replace(tzinfo=AZORES)


def event(uid: str, begin: str, end: str, **more: object) -> Event:
    return replace(Event(uid=uid, title=uid, start=at(begin), end=at(end)), **more)


@pytest.fixture
def plan(desk: Desk) -> Desk:
    desk.settings(SETTINGS, PLACES)
    return desk


def lay(desk: Desk, more: str, *options: str, tasks: str = '"a", "b", "c"', code: int = 0) -> str:
    desk.workflow(f"when asked\n\nspread tasks in staff as pieces\n  tasks  {tasks}\n{more}", "plan")
    done = desk.run("run", "plan", *options)
    assert done.code == code, done
    return plain(done)


def shown(desk: Desk) -> list[str]:
    found = []
    for path in desk.events("staff"):
        found += [each for each in read_events(path.read_bytes(), AZORES) if not each.cancelled]
    found.sort(key=lambda each: each.start)
    return [f"{each.start:%d %H:%M}–{each.end:%H:%M} {each.title}" for each in found]


DAY = "  from   2027-03-17 at 09:00\n  until  2027-03-17 at 12:00\n"
CASES = [
    (DAY, ["17 09:00–10:00 a", "17 10:00–11:00 b", "17 11:00–12:00 c"]),
    (f"{DAY}  pause  15 minutes\n", ["17 09:00–09:50 a", "17 10:05–10:55 b", "17 11:10–12:00 c"]),
    (f"{DAY}  weights  2, 1, 1\n", ["17 09:00–10:30 a", "17 10:30–11:15 b", "17 11:15–12:00 c"]),
    (f"{DAY}  lengths  30 minutes, 1 hour, 20 minutes\n", ["17 09:00–09:30 a", "17 09:30–10:30 b", "17 10:30–10:50 c"]),
    (
        f"{DAY}  around  domes\n",  # taken from 9:30 to 10:30
        ["17 09:00–09:30 a", "17 10:30–10:40 a", "17 10:40–11:20 b", "17 11:20–12:00 c"],
    ),
    (
        f"{DAY}  around  domes\n  least  15 minutes\n  lengths  40 minutes, 30 minutes, 10 minutes\n",
        ["17 09:00–09:25 a", "17 10:30–10:45 a", "17 10:45–11:15 b", "17 11:15–11:25 c"],
    ),
    (
        "  from   2027-03-18\n  until  2027-03-23\n  hours  09:00 and 10:00\n  days  weekdays\n",
        [f"{day} {span}" for day, span in (("18", "09:00–10:00 a"), ("19", "09:00–10:00 b"), ("22", "09:00–10:00 c"))],
    ),
    (
        "  from   2027-03-17 at 22:00\n  until  2027-03-18 at 01:00\n",
        ["17 22:00–23:00 a", "17 23:00–00:00 b", "18 00:00–01:00 c"],
    ),
    (
        f"{DAY}  due  2027-03-20, 2027-03-19, 2027-03-18\n  order  by due\n",
        ["17 09:00–10:00 c", "17 10:00–11:00 b", "17 11:00–12:00 a"],
    ),
    (
        f'{DAY}  title  "{{number}}/{{total}} {{task}}"\n',
        ["17 09:00–10:00 1/3 a", "17 10:00–11:00 2/3 b", "17 11:00–12:00 3/3 c"],
    ),
]


@pytest.mark.parametrize(("more", "wanted"), CASES)
def test_laid_as_it_is_said_and_taken_back(plan: Desk, more: str, wanted: list[str]) -> None:
    plan.write("domes.ics", write_calendar(event("busy", "03-17 09:30", "03-17 10:30"), STAMP))
    if "18" in more and "hours" in more:
        wanted = wanted[:3]
    assert lay(plan, more)
    assert shown(plan) == wanted
    assert "nothing to do" in plan.run("run", "plan").out
    assert plan.run("undo", "1", "--yes").code == 0
    assert shown(plan) == []


def test_another_list_changes_the_plan_and_what_was_changed_by_hand_stays(plan: Desk) -> None:
    lay(plan, DAY)
    before = {each.name for each in plan.events("staff")}
    lay(plan, DAY, tasks='"a", "c", "d", "a"')
    assert shown(plan) == ["17 09:00–09:45 a", "17 09:45–10:30 c", "17 10:30–11:15 d", "17 11:15–12:00 a"]
    assert len(before & {each.name for each in plan.events("staff")}) == 2  # a and c are the same events
    path = next(each for each in plan.events("staff") if b"SUMMARY:d" in each.read_bytes())
    moved = path.read_bytes().replace(b"T103000", b"T093000").replace(b"T111500", b"T100000")
    path.write_bytes(moved)
    lay(plan, DAY, tasks='"a", "c", "d"')
    assert shown(plan) == ["17 09:00–09:30 a", "17 09:30–10:00 d", "17 10:00–10:45 a", "17 10:45–12:00 c"]
    next(each for each in plan.events("staff") if b"SUMMARY:c" in each.read_bytes()).unlink()
    lay(plan, f'{DAY}send message to room "r" in chat\n  text  pieces.left\n'.split("send")[0], tasks='"a", "c", "d"')
    assert [line[-1] for line in shown(plan)] == ["a", "d", "a"]  # taken out by hand, so left out
    plan.workflow('when asked\n\ntake back "plan" in staff\n', "away")
    assert plan.run("run", "away", "--yes").code == 0
    assert shown(plan) == ["17 09:30–10:00 d"]


def test_under_asked_the_answers_make_the_plan_and_a_list_does_not(plan: Desk) -> None:
    body = (
        'when asked\n\nask day "Which day?"\n  kind  date\nask jobs "What?"\n  kind  list\n'
        "spread tasks in staff\n  tasks  jobs\n  from  day at 09:00\n  until  day at 11:00\n"
    )
    plan.workflow(body, "plan")
    for day, jobs in (("2027-03-17", "a\nb"), ("2027-03-18", "a"), ("2027-03-17", "c")):
        assert plan.run("run", "plan", "--give", f"day={day}", "--give", f"jobs={jobs}").code == 0
    assert shown(plan) == ["17 09:00–11:00 c", "18 09:00–11:00 a"]


def test_what_does_not_fit_is_left_out_where_that_is_said(plan: Desk) -> None:
    more = f"{DAY}  lengths  2 hours, 90 minutes, 30 minutes\n"
    said = lay(plan, more, code=1)
    assert "3 tasks of 4 hours do not fit into 3 hours of free time" in said
    assert shown(plan) == []
    told = '  overflow  leave\nif pieces.left is filled\n  fail "left: {join(pieces.left)}"\n'
    assert "left: b" in lay(plan, more + told, code=1)
    assert shown(plan) == ["17 09:00–11:00 a", "17 11:00–11:30 c"]


@pytest.mark.parametrize(
    ("more", "tasks", "said"),
    [
        (f"{DAY}  pause  90 minutes\n", '"a", "b", "c"', "2 pauses of 1 hour 30 minutes do not fit into 3 hours"),
        ("  from  2027-03-17\n  until  2027-03-16\n", '"a"', "does not come after"),
        (f"{DAY}  weights  1, 0\n", '"a", "b"', 'the weight of "b" is 0'),
        (f"{DAY}  weights  1\n", '"a", "b"', "2 tasks and 1 weights"),
        (DAY, 'each n in split(long, ";"): n', "10,000 tasks"),
        (f"{DAY}  lengths  1 hour\n  weights  1\n", '"a"', "do not go together"),
    ],
)
def test_what_cannot_be_laid_is_refused(plan: Desk, more: str, tasks: str, said: str) -> None:
    long = ";".join(f"t{n}" for n in range(10_000))
    plan.workflow(f'when asked\n\nlet long = "{long}"\nspread tasks in staff\n  tasks  {tasks}\n{more}', "plan")
    done = plan.run("run", "plan")
    assert done.code in (1, 2)
    assert said in plain(done)
    assert shown(plan) == []


# --- the examples


@pytest.fixture
def larkmoor(desk: Desk) -> Desk:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem not in ("night-plan", "clear-night-plan"):
            path.unlink()
    desk.write("calendars/domes/m42.ics", write_calendar(event("M 42", "03-17 21:30", "03-18 02:00"), STAMP))
    desk.write("calendars/staff.ics", write_calendar(event("Handmade", "03-17 23:00", "03-17 23:30"), STAMP))
    desk.write("night-jobs.csv", "Done,Job,Weight\n,flat fields,1\n,focus,1\n,M 42,2\n,darks,1\n,closing,1\n")
    return desk


def pieces(desk: Desk) -> list[str]:
    found = read_events((desk.folder / "calendars/staff.ics").read_bytes(), AZORES)
    return [f"{each.start:%H:%M}–{each.end:%H:%M} {each.title}" for each in sorted(found, key=lambda e: e.start)]


NIGHT = ("--event", "M 42", "--now", "2027-03-17 12:00")


def test_night_plan_and_clearing_it_away(larkmoor: Desk) -> None:
    assert larkmoor.drive("check").code == 0
    refused = larkmoor.drive("run", "night-plan", *NIGHT, "--give", "rest=70 minutes")
    assert refused.code == 1
    assert "4 pauses of 1 hour 10 minutes do not fit into 4 hours 30 minutes" in plain(refused)
    assert larkmoor.drive("run", "night-plan", *NIGHT, "--give", "rest=9 minutes").code == 0
    wanted = ["21:30–22:09 flat fields", "22:18–22:57 focus", "23:00–23:30 Handmade", "23:06–00:24 M 42"]
    wanted += ["00:33–01:12 darks", "01:21–02:00 closing"]
    assert pieces(larkmoor) == wanted
    told = (larkmoor.folder / "chat/rooms/dome-floor.jsonl").read_text().splitlines()
    assert len(told) == 1
    lines = json.loads(told[0])["text"].split("\n")
    assert len(lines) == 5
    assert lines[0] == "21:30–22:09 · flat fields"
    held = larkmoor.drive("run", "clear-night-plan", *NIGHT)
    assert held.code == 4
    assert pieces(larkmoor) == wanted
    path = larkmoor.folder / "calendars/staff.ics"
    path.write_bytes(path.read_bytes().replace(b"SUMMARY:focus", b"SUMMARY:Focus twice"))
    done = larkmoor.drive("run", "clear-night-plan", *NIGHT, "--yes")
    assert done.code == 0
    assert "Focus twice" in done.out
    assert pieces(larkmoor) == ["22:18–22:57 Focus twice", "23:00–23:30 Handmade"]
