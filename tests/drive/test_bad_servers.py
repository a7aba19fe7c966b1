"""`watch` for a long time against a calendar server, a chat and a mail server that misbehave, while people edit."""

from __future__ import annotations

import contextlib
import os
import random
import socket
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest

from tests.chat_servers import CatchingServer, Onlooker, running_prosody
from tests.conftest import SETTINGS, Desk
from tests.drive.test_watch import Watching
from tests.servers import Answer, Fault, FaultyProxy, Radicale, free_port, running_radicale
from whenvoca.calendars.reader import read_events
from whenvoca.values.zones import load_zone

MINUTES = float(os.environ.get("SOAK_MINUTES", "20"))
PLACES = """
[places.requests]
kind = "sheet"
file = "requests.csv"
key = "No"
[places.domes]
kind = "calendar"
server = "{dav}"
calendar = "domes"
user = "alice"
password = {{ env = "DAV" }}
seconds = 2
[places.chat]
kind = "chat"
server = "127.0.0.1"
port = {xmpp}
user = "desk@localhost"
tls = "none"
password = {{ env = "DESK_CHAT" }}
rooms = ["dome-floor"]
seconds = 3
[places.emails]
kind = "outbox"
server = "127.0.0.1"
port = {smtp}
from = "desk@example.org"
tls = "none"
seconds = 3
"""
WORKFLOWS = {
    "mirror": "brake 100000 deletions\n\nwhen requests gains, changes or loses a row\n\nmirror event in domes\n  "
    "title  Title\n"
    "  start  Day at From\n  end    Day at To\n",
    "room": 'brake 100000 messages\n\nwhen requests gains a row\n\nsend message to room "dome-floor" in chat\n  text  '
    '"new: {row.No}"\n',
    "email": 'brake 100000 emails\n\nwhen requests gains a row\n\nsend email to "ines"\n  subject  "{row.No}"\n  text '
    '    "A new one"\n',
}
_LONGEST_ROUND = 400.0  # seconds of one round, where every server hangs
_WARM = 5  # minutes after which the memory has taken its size
ROOM = "dome-floor@rooms.localhost"


def shut(*ends: socket.socket) -> None:
    """Ends connections, whatever is still at them."""
    for each in ends:
        with contextlib.suppress(OSError):
            each.shutdown(socket.SHUT_RDWR)
        each.close()


class Tunnel:
    """Stands before a server that is not spoken to by HTTP; while ``is_bad`` it refuses, cuts and falls silent."""

    def __init__(self, target: int, chance: random.Random) -> None:
        self.port, self.is_bad = free_port(), False
        self._target, self._chance = target, chance
        self._pairs: list[tuple[socket.socket, socket.socket]] = []
        self._listening = socket.create_server(("127.0.0.1", self.port))
        self._silent_until = 0.0
        self._accepting = threading.Thread(target=self._accept, daemon=True)
        self._accepting.start()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self._listening.accept()
                if self.is_bad and self._chance.random() < 0.4:
                    client.close()
                    continue
                try:
                    server = socket.create_connection(("127.0.0.1", self._target))
                except OSError:
                    client.close()
                    continue
                self._pairs.append((client, server))
                for one, other in ((client, server), (server, client)):
                    threading.Thread(target=self._pass_on, args=(one, other), daemon=True).start()

    def _pass_on(self, one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while data := one.recv(65536):
                time.sleep(max(0.0, self._silent_until - time.monotonic()))
                if self.is_bad and self._chance.random() < 0.03:
                    other.sendall(data[: len(data) // 2])
                    break
                other.sendall(data)
        shut(one, other)

    def disturb(self) -> None:
        """All connections are cut, or nothing gets through for some seconds."""
        if self._chance.random() < 0.5:
            self._silent_until = time.monotonic() + self._chance.uniform(1, 5)
            return
        pairs, self._pairs = self._pairs, []
        for pair in pairs:
            shut(*pair)

    def close(self) -> None:
        self.is_bad = True
        for each in self._pairs:
            shut(*each)
        shut(self._listening)  # which ends the thread that accepts
        self._accepting.join(5)


class Storm:
    """The workspace, its servers behind what spoils them, and what must come of it all."""

    def __init__(self, desk: Desk, radicale: Radicale, dav: FaultyProxy, tunnels: list[Tunnel], seed: int) -> None:
        self.desk, self.radicale, self.tunnels = desk, radicale, tunnels
        self.chance = random.Random(seed)
        self.rows: dict[str, str] = {}  # titles by number
        self.places: dict[str, str] = {}  # locations that a person gave to events, by the number of their row
        self.is_bad, self.count = False, 0
        dav.plan = lambda method, number: self._spoil() if self.is_bad else ""

    def _spoil(self) -> Fault:
        if self.chance.random() < 0.75:
            return ""
        page = Answer(200, {"content-type": "text/html"}, b"<html><body>Back soon</body></html>")
        faults: list[Fault] = ["503", "500", "429 1", "404", "412", "423", "cut", "cut", "refuse", page]
        return self.chance.choice([*faults, Answer(202, {}, b""), Answer(207, {}, b"<multistatus xmlns='DAV:'/>")])

    def write(self) -> None:
        lines = [f"{number},{title},2027-03-{17 + int(number) % 10},21:30,22:00" for number, title in self.rows.items()]
        path = self.desk.folder / "requests.csv"
        temporary = path.with_suffix(".part")
        temporary.write_text("\n".join(["No,Title,Day,From,To", *lines]) + "\n")
        temporary.replace(path)

    def act(self) -> None:
        """One thing that a person does."""
        deed = self.chance.random()
        untouched = [number for number in self.rows if number not in self.places]
        if deed < 0.35 or len(self.rows) < 12:
            self.count += 1
            self.rows[str(self.count)] = f"Tour {self.count}"
        elif deed < 0.65:
            number = self.chance.choice(list(self.rows))
            self.rows[number] = f"Tour {number} for {self.chance.randrange(1000)}"
        elif deed < 0.75 and len(untouched) > 6 and len(self.rows) > 14:
            del self.rows[self.chance.choice(untouched)]
        else:
            self.edit_an_event()
            return
        self.write()

    def edit_an_event(self) -> None:
        """A person gives an event a location, by another program."""
        found = [(file, data) for file, data in self.radicale.events("domes").items() if b"LOCATION" not in data]
        if not found:
            return
        file, data = self.chance.choice(found)
        [title] = [each.title for each in read_events(data, load_zone("UTC"))]
        number = title.split()[1]
        if number not in self.rows:
            return
        changed = data.replace(b"END:VEVENT", f"LOCATION:Dome {number}\r\nEND:VEVENT".encode())
        with self.radicale.client() as other:
            other.timeout = httpx.Timeout(120)  # whether an edit was done must be known
            etag = other.get(f"/alice/domes/{file}").headers["etag"]
            answer = other.put(f"/alice/domes/{file}", content=changed, headers={"if-match": etag})
        if answer.status_code in (201, 204):
            self.places[number] = f"Dome {number}"

    def standing(self) -> dict[str, list[tuple[str, str]]]:
        """Titles and locations of the events on the server, by the number of their row."""
        found: dict[str, list[tuple[str, str]]] = defaultdict(list)
        for data in self.radicale.events("domes").values():
            for event in read_events(data, load_zone("UTC")):
                found[event.title.split()[1]].append((event.title, event.location))
        return found

    def wanted(self) -> dict[str, list[tuple[str, str]]]:
        return {number: [(title, self.places.get(number, ""))] for number, title in self.rows.items()}


def memory_of(process: int) -> float:
    """Megabytes."""
    [line] = [each for each in Path(f"/proc/{process}/status").read_text().splitlines() if each.startswith("VmRSS")]
    return int(line.split()[1]) / 1024


@contextlib.contextmanager
def storm(desk: Desk, folder: Path, seed: int) -> Iterator[tuple[Storm, CatchingServer, Onlooker]]:
    """The servers, with what spoils them."""
    os.environ |= {"DAV": "alicepw", "DESK_CHAT": "deskpw", "CAROL_CHAT": "carolpw"}
    emails = CatchingServer()
    emails.start()
    for name in ("radicale", "prosody"):
        (folder / name).mkdir()
    with running_radicale(folder / "radicale") as radicale, running_prosody(folder / "prosody") as prosody:
        radicale.make("domes", "domes")
        carol = Onlooker(prosody.port, "carol")
        carol.join(ROOM, "carol")
        chance = random.Random(seed)
        chat, mail = Tunnel(prosody.port, chance), Tunnel(emails.port, chance)
        with FaultyProxy(radicale.url, lambda method, number: "") as dav:
            desk.settings(SETTINGS, PLACES.format(dav=dav.url, xmpp=chat.port, smtp=mail.port))
            for name, text in WORKFLOWS.items():
                desk.workflow(text, name)
            made = Storm(desk, radicale, dav, [chat, mail], seed)
            made.write()
            assert desk.run("run").code == 0
            yield made, emails, carol
        for each in (chat, mail):
            each.close()
        carol.close()
    emails.stop()


def weather(made: Storm, minutes: float, seen: Callable[[], None]) -> None:
    """Bad times and good ones, while a person works."""
    ends, changes = time.monotonic() + minutes * 60, 0.0
    while time.monotonic() < ends:
        if time.monotonic() > changes:
            made.is_bad = not made.is_bad
            for each in made.tunnels:
                each.is_bad = made.is_bad
            changes = time.monotonic() + made.chance.uniform(10, 40 if made.is_bad else 15)
        if made.is_bad and made.chance.random() < 0.1:
            made.chance.choice(made.tunnels).disturb()
        made.act()
        seen()
        time.sleep(made.chance.uniform(0.2, 2.5))
    made.is_bad = False
    for each in made.tunnels:
        each.is_bad = False


def check(desk: Desk, folder: Path, minutes: float, seed: int) -> None:
    """Equal to what people asked for, nothing twice, and the memory flat."""
    with storm(desk, folder, seed) as (made, emails, carol):
        watch = Watching(desk).ready()
        sizes: list[float] = []
        try:

            def seen() -> None:
                sizes.append(memory_of(watch.process.pid))
                watch.must_look(_LONGEST_ROUND)

            weather(made, minutes, seen)
            ends = time.monotonic() + 180
            while time.monotonic() < ends and made.standing() != made.wanted():
                watch.must_look(_LONGEST_ROUND)
                desk.run("run", "--yes")  # handed over: what waits is tried now
                time.sleep(2)
            assert desk.run("run", "--yes").code == 0
            assert made.standing() == made.wanted()
            assert watch.health()["troubles"] == []
        finally:
            watch.stop()
        said: dict[str, set[str]] = defaultdict(set)
        for sender, number, text in carol.heard:
            if sender == f"{ROOM}/desk" and text.startswith("new: "):
                said[text.removeprefix("new: ")].add(number)
        mailed: dict[str, set[str]] = defaultdict(set)
        for _, email in emails.emails:
            mailed[str(email["subject"])].add(str(email["message-id"]))
        everybody = {str(number) for number in range(1, made.count + 1)}
        assert set(said) <= everybody
        assert set(made.rows) <= set(said)
        assert set(made.rows) <= set(mailed)
        assert all(len(numbers) == 1 for numbers in (*said.values(), *mailed.values()))
    late = sizes[len(sizes) // 4 :]
    print(
        f"{minutes} minutes: {made.count} rows, {len(made.rows)} left, {len(made.places)} events edited, memory "
        f"{late[0]:.0f} → {late[-1]:.0f} MB, most {max(late):.0f} MB"
    )
    if minutes >= _WARM:
        assert late[-1] < late[0] * 1.25 + 10, sizes


def test_a_minute_of_bad_servers(desk: Desk, tmp_path_factory: pytest.TempPathFactory) -> None:
    check(desk, tmp_path_factory.mktemp("servers"), 0.3, 7)


@pytest.mark.soak
def test_a_long_time_of_bad_servers(desk: Desk, tmp_path_factory: pytest.TempPathFactory) -> None:
    check(desk, tmp_path_factory.mktemp("servers"), MINUTES, 11)
