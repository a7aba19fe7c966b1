"""A series that moves as a whole: what was taken out of it stays out, and changed occurrences stay those they were."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import SETTINGS, Desk
from tests.servers import Radicale, running_radicale
from whenvoca.calendars.event import Event
from whenvoca.calendars.moved_occurrences import with_moved_occurrences
from whenvoca.calendars.patch import change_event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.series import moved_whole
from whenvoca.calendars.writer import write_calendar

ZONE = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
NOW = ("--now", "2027-03-01 09:00")
FOLDER = '[places.domes]\nkind = "calendar"\nfolder = "domes"\n'
FILE = '[places.domes]\nkind = "calendar"\nfile = "domes.ics"\n'


def at(day: str, hour: int) -> datetime:
    return datetime.fromisoformat(f"2027-{day}").replace(hour=hour, tzinfo=ZONE)


def series() -> bytes:
    """Five mondays over a change of the clocks: the second is taken out, the third renamed, the fourth moved."""
    master = Event(
        uid="s", title="Tour", start=at("03-15", 10), end=at("03-15", 11), rule="FREQ=WEEKLY;BYDAY=MO;COUNT=5",
        excluded=(at("03-22", 10),),
    )  # fmt: skip
    plain = replace(master, rule="", excluded=())
    renamed = replace(plain, title="Big tour", occurrence=at("03-29", 10), start=at("03-29", 10), end=at("03-29", 11))
    moved = replace(plain, occurrence=at("04-05", 10), start=at("04-06", 15), end=at("04-06", 17))
    parts = [write_calendar(each, STAMP) for each in (master, renamed, moved)]
    events = [part.split(b"END:VTIMEZONE\r\n")[-1].removesuffix(b"END:VCALENDAR\r\n") for part in parts]
    return parts[0].split(b"BEGIN:VEVENT")[0] + b"".join(events) + b"END:VCALENDAR\r\n"


BEFORE = ["03-15 10:00 Tour", "03-29 10:00 Big tour", "04-06 15:00 Tour", "04-12 10:00 Tour"]
LATER = ["03-15 12:00 Tour", "03-29 12:00 Big tour", "04-06 15:00 Tour", "04-12 12:00 Tour"]
NEXT_DAY = ["03-16 10:00 Tour", "03-30 10:00 Big tour", "04-06 15:00 Tour", "04-13 10:00 Tour"]


def shown(desk: Desk) -> list[str]:
    told = desk.run("agenda", "--from", "2027-03-01", "--until", "2027-06-01", "--json").json["events"]
    return [f"{each['start'][5:10]} {each['start'][11:16]} {each['title']}" for each in told]


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


@pytest.mark.parametrize("kind", ["folder", "file", "server"])
@pytest.mark.parametrize(("by", "wanted"), [("2 hours", LATER), ("1 day", NEXT_DAY), ("-2 hours", None)])
def test_a_series_that_moves_takes_its_exceptions_along(
    desk: Desk, radicale: Radicale, monkeypatch: pytest.MonkeyPatch, kind: str, by: str, wanted: list[str] | None
) -> None:
    if kind == "server":
        monkeypatch.setenv("DAV", "alicepw")
        name = f"m{abs(hash(by))}"
        url = radicale.make(name, name)
        with radicale.client() as client:
            assert client.put(f"{url}s.ics", content=series()).status_code == 201
        desk.settings(
            SETTINGS,
            f'[places.domes]\nkind = "calendar"\nserver = "{radicale.url}"\ncalendar = "{name}"\nuser = "alice"\n'
            'password = { env = "DAV" }\n',
        )
    else:
        desk.settings(SETTINGS, FOLDER if kind == "folder" else FILE)
        desk.write("domes/s.ics" if kind == "folder" else "domes.ics", series())
    assert shown(desk) == BEFORE
    sign = "-" if by.startswith("-") else "+"
    desk.workflow(f"when asked\n\nchange events in domes as e\n  start  e.start {sign} {by.removeprefix('-')}\n", "go")
    assert desk.run("run", "go", *NOW).code == 0
    assert shown(desk) == (wanted or [each.replace(" 10:", " 08:") for each in BEFORE])
    assert desk.run("undo", "1", "--yes").code == 0
    assert shown(desk) == BEFORE


def test_what_was_taken_out_of_a_mirrored_series_stays_out_when_it_moves(desk: Desk) -> None:
    desk.settings(SETTINGS, FOLDER + '[places.rota]\nkind = "sheet"\nfile = "rota.csv"\nkey = "No"\n')
    desk.workflow(
        "when rota gains, changes or loses a row\n\nmirror event in domes\n  title   Title\n  start   Day at From\n"
        '  repeat  "every week, 4 times"\n',
        "rota",
    )
    desk.write("rota.csv", "No,Title,Day,From\n1,Tour,2027-03-15,10:00\n")
    assert desk.run("run", *NOW).code == 0
    (path,) = desk.events("domes")
    path.write_bytes(
        path.read_bytes().replace(b"END:VEVENT", b"EXDATE;TZID=Atlantic/Azores:20270322T100000\r\nEND:VEVENT")
    )
    desk.write("rota.csv", "No,Title,Day,From\n1,Tour,2027-03-15,14:00\n")
    assert desk.run("run", *NOW).code == 0
    assert shown(desk) == [f"{day} 14:00 Tour" for day in ("03-15", "03-29", "04-05")]


def test_a_series_may_be_moved_in_words_though_one_was_changed(desk: Desk) -> None:
    desk.settings(SETTINGS, FOLDER)
    desk.write("domes/s.ics", series())
    said = desk.run("say", "move all the tours to 12:00", "--in", "domes", *NOW)
    if said.code == 4:
        said = desk.run("say", "yes", "--in", "domes", *NOW)
    assert said.code == 0, said
    assert shown(desk) == LATER


@given(
    st.integers(-2000, 2000).filter(bool),
    st.lists(st.integers(0, 9), max_size=4, unique=True),
    st.lists(st.integers(0, 9), max_size=4, unique=True),
)
def test_as_many_and_as_far(minutes: int, out: list[int], named: list[int]) -> None:
    start = datetime(2027, 3, 22, 9, tzinfo=ZONE)
    master = Event(uid="s", title="T", start=start, end=start + timedelta(hours=1), rule="FREQ=DAILY;COUNT=10")

    def on(number: int) -> datetime:
        return (start.replace(tzinfo=None) + timedelta(days=number)).replace(tzinfo=ZONE)

    master = replace(master, excluded=tuple(on(number) for number in out))
    data = write_calendar(master, STAMP)
    for number in set(named) - set(out):
        own = replace(
            master, rule="", excluded=(), occurrence=on(number), start=on(number), end=on(number) + timedelta(hours=1)
        )
        data = change_event(data, own, replace(own, title=f"T{number}"), STAMP, ZONE)
    begin = start.replace(tzinfo=None) + timedelta(minutes=minutes)
    moved = replace(master, start=begin.replace(tzinfo=ZONE), end=(begin + timedelta(hours=1)).replace(tzinfo=ZONE))
    moved = moved_whole(master, moved)
    changed = with_moved_occurrences(change_event(data, master, moved, STAMP, ZONE), master, moved, ZONE)
    low, high = datetime(2027, 1, 1, tzinfo=UTC), datetime(2027, 6, 1, tzinfo=UTC)
    before, after = (
        [
            (each.start.replace(tzinfo=None), each.title)
            for each in expand_events(read_events(text, ZONE), low, high, ZONE)
        ]
        for text in (data, changed)
    )
    if not any(date(2027, 3, 27) <= wall.date() <= date(2027, 3, 29) for wall, _ in [*before, *after] if wall.hour < 3):
        assert after == [(wall + timedelta(minutes=minutes), title) for wall, title in before]
