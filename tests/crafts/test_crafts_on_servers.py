"""The crafts on a calendar server, and ways among any events: nothing meets what it must not."""

from __future__ import annotations

import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from itertools import combinations
from zoneinfo import ZoneInfo

import pytest

from tests.conftest import SETTINGS, Desk
from tests.servers import FaultyProxy, Radicale, running_radicale
from whenvoca.calendars.event import Event
from whenvoca.calendars.writer import write_calendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
NOW = ("--now", "2027-03-01 09:00")
TOWNS = SETTINGS.replace("[workspace]\n", '[workspace]\ntowns = "minutes"\n')
MINUTES = '[places.minutes]\nkind = "sheet"\nfile = "minutes.csv"\n'
SERVER = """
[places.visits]
kind = "calendar"
server = "{url}"
calendar = "{name}"
user = "alice"
password = {{ env = "DAV" }}
"""
PLACES = ("Quay School, Port Town", "Ridge School, Port Town", "Cape School, Farol", "")


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


def event(uid: str, day: int, hour: int, **more: object) -> Event:
    start = datetime(2027, 3, day, hour, tzinfo=AZORES)
    return Event(uid=uid, title=f"Visit {uid}", start=start, end=start + timedelta(hours=1), **more)  # type: ignore[arg-type]


def shown(desk: Desk) -> list[dict[str, str]]:
    told = desk.run("agenda", "--from", "2027-03-01", "--until", "2027-06-01", "--json").json["events"]
    return sorted(told, key=lambda each: (each["start"], each["title"]))


def lines(desk: Desk) -> list[str]:
    return [f"{each['start'][5:16]} {each['title']}" for each in shown(desk)]


def test_numbers_plans_and_ways_on_a_server(desk: Desk, radicale: Radicale, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DAV", "alicepw")
    radicale.make("crafts", "crafts")
    with FaultyProxy(radicale.url, lambda method, number: "") as proxy, radicale.client() as client:
        desk.settings(TOWNS, MINUTES, SERVER.format(url=proxy.url, name="crafts"))
        desk.write("minutes.csv", "Town,Minutes\nPort Town,30\n")
        for each in (event("s", 15, 10, rule="FREQ=WEEKLY;COUNT=8"), event("a", 16, 12, location=PLACES[0])):
            client.put(f"/alice/crafts/{each.uid}.ics", content=write_calendar(each, STAMP))
        before = lines(desk)
        desk.workflow(
            'when asked\n\nnumber events in visits\n  where  title is "Visit s"\n  title  "S {number}"\n', "number"
        )
        assert desk.run("run", "number", *NOW).code == 0
        assert sum(method == "PUT" for method, _, _ in proxy.seen) == 1  # one request for a whole series
        assert [line[-3:] for line in lines(desk) if " S " in line] == [f"S {n}" for n in range(1, 9)]
        desk.workflow("when asked about an event of visits\n\nadd travel around event\n", "way")
        assert desk.run("run", "way", "--event", "a", *NOW).code == 0
        moved = event("a", 17, 15, location=PLACES[0])
        assert client.put("/alice/crafts/a.ics", content=write_calendar(moved, STAMP)).is_success
        assert desk.run("run", *NOW).code == 0
        assert "03-17T14:30 To Visit a" in lines(desk)
        desk.workflow(
            'when asked\n\nspread tasks in visits\n  tasks  "x", "y"\n  from  2027-03-17 at 14:00\n'
            "  until  2027-03-17 at 18:00\n  around  visits\n",
            "plan",
        )
        assert desk.run("run", "plan", *NOW).code == 0
        assert [line for line in lines(desk) if line[-1] in "xy"] == ["03-17T14:00 x", "03-17T16:30 x", "03-17T17:00 y"]
        for run in sorted((each["run"] for each in desk.run("runs", "--json").json["runs"]), reverse=True):
            desk.run("undo", str(run), "--yes")
        client.put("/alice/crafts/a.ics", content=write_calendar(event("a", 16, 12, location=PLACES[0]), STAMP))
        assert lines(desk) == before


@pytest.mark.parametrize("seed", range(6))
def test_ways_never_meet_what_they_must_not(desk: Desk, seed: int) -> None:
    """Ways are put around one event after the other: what is refused leaves nothing, what stands meets no event."""
    chance = random.Random(seed)
    desk.settings(TOWNS, MINUTES, '[places.visits]\nkind = "calendar"\nfolder = "visits"\n')
    desk.write("minutes.csv", "Town,Minutes\nPort Town,30\nFarol,50\n")
    desk.workflow("when asked about an event of visits\n  where  travel is empty\n\nadd travel around event\n", "way")
    hours = sorted(chance.sample(range(7, 21), 6))
    events = [event(f"e{hour}", 15, hour, location=chance.choice(PLACES)) for hour in hours]
    for each in events:
        desk.write(f"visits/{each.uid}.ics", write_calendar(each, STAMP))
    for each in chance.sample(events, len(events)):
        before = desk.snapshot()
        done = desk.run("run", "way", "--event", each.uid, *NOW)
        if done.code:
            assert desk.snapshot() == before
    spans = [(datetime.fromisoformat(e["start"]), datetime.fromisoformat(e["end"]), e["title"]) for e in shown(desk)]
    for first, second in combinations(spans, 2):
        assert first[1] <= second[0] or second[1] <= first[0], (first, second)
    known = {event.title: event for event in events}
    for begin, end, title in spans:
        if title.startswith(("To ", "Back from ")):
            visit = known[title.removeprefix("To ").removeprefix("Back from ")]
            assert end == visit.start if title.startswith("To ") else begin == visit.end
