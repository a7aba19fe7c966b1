"""When people are busy, as CalDAV servers tell it: the report of a calendar, and the question about a person.

Radicale gives the report; no server that answers the question (RFC 6638) can run here, so a stand-in does.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest

from tests.conftest import SETTINGS, Desk, Result
from tests.servers import Answer, Fault, FaultyProxy, Radicale, running_radicale
from whenvoca.calendars.event import Event
from whenvoca.calendars.writer import write_calendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 4, 9, tzinfo=UTC)
FIND = (
    '\nwhen asked\n\nfind free-time in domes as gaps\n  people  "tomas"\n  from  2027-03-22 at 08:00\n'
    "  until  2027-03-22 at 18:00\n  length  1 hour\n"
    'fail join(each g in gaps: "{g.start as time}–{g.end as time}", " ")\n'
)
# SETTINGS ends with what is said of tomas
PLACES = """
free-busy = {{ {way} = "his" }}
[places.domes]
kind = "calendar"
folder = "domes"
[places.his]
kind = "calendar"
server = "{url}"
calendar = "{name}"
user = "alice"
password = {{ env = "DAV" }}
"""


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        server.make("tomas", "tomas")
        yield server


def find(desk: Desk, url: str, way: str, name: str) -> Result:
    desk.settings(SETTINGS, PLACES.format(way=way, url=url, name=name))
    desk.workflow(FIND, "x")
    return desk.run("run", "x")


def plain(done: Result) -> str:
    """What was said, whatever the width of the screen, without the column of workflows."""
    return " ".join(each for each in (done.out + done.err).split() if each != "x")


def event(uid: str, begin: int, end: int, **more: object) -> Event:
    day = datetime(2027, 3, 22, tzinfo=AZORES)
    return Event(uid=uid, title="Secret", start=day.replace(hour=begin), end=day.replace(hour=end), **more)  # type: ignore[arg-type]


def test_the_report_of_a_calendar(desk: Desk, radicale: Radicale, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DAV", "alicepw")
    for each in (event("a", 9, 10), event("b", 14, 15, rule="FREQ=WEEKLY"), event("c", 16, 17, busy="no")):
        with radicale.client() as client:
            assert client.put(f"/alice/tomas/{each.uid}.ics", content=write_calendar(each, STAMP)).status_code == 201
    asked = FaultyProxy(radicale.url, lambda method, number: "")
    with asked as proxy:
        told = find(desk, proxy.url, "calendar", "tomas")
    assert "10:00–14:00 15:00–18:00" in told.out
    assert "GET" not in {method for method, _, _ in asked.seen}  # no event is read
    radicale.make("empty", "empty")
    assert "08:00–18:00" in find(desk, radicale.url, "calendar", "empty").out


PROPERTIES = b"""<?xml version="1.0"?><multistatus xmlns="DAV:" xmlns:C="urn:ietf:params:xml:ns:caldav"><response>
<href>/alice/</href><propstat><prop><C:schedule-outbox-URL><href>/alice/outbox/</href></C:schedule-outbox-URL>
<C:calendar-user-address-set><href>/alice/</href><href>MAILTO:alice@example.org</href></C:calendar-user-address-set>
</prop><status>HTTP/1.1 200 OK</status></propstat></response></multistatus>"""
ANSWERED = """<?xml version="1.0"?>
<C:schedule-response xmlns="DAV:" xmlns:C="urn:ietf:params:xml:ns:caldav"><C:response>
<C:recipient><href>mailto:Tomas@example.org</href></C:recipient><C:request-status>{status}</C:request-status>{data}
</C:response></C:schedule-response>"""
DATA = (
    "<C:calendar-data>BEGIN:VCALENDAR\nVERSION:2.0\nMETHOD:REPLY\nBEGIN:VFREEBUSY\nDTSTART:20270322T000000Z\n"
    "DTEND:20270323T000000Z\nFREEBUSY;FBTYPE=BUSY:20270322T100000Z/PT2H\nEND:VFREEBUSY\nEND:VCALENDAR\n"
    "</C:calendar-data>"
)


@pytest.mark.parametrize(
    ("status", "data", "said"),
    [
        ("2.0;Success", DATA, "11:00–18:00"),
        ("3.7;Invalid calendar user", "", "does not tell when tomas@example.org is busy: 3.7;Invalid calendar user"),
    ],
)
def test_a_server_that_is_asked_about_a_person(
    desk: Desk, radicale: Radicale, monkeypatch: pytest.MonkeyPatch, status: str, data: str, said: str
) -> None:
    monkeypatch.setenv("DAV", "alicepw")

    def told(answer: Answer) -> Answer:
        return answer._replace(content=PROPERTIES) if b"schedule-outbox-URL" in answer.content else answer

    def plan(method: str, number: int) -> Fault:
        if method == "POST":
            return Answer(200, {"content-type": "application/xml"}, ANSWERED.format(status=status, data=data).encode())
        return told if method == "PROPFIND" else ""

    with FaultyProxy(radicale.url, plan) as proxy:
        done = find(desk, proxy.url, "server", "tomas")
        assert said in plain(done)
        assert [path for method, path, _ in proxy.seen if method == "POST"] == ["/alice/outbox/"]


def test_a_server_that_is_not_asked_about_people_says_so(
    desk: Desk, radicale: Radicale, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("DAV", "alicepw")
    refused = find(desk, radicale.url, "server", "tomas")
    assert refused.code == 3
    assert "is not asked when people are busy (RFC 6638)" in plain(refused)


@pytest.mark.parametrize(
    ("value", "said"),
    [
        ('{ calendar = "nowhere" }', '"nowhere" is no calendar of [places]'),
        ('{ place = "his" }', "free-busy says nothing that there is"),
        ("3", "free-busy says nothing that there is"),
    ],
)
def test_settings_that_name_nothing(desk: Desk, value: str, said: str) -> None:
    places = PLACES.format(way="calendar", url="http://localhost", name="x").replace('{ calendar = "his" }', value)
    desk.settings(SETTINGS, places)
    refused = desk.run("check")
    assert refused.code == 2
    assert said in refused.err
