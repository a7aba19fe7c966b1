"""Free and busy times that are published for others, and read from them (RFC 5545 3.6.4)."""

from __future__ import annotations

import http.server
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import icalendar
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.free_busy import read_free_busy, write_free_busy
from whenvoca.calendars.free_time import joined
from whenvoca.calendars.writer import write_calendar
from whenvoca.errors import SourceFault

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
PLACES = '[places.domes]\nkind = "calendar"\nfolder = "domes"\n[places.halls]\nkind = "calendar"\nfolder = "halls"\n'
PUBLISH = '\nwhen asked\n\npublish free-time of domes, halls to "{file}"\n  from  2027-03-22\n  until  2027-03-29\n'
FIND = (
    '\nwhen asked\n\nfind free-time in domes as gaps\n  people  "tomas"\n  from  2027-03-22 at 08:00\n'
    "  until  2027-03-22 at 18:00\n  length  2 hours\n"
    'add row to gaps-found\n  Free  join(each g in gaps: g.start as "HH:mm", " ")\n'
)
LOG = '[places.gaps-found]\nkind = "sheet"\nfile = "gaps.csv"\ncreate = true\n'
MOMENTS = st.datetimes(datetime(2000, 1, 1), datetime(2040, 1, 1)).map(lambda at: at.replace(microsecond=0, tzinfo=UTC))
SPANS = st.lists(st.tuples(MOMENTS, st.integers(1, 10_000)), max_size=12)


@given(SPANS, SPANS)
def test_what_is_written_is_read_again_and_by_the_library(sure: list[tuple], perhaps: list[tuple]) -> None:
    busy = {
        kind: joined((at, at + timedelta(minutes=length)) for at, length in given)
        for kind, given in (("yes", sure), ("tentative", perhaps))
    }
    span = (datetime(2000, 1, 1, tzinfo=UTC), datetime(2041, 1, 1, tzinfo=UTC))
    data = write_free_busy(busy, span, uid="u", stamp=STAMP, organizer="ines@example.org")
    found = read_free_busy(data, "f")
    assert (found.begin, found.end) == span
    assert found.busy == joined([*busy["yes"], *busy["tentative"]])
    [component] = icalendar.Calendar.from_ical(data).walk("VFREEBUSY")
    assert component["ORGANIZER"] == "mailto:ines@example.org"
    periods = component.get("FREEBUSY", [])
    assert len(periods if isinstance(periods, list) else [periods]) == len(busy["yes"]) + len(busy["tentative"])


HEAD = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VFREEBUSY\r\n"
TAIL = "END:VFREEBUSY\r\nEND:VCALENDAR\r\n"


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        ("FREEBUSY:20270322T090000Z/PT1H30M,20270322T120000Z/20270322T130000Z", ["09:00-10:30", "12:00-13:00"]),
        ("FREEBUSY;FBTYPE=FREE:20270322T090000Z/PT1H", []),
        ("FREEBUSY;FBTYPE=BUSY-TENTATIVE:20270322T090000Z/P1D", ["09:00-09:00"]),
        ("FREEBUSY;FBTYPE=BUSY:20270322T0900\r\n 00Z/PT15M", ["09:00-09:15"]),
        ("FREEBUSY;FBTYPE=X-ODD:20270322T090000Z/P1W", ["09:00-09:00"]),
    ],
)
def test_periods_of_other_programs(line: str, wanted: list[str]) -> None:
    found = read_free_busy(f"{HEAD}{line}\r\n{TAIL}".encode(), "f.ifb").busy
    assert [f"{low:%H:%M}-{high:%H:%M}" for low, high in found] == wanted


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n", "holds no free and busy times"),
        (f"{HEAD}FREEBUSY:soon/PT1H\r\n{TAIL}", "cannot be read as FREEBUSY"),
        (f"{HEAD}FREEBUSY:20270322T090000Z/Pxx\r\n{TAIL}", "cannot be read as FREEBUSY"),
        (f"{HEAD}FREEBUSY:20270322T090000Z/P99999999D\r\n{TAIL}", "cannot be read as FREEBUSY"),
    ],
)
def test_what_cannot_be_read_is_said(text: str, message: str) -> None:
    with pytest.raises(SourceFault, match=message):
        read_free_busy(text.encode(), "f.ifb")


def made(uid: str, hour: int, **more: object) -> Event:
    start = datetime(2027, 3, 22, hour, tzinfo=AZORES)
    return replace(Event(uid=uid, title=f"Secret {uid}", start=start, end=start + timedelta(hours=1)), **more)


@pytest.fixture
def full(desk: Desk) -> Desk:
    desk.settings(SETTINGS, PLACES, LOG)
    for each in (
        made("plain", 9),
        made("perhaps", 10, busy="tentative"),
        made("open", 12, busy="no"),
        made("gone", 13, cancelled=True),
        made("weekly", 15, rule="FREQ=WEEKLY;COUNT=3"),
    ):
        desk.write(f"domes/{each.uid}.ics", write_calendar(each, STAMP))
    desk.write("halls/touching.ics", write_calendar(made("touching", 8, location="Secret hall"), STAMP))
    return desk


def test_busy_times_are_published_and_nothing_else(full: Desk) -> None:
    full.workflow(PUBLISH.format(file="out/free.ifb"), "publish")
    assert full.run("rehearse", "publish").code == 0
    assert not (full.folder / "out").exists()
    assert full.run("run", "publish").code == 0
    data = (full.folder / "out/free.ifb").read_bytes()
    assert b"Secret" not in data
    lines = [line for line in data.decode().split("\r\n") if line.startswith("FREEBUSY")]
    assert lines == [
        "FREEBUSY;FBTYPE=BUSY:20270322T090000Z/20270322T110000Z",
        "FREEBUSY;FBTYPE=BUSY:20270322T160000Z/20270322T170000Z",
        "FREEBUSY;FBTYPE=BUSY-TENTATIVE:20270322T110000Z/20270322T120000Z",
    ]
    again = full.run("run", "publish", "--json")
    assert again.json["runs"][-1]["effects"] == []
    assert (full.folder / "out/free.ifb").read_bytes() == data


def test_undo_brings_the_file_back_unless_somebody_changed_it(full: Desk) -> None:
    full.workflow(PUBLISH.format(file="free.ifb"), "publish")
    path = full.folder / "free.ifb"
    full.run("run", "publish")
    first = path.read_bytes()
    (full.folder / "domes/plain.ics").unlink()
    full.run("run", "publish")
    assert path.read_bytes() != first
    assert full.run("undo", "2", "--yes").code == 0
    assert path.read_bytes() == first
    path.write_bytes(first + b"\r\n")
    left = full.run("undo", "1", "--yes")
    assert (left.code, path.exists()) == (1, True)
    assert "changed since" in left.out + left.err
    path.write_bytes(first)
    assert full.run("undo", "1", "--yes").code == 0
    assert not path.exists()
    undone = full.run("runs", "--json").json["runs"][0]["run"]
    assert full.run("undo", str(undone), "--yes").code == 0
    assert path.read_bytes() == first


@pytest.mark.parametrize(
    ("file", "message"),
    [
        ("mine.ics", "was not published by a workflow"),
        ("../free.ifb", "is not in the workspace"),
        ("free.txt", "does not end in .ifb or .ics"),
        (".whenvoca/free.ifb", "is no folder of the workspace"),
    ],
)
def test_no_other_file_is_written_over(full: Desk, file: str, message: str) -> None:
    mine = full.write("mine.ics", write_calendar(made("mine", 9), STAMP)).read_bytes()
    full.workflow(PUBLISH.format(file=file), "publish")
    result = full.run("run", "publish", "--json")
    assert result.code == 1
    assert message in result.out
    assert (full.folder / "mine.ics").read_bytes() == mine
    assert not (full.folder.parent / "free.ifb").exists()


TOMAS = f"{HEAD}DTSTART:20270301T000000Z\r\nDTEND:{{end}}\r\nFREEBUSY:20270322T130000Z/PT2H\r\n{TAIL}"


@pytest.fixture
def address() -> Iterator[str]:
    """A web server that publishes when Tomas is busy; at other paths nothing."""

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            is_there = self.path == "/tomas.ifb"
            self.send_response(200 if is_there else 404)
            self.end_headers()
            self.wfile.write(TOMAS.format(end="20270501T000000Z").encode() if is_there else b"no")

        def log_message(self, *arguments: object) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


def seek(full: Desk, where: str) -> Desk:
    full.settings(SETTINGS + f'free-busy = "{where}"\n', PLACES, LOG)
    staff = made("staff", 9, attendees=(Attendee("tomas@example.org"),), organizer="ines@example.org")
    for each in full.folder.glob("domes/*.ics"):
        each.unlink()
    full.write("domes/staff.ics", write_calendar(staff, STAMP))
    return full.workflow(FIND, "find")


@pytest.mark.parametrize("source", ["file", "web"])
def test_published_times_count_as_busy(full: Desk, address: str, source: str) -> None:
    full.write("tomas.ifb", TOMAS.format(end="20270501T000000Z"))
    seek(full, "tomas.ifb" if source == "file" else f"{address}/tomas.ifb")
    result = full.run("run", "find")
    assert result.code == 0, result
    assert full.read("gaps.csv").splitlines()[1] == "10:00 14:00"


@pytest.mark.parametrize(
    ("where", "code", "message"),
    [
        ("nowhere.ifb", 1, 'there is no file "nowhere.ifb"'),
        ("short.ifb", 1, "short.ifb says when tomas is busy only from"),
        ("domes/staff.ics", 1, "holds no free and busy times"),
        ("{address}/other.ifb", 3, "does not give its busy times: 404"),
    ],
)
def test_what_is_not_published_is_never_taken_for_free(
    full: Desk, address: str, where: str, code: int, message: str
) -> None:
    full.write("short.ifb", TOMAS.format(end="20270322T120000Z"))
    seek(full, where.format(address=address))
    result = full.run("run", "find", "--json")
    assert message in result.out.replace('\\"', '"'), result
    assert result.code == code, result
    assert not (full.folder / "gaps.csv").exists()
