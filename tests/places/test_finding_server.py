"""A CalDAV server found by the records of its domain (RFC 6764), asked of a real name server."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from tests.conftest import SETTINGS, Desk
from tests.places.test_server import client_of, creation, event
from tests.servers import Radicale, free_port, running_radicale
from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.places.calendar.dav import DavCalendar
from whenvoca.places.calendar.finding_server import find_server

RECORDS = (
    "srv-host=_caldavs._tcp.example.org,dav.example.org,8443",
    "txt-record=_caldavs._tcp.example.org,path=/calendars/",
    "srv-host=_caldavs._tcp.both.example.org,dav.both.example.org,443",
    "srv-host=_caldav._tcp.both.example.org,old.both.example.org,80",
    "srv-host=_caldavs._tcp.two.example.org,second.two.example.org,443,20,0",
    "srv-host=_caldavs._tcp.two.example.org,first.two.example.org,443,10,0",
    "srv-host=_caldavs._tcp.self.example.org,SELF.example.org,443",
    "txt-record=_caldavs._tcp.self.example.org,something else",
    "srv-host=_caldavs._tcp.away.example.org,dav.example.com,443",
    "srv-host=_caldavs._tcp.alike.example.org,dav.notalike.example.org,443",
    "srv-host=_caldavs._tcp.off.example.org",
)


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    os.environ["DAV"] = "alicepw"
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


@pytest.fixture(scope="module")
def nameserver(radicale: Radicale) -> Iterator[str]:
    """Its address and port; a skip, told loudly, where it cannot be had."""
    if shutil.which("dnsmasq") is None:
        if os.environ.get("CI"):
            pytest.fail("DNSMASQ IS MISSING: apt-get install dnsmasq-base")
        pytest.skip("DNSMASQ IS MISSING: apt-get install dnsmasq-base; nothing about DNS records was tested")
    port = free_port()
    records = [*RECORDS, f"srv-host=_caldav._tcp.localhost,localhost,{radicale.port}"]
    options = [
        "--keep-in-foreground",
        "--no-resolv",
        "--no-hosts",
        "--conf-file=/dev/null",
        "--pid-file=",
        f"--port={port}",
        "--listen-address=127.0.0.1",
        "--bind-interfaces",
        "--local=/org/",
        "--local=/com/",
        "--local=/localhost/",
        f"--user={os.environ.get('USER', 'root')}",
    ]
    process = subprocess.Popen(["dnsmasq", *options, *(f"--{each}" for each in records)])
    for _ in range(100):
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.05)
    yield f"127.0.0.1:{port}"
    process.terminate()
    process.wait(10)


@pytest.mark.parametrize(
    ("domain", "address"),
    [
        ("example.org", "https://dav.example.org:8443/calendars/"),
        ("both.example.org", "https://dav.both.example.org/"),
        ("two.example.org", "https://first.two.example.org/"),
        ("Self.Example.org", "https://self.example.org/"),
        ("none.example.org", "https://none.example.org/"),
        ("nowhere.example.com", "https://nowhere.example.com/"),
    ],
)
def test_server_of_a_domain(domain: str, address: str, nameserver: str) -> None:
    assert find_server(domain, "domes", nameserver=nameserver) == address


@pytest.mark.parametrize(
    ("domain", "said"),
    [
        ("away.example.org", "names another host in its records, dav.example.com; the password is not given to it"),
        ("alike.example.org", "names another host in its records, dav.notalike.example.org"),
        ("off.example.org", "says in its records that it offers no calendars"),
    ],
)
def test_records_that_are_not_followed(domain: str, said: str, nameserver: str) -> None:
    with pytest.raises(PlaceTrouble, match=said) as caught:
        find_server(domain, "domes", nameserver=nameserver)
    assert (caught.value.where, bool(caught.value.fix)) == (f"domes, {domain}", True)


def test_name_server_that_is_away_is_trouble_that_passes() -> None:
    with pytest.raises(PlaceTrouble, match="its records cannot be asked for") as caught:
        find_server("example.org", "domes", nameserver=f"127.0.0.1:{free_port()}", seconds=0.3)
    assert caught.value.is_passing


@pytest.mark.parametrize("nameserver", ["not an address", "127.0.0.1:many", ""])
def test_strange_name_servers_and_domains_are_faults_of_the_settings(nameserver: str) -> None:
    with pytest.raises(SettingsFault, match="no name server" if nameserver else "is no address of a server"):
        if nameserver:
            find_server("example.org", "domes", nameserver=nameserver)
        else:
            assert client_of("what is this?").base


def test_events_are_made_on_the_server_that_a_domain_names(radicale: Radicale, nameserver: str) -> None:
    radicale.make("found", "found")
    calendar = DavCalendar("domes", client_of("localhost", nameserver=nameserver), "found", event(0).start.tzinfo)  # type: ignore[arg-type]
    calendar.apply([creation(event(1))], datetime(2027, 1, 1, tzinfo=UTC))
    assert len(radicale.events("found")) == 1


def test_places_tell_a_server_that_is_named_by_its_domain(
    desk: Desk, radicale: Radicale, nameserver: str, tmp_path: Path
) -> None:
    radicale.make("shown", "shown")
    server = (
        f'[places.domes]\nkind = "calendar"\nserver = "localhost"\nnameserver = "{nameserver}"\ncalendar = "shown"\n'
    )
    desk.settings(SETTINGS, server + 'user = "alice"\npassword = { env = "DAV" }\n')
    (told,) = desk.run("places", "--json").json["places"]
    assert (told["trouble"], "shown" in told["address"]) == ("", True)
