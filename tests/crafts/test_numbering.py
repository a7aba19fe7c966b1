"""`number events in`: counts that hold through what is added, taken out, moved and named by hand."""

from __future__ import annotations

import random
import shutil
from datetime import UTC, datetime
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import EXAMPLES, SETTINGS, Desk
from whenvoca.calendars.event import Event
from whenvoca.calendars.numbering import closed_numbers, kept_numbers
from whenvoca.calendars.writer import write_calendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
PLACES = '[places.domes]\nkind = "calendar"\nfolder = "domes"\n[places.halls]\nkind = "calendar"\nfile = "halls.ics"\n'
NUMBERED = (
    'when asked\n\nnumber events in domes\n  where  title begins with "Mirror"\n'
    '  title  "{title} {number} of {total}"\n'
)


def made(uid: str, day: str, title: str = "Mirror", **more: object) -> Event:
    start = datetime.fromisoformat(f"2027-{day}T10:00").replace(tzinfo=AZORES)
    return replace(Event(uid=uid, title=title, start=start, end=start.replace(hour=11)), **more)


@pytest.fixture
def domes(desk: Desk) -> Desk:
    desk.settings(SETTINGS, PLACES)
    desk.workflow(NUMBERED, "count")
    for each in (made("a", "01-04"), made("b", "01-06"), made("c", "01-09"), made("x", "01-05", "Visit")):
        put(desk, each)
    return desk


def put(desk: Desk, event: Event) -> None:
    desk.write(f"domes/{event.uid}.ics", write_calendar(event, STAMP))


def titles(desk: Desk, until: str = "2028-01-01") -> list[str]:
    told = desk.run("agenda", "--from", "2027-01-01", "--until", until, "--json").json["events"]
    return [each["title"] for each in sorted(told, key=lambda each: each["start"])]


def number(desk: Desk, workflow: str = "count") -> list[str]:
    done = desk.run("run", workflow)
    assert done.code == 0, done
    return titles(desk)


@given(st.lists(st.one_of(st.none(), st.integers(-3, 12)), max_size=9), st.integers(-2, 3), st.sampled_from([1, 2, -1]))
def test_kept_numbers_rise_and_stay(before: list[int | None], first: int, step: int) -> None:
    numbers = kept_numbers(before, first, step)
    assert kept_numbers(list(numbers), first, step) == numbers
    assert all((later - each) * step > 0 for each, later in pairwise(numbers))
    if before and None not in before and before == numbers[: len(before)]:
        assert numbers == before
    some = closed_numbers(len(before), first, step)
    assert kept_numbers([None] * len(before), first, step) == some


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ([1, 2, None, 3], [1, 2, 3, 4]),
        ([1, 3], [1, 3]),
        ([1, None, 3], [1, 2, 3]),
        ([None, 1, 2], [1, 2, 3]),
        ([9, 1, 2, 3], [1, 2, 3, 4]),
        ([1, 2, 4, None], [1, 2, 4, 5]),
    ],
)
def test_kept_numbers_make_room_only_where_they_must(before: list[int | None], after: list[int]) -> None:
    assert kept_numbers(before, 1, 1) == after


def test_numbers_follow_what_is_added_taken_out_moved_and_named_by_hand(domes: Desk) -> None:
    assert number(domes) == ["Mirror 1 of 3", "Visit", "Mirror 2 of 3", "Mirror 3 of 3"]
    assert "nothing to do" in domes.run("run", "count").out
    put(domes, made("d", "01-07"))
    assert number(domes)[2:] == ["Mirror 2 of 4", "Mirror 3 of 4", "Mirror 4 of 4"]
    (domes.folder / "domes/a.ics").unlink()
    assert number(domes) == ["Visit", "Mirror 1 of 3", "Mirror 2 of 3", "Mirror 3 of 3"]
    put(domes, made("c", "01-02", "Mirror 3 of 3"))  # moved to the front
    assert number(domes) == ["Mirror 1 of 3", "Visit", "Mirror 2 of 3", "Mirror 3 of 3"]
    put(domes, made("b", "01-06", "The big clean"))
    assert number(domes) == ["Mirror 1 of 3", "Visit", "The big clean", "Mirror 3 of 3"]
    put(domes, made("b", "01-06"))  # named as it was before it had a number
    assert number(domes) == ["Mirror 1 of 3", "Visit", "Mirror 2 of 3", "Mirror 3 of 3"]


def test_a_lost_ledger_numbers_nothing_twice(domes: Desk) -> None:
    before = number(domes)
    for each in domes.folder.glob(".whenvoca/*"):
        each.unlink()
    assert number(domes) == before


MORE = [
    ("first  5\n  step  2", ["Mirror 5 of 9", "Visit", "Mirror 7 of 9", "Mirror 9 of 9"]),
    ("order  latest first", ["Mirror 3 of 3", "Visit", "Mirror 2 of 3", "Mirror 1 of 3"]),
    ("restart  every week", ["Mirror 1 of 3", "Visit", "Mirror 2 of 3", "Mirror 3 of 3"]),
    ("until  2027-01-06", ["Mirror 1 of 1", "Visit", "Mirror", "Mirror"]),
]


@pytest.mark.parametrize(("more", "wanted"), MORE)
def test_settings(domes: Desk, more: str, wanted: list[str]) -> None:
    domes.workflow(f"{NUMBERED}  {more}\n", "count")
    assert number(domes) == wanted
    assert domes.run("undo", "1", "--yes").code == 0
    assert titles(domes) == ["Mirror", "Visit", "Mirror", "Mirror"]


def test_gaps_may_be_kept(domes: Desk) -> None:
    domes.workflow(f"{NUMBERED}  gaps  kept\n", "count")
    number(domes)
    (domes.folder / "domes/b.ics").unlink()
    assert number(domes) == ["Mirror 1 of 3", "Visit", "Mirror 3 of 3"]
    put(domes, made("d", "01-07"))
    assert number(domes) == ["Mirror 1 of 3", "Visit", "Mirror 2 of 3", "Mirror 3 of 3"]


@pytest.mark.parametrize(("each", "last"), [("series", "Mirror 4 of 4"), ("title", "Mirror 7 of 7")])
def test_sequences_of_their_own(domes: Desk, each: str, last: str) -> None:
    put(domes, made("s", "02-01", rule="FREQ=WEEKLY;COUNT=4"))
    domes.workflow(f"{NUMBERED}  each  {each}\n", "count")
    assert number(domes)[-1] == last


def test_a_series_keeps_its_numbers_while_it_changes(domes: Desk) -> None:
    """Numbered occurrences follow their series; a longer one counts on; undone it is as it was."""
    for uid in "abc":
        (domes.folder / f"domes/{uid}.ics").unlink()
    series = made("s", "03-24", rule="FREQ=WEEKLY;COUNT=3")  # over a change of the clocks
    put(domes, series)
    plain = (domes.folder / "domes/s.ics").read_bytes()
    assert number(domes) == ["Visit", "Mirror 1 of 3", "Mirror 2 of 3", "Mirror 3 of 3"]
    path = domes.folder / "domes/s.ics"
    own = path.read_bytes()
    path.write_bytes(own.replace(b"COUNT=3", b"COUNT=4\r\nLOCATION:Dome 2"))
    assert number(domes)[1:] == [f"Mirror {n} of 4" for n in range(1, 5)]
    told = domes.run("agenda", "--from", "2027-03-01", "--until", "2027-05-01", "--json").json["events"]
    assert [each["location"] for each in told] == ["Dome 2"] * 4
    path.write_bytes(own)
    assert domes.run("undo", "1", "--yes").code == 0
    assert path.read_bytes() == plain


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ('number events in domes\n  where  title is "Mirror"\n  title  "Mirror"\n', "has no {number}"),
        ('number events in domes\n  where  title is "Mirror"\n', "where does the number stand"),
        ('number events in domes\n  title  "{number}"\n  step  0\n', "step is 0"),
        ('number events in domes\n  where  title is "Endless"\n  title  "{title} {number}"\n', "has no end"),
    ],
)
def test_what_cannot_be_numbered_is_refused(domes: Desk, body: str, said: str) -> None:
    put(domes, made("e", "01-04", "Endless", rule="FREQ=DAILY"))
    domes.workflow(f"when asked\n\n{body}", "odd")
    before = {path.name: path.read_bytes() for path in (domes.folder / "domes").iterdir()}
    refused = domes.run("run", "odd")
    assert refused.code in (1, 2)
    assert said in refused.out + refused.err
    assert before == {path.name: path.read_bytes() for path in (domes.folder / "domes").iterdir()}


@pytest.mark.parametrize("seed", range(3))
def test_numbers_are_those_of_a_count_by_hand_after_any_changes(domes: Desk, seed: int) -> None:
    chance = random.Random(seed)
    standing = {"a": "01-04", "b": "01-06", "c": "01-09"}
    for turn in range(6):
        if chance.random() < 0.4 and len(standing) > 1:
            gone = chance.choice(sorted(standing))
            del standing[gone]
            (domes.folder / f"domes/{gone}.ics").unlink()
        uid = chance.choice(sorted(standing)) if chance.random() < 0.4 and standing else f"n{turn}"
        standing[uid] = f"02-{chance.randint(1, 28):02}"
        path = domes.folder / f"domes/{uid}.ics"
        put(domes, made(uid, standing[uid], "Mirror 1 of 2" if path.exists() else "Mirror"))
        numbered = [each for each in number(domes) if each != "Visit"]
        assert numbered == [f"Mirror {n} of {len(standing)}" for n in range(1, len(standing) + 1)]


def test_titles_given_by_hand_outlast_an_undo(domes: Desk) -> None:
    put(domes, made("s", "03-01", rule="FREQ=WEEKLY;COUNT=3"))
    number(domes)
    path = domes.folder / "domes/s.ics"
    path.write_bytes(path.read_bytes().replace(b"Mirror 5 of 6", b"Great clean"))
    put(domes, made("d", "01-20"))
    assert "Great clean" in number(domes)
    newest = domes.run("runs", "--json", "--limit", "1").json["runs"][0]["run"]
    assert domes.run("undo", str(newest), "--yes").code == 0
    assert number(domes)[-3:] == ["Mirror 5 of 7", "Great clean", "Mirror 7 of 7"]


def test_the_example(desk: Desk) -> None:
    """Ten times from 7 January: the fourth was moved to Friday the 29th, the sixth was taken out."""
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for other in (desk.folder / "workflows").glob("*.voca"):
        if other.stem != "cleaning-numbers":
            other.unlink()
    series = made("clean", "01-07", "Mirror cleaning", rule="FREQ=WEEKLY;COUNT=10")
    series = replace(series, excluded=(made("x", "02-11").start,))
    moved = replace(made("clean", "01-29", "Mirror cleaning"), occurrence=made("x", "01-28").start)
    own = write_calendar(moved, STAMP).split(b"END:VTIMEZONE\r\n")[-1]
    path = desk.write("calendars/domes/clean.ics", write_calendar(series, STAMP).replace(b"END:VCALENDAR\r\n", own))
    plain, now = path.read_bytes(), ("--now", "2027-01-04 09:00")

    def lines() -> list[str]:
        told = desk.run("agenda", "domes", "--from", "2027-01-01", "--until", "2027-05-01", "--json").json["events"]
        return [f"{each['start'][5:10]} {each['title'].removeprefix('Mirror cleaning ')}" for each in told]

    (rehearsed,) = desk.run("rehearse", "cleaning-numbers", "--json", *now).json["runs"][:1]
    (effect,) = rehearsed["effects"]
    assert len(effect["after"]) == 9
    assert path.read_bytes() == plain
    assert desk.run("run", "cleaning-numbers", *now).code == 0
    wanted = ["01-07 1 of 9", "01-14 2 of 9", "01-21 3 of 9", "01-29 4 of 9", "02-04 5 of 9"]
    assert lines() == [*wanted, "02-18 6 of 9", "02-25 7 of 9", "03-04 8 of 9", "03-11 9 of 9"]
    before = path.read_bytes()
    assert "nothing new" in desk.run("run", "cleaning-numbers", *now).err
    assert path.read_bytes() == before
    path.write_bytes(before.replace(b"COUNT=10", b"COUNT=12"))
    assert desk.run("run", "cleaning-numbers", *now).code == 0
    assert [line.partition(" ")[2] for line in lines()] == [f"{number} of 11" for number in range(1, 12)]
    assert lines()[-2:] == ["03-18 10 of 11", "03-25 11 of 11"]
