"""Calendars on a server: discovery, trouble of every kind, few requests, and another client's view of what we write."""

from __future__ import annotations

import csv
import os
import ssl
import subprocess
import threading
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from msgspec.structs import replace

from tests.conftest import SETTINGS, WORKFLOW, Desk
from tests.servers import FaultyProxy, Radicale, running_radicale
from whenvoca.calendars.event import Event
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import Resource
from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.places.calendar.dav import DavCalendar
from whenvoca.places.calendar.dav_client import DavClient
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
START = datetime(2027, 3, 17, 21, 30, tzinfo=AZORES)
R1, R2 = ",,R-1,M 42,17.03.2027,21:30,02:00", ",,R-2,M 13,18.03.2027,20:00,22:00"
SHEET = '\n[places.requests]\nkind = "sheet"\nfile = "requests.csv"\nkey = "No"\ndates = "day first"\n'
SERVER = (
    '[places.domes]\nkind = "calendar"\nserver = "{url}"\ncalendar = "{name}"\nuser = "alice"\npassword = {{ env '
    '= "DAV" }}\nseconds = 1\n'
)


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    os.environ["DAV"] = "alicepw"
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


@pytest.fixture
def domes(radicale: Radicale, request: pytest.FixtureRequest) -> str:
    """A fresh calendar; answers its name."""
    name = f"domes{abs(hash(request.node.name))}"
    radicale.make(name, name)
    return name


def client_of(url: str, *, user: str = "alice", password: dict[str, str] | None = None, **more: object) -> DavClient:
    settings = PlaceSettings("domes", {"password": password or {"env": "DAV"}}, "")
    return DavClient(url, user, Secret(settings, "password", user), wait=lambda seconds: None, name="domes", **more)  # type: ignore[arg-type]


def event(number: int, **more: object) -> Event:
    lineage = Lineage("r", "w", f"R-{number}", "s")
    begin = START + timedelta(days=number)
    plain = Event(
        uid=lineage.to_uid(1),
        title=f"E {number}",
        start=begin,
        end=begin + timedelta(hours=2),
        origin=lineage.to_mark(),
    )
    return replace(plain, **more)  # type: ignore[arg-type]


def creation(made: Event) -> Effect:
    return Effect(place="domes", verb="create event", target=made.uid, lineage=made.origin, number=1, event=made)


def desk_on(desk: Desk, url: str, name: str) -> Desk:
    desk.settings(SETTINGS, SHEET, SERVER.format(url=url, name=name)).workflow(WORKFLOW)
    return desk


def granted(desk: Desk) -> list[str]:
    return [row["Answer"] for row in csv.DictReader(desk.read().splitlines())]


# --- through the program


def test_run_change_and_undo_on_a_server(desk: Desk, radicale: Radicale, domes: str) -> None:
    desk_on(desk, radicale.url, domes).rows(R1, R2)
    assert "0 events" in desk.run("places").out
    assert desk.run("run").code == 0
    assert granted(desk) == ["granted", "granted"]
    assert len(radicale.events(domes)) == 2
    link = next(csv.DictReader(desk.read().splitlines()))["Booking"]
    assert f"{link}.ics" in radicale.events(domes)
    assert "nothing new" in desk.run("run").err
    assert "M 42" in desk.run("agenda", "--from", "2027-03-15", "--until", "2027-03-25").out
    assert desk.run("undo", "1", "--yes").code == 0
    assert len(radicale.events(domes)) == 1


def test_second_client_reads_what_we_wrote_and_we_read_what_it_writes(
    desk: Desk, radicale: Radicale, domes: str
) -> None:
    import icalendar

    desk_on(desk, radicale.url, domes).workflow(
        "when domes gains, changes or loses an event\n  existing  yes\nadd row to log\n  What  event.title\n  Is    "
        "happened\n",
        "tell",
    )
    desk.settings(
        SETTINGS,
        SHEET,
        SERVER.format(url=radicale.url, name=domes),
        '[places.log]\nkind = "sheet"\nfile = "log.csv"\ncreate = true\n',
    ).rows(R1)
    assert desk.run("run").code == 0
    (name,) = radicale.events(domes)
    with radicale.client() as other:
        address = f"/alice/{domes}/{name}"
        answer = other.get(address)
        calendar = icalendar.Calendar.from_ical(answer.content)
        (component,) = calendar.walk("VEVENT")
        assert (str(component["SUMMARY"]), component["DTSTART"].dt.isoformat()) == ("M 42", "2027-03-17T21:30:00-01:00")
        component["SUMMARY"] = "Theirs"
        assert other.put(
            address, content=calendar.to_ical(), headers={"if-match": answer.headers["etag"]}
        ).status_code in (200, 201, 204)
        assert desk.run("run").code == 0
        assert other.delete(address).status_code in (200, 204)
    assert desk.run("run").code == 0
    assert [(row["What"], row["Is"]) for row in csv.DictReader(desk.read("log.csv").splitlines())] == [
        ("M 42", "gained"),
        ("Theirs", "changed"),
        ("Theirs", "lost"),
    ]


def test_rehearsing_asks_the_server_but_writes_nothing_there(desk: Desk, radicale: Radicale, domes: str) -> None:
    with FaultyProxy(radicale.url, lambda method, number: "") as proxy:
        desk_on(desk, proxy.url, domes).rows(R1, R2)
        assert desk.run("run", "--row", "2").code == 0
        before = radicale.events(domes)
        proxy.seen.clear()
        told = desk.run("rehearse", "--json").json["runs"]
        assert [run["effects"][0]["verb"] for run in told] == ["create event"]
        assert desk.run("undo", "1").code == 4
        assert {method for method, _, _ in proxy.seen} <= {"GET", "PROPFIND", "REPORT"}
        assert radicale.events(domes) == before


# --- discovery and refusals


def test_calendar_is_found_by_its_name_from_any_address_of_the_server(radicale: Radicale, domes: str) -> None:
    for base in (radicale.url, f"{radicale.url}alice/", f"{radicale.url}alice/{domes}/"):
        found = DavCalendar("domes", client_of(base), domes.upper(), AZORES)
        assert found.url == f"{radicale.url}alice/{domes}/"


@pytest.mark.parametrize(
    ("change", "kind", "told"),
    [
        ({"name": "Doms"}, SettingsFault, 'there is no calendar "Doms" on the server'),
        ({"password": {"env": "NO_SUCH_VARIABLE"}}, PlaceTrouble, "the environment has no NO_SUCH_VARIABLE"),
        ({"password": {"env": "HOME"}}, PlaceTrouble, "refuses user and password"),
        ({"url": "http://127.0.0.1:9/"}, PlaceTrouble, "cannot be reached"),
        ({"url": "http://dav.example.org/"}, SettingsFault, "the password would go to dav.example.org unencrypted"),
        ({"url": "ftp://dav.example.org/"}, SettingsFault, "is no address of a server"),
    ],
    ids=["name", "no password", "wrong password", "nobody there", "unencrypted", "no address"],
)
def test_refusals_say_what_is_wrong(
    radicale: Radicale, domes: str, change: dict[str, object], kind: type[Exception], told: str
) -> None:
    client = client_of(str(change.get("url", radicale.url)), password=change.get("password"))  # type: ignore[arg-type]
    with pytest.raises(kind) as caught:
        _ = DavCalendar("domes", client, str(change.get("name", domes)), AZORES).url
    assert told in str(caught.value)
    assert "alicepw" not in str(caught.value)


def test_password_itself_in_the_settings_is_refused(desk: Desk, radicale: Radicale) -> None:
    text = SERVER.format(url=radicale.url, name="x").replace('{ env = "DAV" }', '"alicepw"')
    desk.settings(SETTINGS, SHEET, text).workflow(WORKFLOW).rows(R1)
    result = desk.run("check")
    assert result.code == 2
    assert "the password itself stands in the file" in result.err
    assert "alicepw" not in result.err


# --- trouble


def on_attempt(method: str, *faults: str) -> Callable[[str, int], str]:
    """A plan that spoils the first requests of one method, one after the other."""
    left, lock = list(faults), threading.Lock()

    def plan(asked: str, number: int) -> str:
        with lock:
            return left.pop(0) if asked == method and left else ""

    return plan


@pytest.mark.parametrize(
    "faults",
    [("503",), ("429 0",), ("cut",), ("refuse", "500"), ("cut", "cut"), ("hang",), ("500", "cut")],
    ids=lambda faults: " then ".join(faults),
)
@pytest.mark.parametrize("method", ["PUT", "PROPFIND", "REPORT"])
def test_passing_trouble_makes_no_double_and_no_loss(
    desk: Desk, radicale: Radicale, domes: str, method: str, faults: tuple[str, ...]
) -> None:
    with FaultyProxy(radicale.url, on_attempt(method, *faults)) as proxy:
        desk_on(desk, proxy.url, domes).rows(R1, R2)
        assert desk.run("run").code == 0
        assert granted(desk) == ["granted", "granted"]
        assert len(radicale.events(domes)) == 2


def test_run_waits_for_a_server_that_stays_away_and_the_next_one_goes_on(
    desk: Desk, radicale: Radicale, domes: str
) -> None:
    away = True
    with FaultyProxy(radicale.url, lambda method, number: "503" if away and method == "PUT" else "") as proxy:
        desk_on(desk, proxy.url, domes).workflow("tries  2\n" + WORKFLOW).rows(R1)
        for _ in range(3):
            result = desk.run("run", "--now", "2027-03-01 10:00")
            assert (result.code, granted(desk)) == (3, [""])
            assert "next: whenvoca run goes on with what waits, when the place is back" in result.err
            assert "answers 503 Service Unavailable" in " ".join(result.out.split())
        assert [run["outcome"] for run in desk.run("runs", "--json").json["runs"]] == ["waiting"]
        away = False
        assert desk.run("run", "--now", "2027-03-01 10:00").code == 0
        assert granted(desk) == ["granted"]
        assert len(radicale.events(domes)) == 1


def test_after_a_day_of_waiting_a_run_has_failed(desk: Desk, radicale: Radicale, domes: str) -> None:
    with FaultyProxy(radicale.url, lambda method, number: "503" if method == "PUT" else "") as proxy:
        desk_on(desk, proxy.url, domes).workflow("tries  1\n" + WORKFLOW).rows(R1)
        for now, answer in (("1 10:00", ""), ("2 09:59", ""), ("2 10:01", "not granted: domes, ")):
            assert desk.run("run", "--now", f"2027-03-0{now}").code == 3
            assert granted(desk)[0].startswith(answer)
            assert bool(granted(desk)[0]) is bool(answer)


def test_a_refusal_is_tried_and_then_a_failure(desk: Desk, radicale: Radicale, domes: str) -> None:
    with FaultyProxy(radicale.url, lambda method, number: "403" if method == "PUT" else "") as proxy:
        desk_on(desk, proxy.url, domes).workflow("tries  2\n" + WORKFLOW).rows(R1)
        assert desk.run("run").code == 3
        assert "does not take the event: 403" in granted(desk)[0]
        assert [method for method, _, _ in proxy.seen].count("PUT") == 2


def test_redirect_to_another_host_never_carries_the_password(radicale: Radicale, domes: str) -> None:
    with FaultyProxy(radicale.url, lambda method, number: "") as other:
        elsewhere = other.url.replace("127.0.0.1", "localhost")
        with FaultyProxy(radicale.url, lambda method, number: f"redirect {elsewhere}") as proxy:
            with pytest.raises(PlaceTrouble, match="sends on to another server"):
                _ = DavCalendar("domes", client_of(proxy.url), domes, AZORES).url
        assert other.seen == []


def test_forgotten_sync_token_falls_back_to_etags(radicale: Radicale, domes: str) -> None:
    calendar = DavCalendar("domes", client_of(radicale.url), domes, AZORES)
    calendar.apply([creation(event(number)) for number in range(5)], STAMP)
    look = calendar.look({}, "")
    known: dict[str, Resource] = {name: resource for name, (resource, _) in look.changed.items()}
    with radicale.client() as other:
        gone, changed = list(known)[:2]
        other.delete(gone)
        text = other.get(changed).text.replace("SUMMARY:E", "SUMMARY:X")
        other.put(changed, content=text)
    forgotten = look.cursor.replace("sync/", "sync/0")
    again = DavCalendar("domes", client_of(radicale.url), domes, AZORES).look(known, forgotten)
    assert list(again.changed) == [changed]
    assert again.gone == [gone]
    assert DavCalendar("domes", client_of(radicale.url), domes, AZORES).look(known, again.cursor).gone in ([], [gone])


def test_one_change_among_many_takes_two_requests(radicale: Radicale, domes: str) -> None:
    calendar = DavCalendar("domes", client_of(radicale.url), domes, AZORES)
    receipts = calendar.apply([creation(event(number)) for number in range(60)], STAMP)
    assert all(isinstance(each, Receipt) for each in receipts)
    look = calendar.look({}, "")
    known = {name: resource for name, (resource, _) in look.changed.items()}
    with radicale.client() as other:
        name = list(known)[30]
        other.put(name, content=other.get(name).text.replace("SUMMARY:E", "SUMMARY:X"))
    client = client_of(radicale.url)
    again = DavCalendar("domes", client, domes, AZORES).look(known, look.cursor)
    assert list(again.changed) == [name]
    assert client.requests == 2


def test_certificate_that_is_not_trusted_is_told_and_an_own_authority_helps(
    tmp_path: object, radicale: Radicale
) -> None:
    with pytest.raises(SettingsFault, match="cannot be read"):
        _ = DavCalendar("domes", client_of("https://127.0.0.1:9/", ca="/no/such/file.pem"), "x", AZORES).url


def test_own_certificate_authority_is_trusted_where_it_is_named_and_nowhere_else(
    radicale: Radicale, domes: str, tmp_path: Path
) -> None:
    key, certificate = tmp_path / "key.pem", tmp_path / "ca.pem"
    made = subprocess.run(
        [
            "openssl",
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            str(key),
            "-out",
            str(certificate),
            "-days",
            "2",
            "-subj",
            "/CN=127.0.0.1",
            "-addext",
            "subjectAltName=IP:127.0.0.1",
        ],
        capture_output=True,
    )
    assert made.returncode == 0, made.stderr
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    with FaultyProxy(radicale.url, lambda method, number: "", context) as proxy:
        address = proxy.url.replace("http:", "https:")
        with pytest.raises(PlaceTrouble, match="its certificate is not trusted"):
            _ = DavCalendar("domes", client_of(address), domes, AZORES).url
        assert proxy.seen == []
        assert DavCalendar("domes", client_of(address, ca=str(certificate)), domes, AZORES).url.endswith(f"/{domes}/")
