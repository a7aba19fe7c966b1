"""The contract of chats, on the stand-in folder and on a real XMPP server, and what only the server can do wrong."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Protocol
from zoneinfo import ZoneInfo

import httpx
import pytest
from msgspec.structs import replace
from slixmpp.exceptions import IqError

from tests.chat_servers import Onlooker, Prosody, eventually, running_prosody
from tests.conftest import SETTINGS, WHENVOCA, Desk
from tests.servers import free_port
from whenvoca.calendars.reader import read_events
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Chat, Presence
from whenvoca.engine.people import People, Person
from whenvoca.errors import PlaceTrouble, RowFault
from whenvoca.places.chat.folder import FolderChat
from whenvoca.places.chat.xmpp import XmppChat
from whenvoca.places.chat.xmpp_settings import XmppSettings
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings

UTC_ZONE = ZoneInfo("UTC")
STAMP = datetime(2027, 3, 17, 16, 20, tzinfo=UTC)
INES = Person("ines", "ines@example.org", "ines")
TOMAS = Person("tomas", "tomas@example.org", "tomas")


@pytest.fixture(scope="module")
def prosody(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Prosody]:
    with running_prosody(tmp_path_factory.mktemp("prosody")) as server:
        for user in ("desk", "ines", "tomas", "carol"):
            os.environ[f"{user.upper()}_CHAT"] = f"{user}pw"
        carol = Onlooker(server.port, "carol")
        for room in ("dome-floor", "attic"):
            carol.join(f"{room}@rooms.localhost", "carol")
        carol.close()
        yield server


def secret(user: str, name: str = "") -> Secret:
    return Secret(PlaceSettings("chat", {"password": {"env": name or f"{user.upper()}_CHAT"}}, ""), "password", user)


def xmpp(port: int, *, password: str = "", seconds: float = 5.0) -> XmppChat:
    settings = XmppSettings(
        host="127.0.0.1",
        port=port,
        user="desk@localhost",
        password=secret("desk", password),
        rooms=("dome-floor", "attic"),
        tls="none",
        seconds=seconds,
    )
    lent = {"ines": secret("ines")}
    return XmppChat("chat", UTC_ZONE, settings, People.of([INES, TOMAS]), lambda person: lent.get(person.name))


class Look(Protocol):
    """What somebody in the chat can see."""

    chat: Chat

    def in_room(self) -> list[tuple[str, str]]: ...
    def at_ines(self) -> list[tuple[str, str]]: ...
    def ines_shows(self) -> tuple[str, str]: ...
    def ines_changes(self, show: str, status: str) -> None: ...
    def say(self, who: str, text: str, room: str = "") -> None: ...
    def leave(self, who: str) -> None: ...
    def restart(self) -> None: ...
    def close(self) -> None: ...


class FolderLook:
    def __init__(self, folder: Path) -> None:
        self._folder = folder
        people = People.of([INES, TOMAS])
        self.chat: Chat = FolderChat("chat", folder, "chat", UTC_ZONE, rooms=("dome-floor", "attic"), people=people)
        self._count = 0

    def _said(self, path: str) -> list[tuple[str, str]]:
        file = self._folder / path
        lines = file.read_text().splitlines() if file.exists() else []
        return [(each["id"], each["text"]) for each in map(json.loads, lines)]

    def in_room(self) -> list[tuple[str, str]]:
        return self._said("rooms/dome-floor.jsonl")

    def at_ines(self) -> list[tuple[str, str]]:
        return self._said("people/ines.jsonl")

    def ines_shows(self) -> tuple[str, str]:
        shown = self.chat.presence_of(INES)
        return shown.show, shown.status

    def ines_changes(self, show: str, status: str) -> None:
        path = self._folder / "presence/ines.json"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps({"show": show, "status": status}))

    def say(self, who: str, text: str, room: str = "") -> None:
        self._count += 1
        assert isinstance(self.chat, FolderChat)
        self.chat.post(room, who, text, STAMP + timedelta(seconds=self._count), answered=False)

    def leave(self, who: str) -> None: ...

    def restart(self) -> None: ...

    def close(self) -> None: ...


class XmppLook:
    def __init__(self, port: int) -> None:
        self.chat: Chat = xmpp(port)
        self._port = port
        self._others: dict[str, Onlooker] = {}
        self._in: set[tuple[str, str]] = set()
        self._carol, self._ines = Onlooker(port, "carol"), Onlooker(port, "ines")
        self._carol.join("dome-floor@rooms.localhost", "carol")
        self._carol.befriend("ines@localhost")
        eventually(lambda: self._carol.client.client_roster["ines@localhost"]["subscription"] in ("to", "both"))

    def say(self, who: str, text: str, room: str = "") -> None:
        if who not in self._others:
            self._others[who] = self._ines if who == "ines" else Onlooker(self._port, who)
        if room and (who, room) not in self._in:
            self._others[who].join(f"{room}@rooms.localhost", who)
            self._in.add((who, room))
        to = {"room": f"{room}@rooms.localhost"} if room else {"to": "desk@localhost"}
        self._others[who].say(text, **to)

    def leave(self, who: str) -> None:
        self._others.pop(who).close()

    def restart(self) -> None:
        self.chat.close()
        self.chat = xmpp(self._port)

    def in_room(self) -> list[tuple[str, str]]:
        return [
            (number, text) for sender, number, text in self._carol.heard if sender.startswith("dome-floor@") and text
        ]

    def at_ines(self) -> list[tuple[str, str]]:
        return [(number, text) for sender, number, text in self._ines.heard if sender.startswith("desk@localhost")]

    def ines_shows(self) -> tuple[str, str]:
        kind, show, status = self._carol.seen.get("ines@localhost", ("", "", ""))
        return (show or "free", status) if kind == "available" else ("free", "")

    def ines_changes(self, show: str, status: str) -> None:
        self._ines.show(None if show == "free" else show, status)
        eventually(lambda: self._carol.seen.get("ines@localhost", ("", "", ""))[2] == status)

    def close(self) -> None:
        self.chat.close()
        for each in {self._carol, self._ines, *self._others.values()}:
            each.close()


@pytest.fixture(params=["folder", "xmpp"])
def look(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Look]:
    made: Look = (
        FolderLook(tmp_path) if request.param == "folder" else XmppLook(request.getfixturevalue("prosody").port)
    )
    yield made
    made.close()


def send(look: Look, number: str, **after: Any) -> Any:
    (answer,) = look.chat.apply([Effect(verb="send message", place="chat", target=number, after=after)], STAMP)
    return answer


def show(look: Look, presence: Presence, verb: Any = "set presence", person: str = "ines") -> Any:
    after = {**presence.to_dict(), "chat": person}
    (answer,) = look.chat.apply([Effect(verb=verb, place="chat", target=person, after=after)], STAMP)
    return answer


def test_message_to_a_room_arrives_with_its_id(look: Look) -> None:
    assert isinstance(send(look, "m-1", room="dome-floor", text="2 bookings\nGrüße ✓"), Receipt)
    eventually(lambda: look.in_room()[-1:] == [("m-1", "2 bookings\nGrüße ✓")])


def test_message_to_a_person_arrives_with_its_id(look: Look) -> None:
    assert isinstance(send(look, "p-1", person="ines", chat="ines", text="hello"), Receipt)
    eventually(lambda: look.at_ines() == [("p-1", "hello")])


def test_message_sent_again_can_be_told_apart(look: Look) -> None:
    for _ in range(2):
        assert isinstance(send(look, "again", room="dome-floor", text="once"), Receipt)
    eventually(lambda: ("again", "once") in look.in_room())
    assert {number for number, text in look.in_room() if text == "once"} == {"again"}


def test_room_that_is_not_there_is_refused(look: Look) -> None:
    answer = send(look, "x", room="cellar", text="hello")
    assert isinstance(answer, RowFault)
    assert "cellar" in answer.message


class Ear:
    """Hears a chat as the engine does: what is known by its key is not heard again."""

    def __init__(self, look: Look) -> None:
        self._look, self._cursor = look, ""
        self._keys: set[str] = set()
        self.said: list[tuple[str, str, str]] = []

    def listen(self) -> list[tuple[str, str, str]]:
        """Sender, room and text of all that was heard so far."""
        found, self._cursor = self._look.chat.heard(self._cursor, datetime.now(UTC))
        self.said += [(each.sender, each.room, each.text) for each in found if each.key not in self._keys]
        self._keys |= {each.key for each in found}
        return self.said


def test_messages_are_heard_once_in_order_by_whom_and_where(look: Look) -> None:
    ear = Ear(look)
    ear.listen()
    ear.said.clear()
    look.say("ines", "am I free?")
    look.say("tomas", "calendar, scrap friday", "dome-floor")
    look.say("ines", "Grüße\nund ✓")
    send(look, "own-1", room="dome-floor", text="our own words")
    send(look, "own-2", person="ines", chat="ines", text="an answer")
    wanted = {
        ("ines", "", "am I free?"),
        ("tomas", "dome-floor", "calendar, scrap friday"),
        ("ines", "", "Grüße\nund ✓"),
    }
    eventually(lambda: set(ear.listen()) == wanted)
    assert ear.listen() == ear.said
    assert len(ear.said) == 3
    assert [text for who, _, text in ear.said if who == "ines"] == ["am I free?", "Grüße\nund ✓"]


def test_what_was_said_while_nobody_listened_is_heard_afterwards(look: Look) -> None:
    time.sleep(1.1)  # an archive tells moments to the second: what the test before said is older now
    ear = Ear(look)
    look.say("ines", "before")
    eventually(lambda: ("ines", "", "before") in ear.listen())
    look.say("tomas", "settling", "attic")
    eventually(lambda: ("tomas", "attic", "settling") in ear.listen())
    ear.said.clear()
    look.chat.close()
    look.say("ines", "meanwhile")
    look.say("tomas", "in the room too", "attic")
    look.leave("tomas")
    look.restart()
    wanted = [("ines", "", "meanwhile"), ("tomas", "attic", "in the room too")]
    eventually(lambda: sorted(ear.listen()) == wanted, told=lambda: ear.said)
    look.restart()
    assert len(ear.listen()) == 2


def test_presence_is_set_and_comes_back(look: Look) -> None:
    look.ines_changes("away", "at lunch")
    eventually(lambda: look.chat.presence_of(INES) == Presence("away", "at lunch"))
    busy = Presence("dnd", "at the eyepiece")
    assert isinstance(show(look, busy), Receipt)
    assert look.chat.presence_of(INES) == busy
    eventually(lambda: look.ines_shows() == ("dnd", "at the eyepiece"))
    assert isinstance(show(look, Presence("away", "at lunch"), "return presence"), Receipt)
    assert look.chat.presence_of(INES) == Presence("away", "at lunch")


def test_presence_changed_by_hand_is_what_counts(look: Look) -> None:
    show(look, Presence("dnd", "at the eyepiece"))
    look.ines_changes("xa", "gone home")
    eventually(lambda: look.chat.presence_of(INES) == Presence("xa", "gone home"))


def test_chat_says_how_it_is(look: Look) -> None:
    report = look.chat.describe()
    assert (report.kind, report.trouble) == ("chat", "")
    assert "2 rooms" in report.holds
    assert look.chat.info().rooms == ("dome-floor", "attic")


# --- only the folder


def test_line_cut_by_a_crash_is_taken_away(tmp_path: Path) -> None:
    look = FolderLook(tmp_path)
    send(look, "1", room="dome-floor", text="first")
    path = tmp_path / "rooms/dome-floor.jsonl"
    path.write_bytes(path.read_bytes() + b'{"id": "2", "te')
    assert look.chat.describe().trouble == ""
    send(look, "3", room="dome-floor", text="third")
    assert look.in_room() == [("1", "first"), ("3", "third")]


@pytest.mark.parametrize("name", ["../x", ".hidden", "a/b", ""])
def test_name_that_would_lead_elsewhere_is_refused(tmp_path: Path, name: str) -> None:
    assert isinstance(send(FolderLook(tmp_path), "1", person="x", chat=name, text="hello"), RowFault)
    assert not list(tmp_path.rglob("*.jsonl"))


# --- only the server


def test_refused_password_is_told_and_not_tried_again(prosody: Prosody) -> None:
    os.environ["WRONG"] = "nonsense"
    chat = xmpp(prosody.port, password="WRONG")
    answer = send(type("L", (), {"chat": chat})(), "1", room="dome-floor", text="x")
    assert isinstance(answer, PlaceTrouble)
    assert (answer.message, answer.is_passing) == ("the user or the password is refused", False)
    chat.close()


def test_server_that_is_away_and_comes_back(tmp_path: Path) -> None:
    with running_prosody(tmp_path) as server:
        for user in ("desk", "carol"):
            os.environ[f"{user.upper()}_CHAT"] = f"{user}pw"
        carol = Onlooker(server.port, "carol")
        carol.join("dome-floor@rooms.localhost", "carol")
        chat = xmpp(server.port, seconds=2)
        look = type("L", (), {"chat": chat})()
        assert isinstance(send(look, "1", room="dome-floor", text="x"), Receipt)
        carol.close()
        server.stop()
        answer = send(look, "2", room="dome-floor", text="y")
        assert isinstance(answer, PlaceTrouble)
        assert answer.is_passing
        server.start()
        eventually(lambda: isinstance(send(look, "2", room="dome-floor", text="y"), Receipt))
        chat.close()


def test_presence_needs_a_password_that_was_lent(prosody: Prosody) -> None:
    chat = xmpp(prosody.port)
    answer = show(type("L", (), {"chat": chat})(), Presence("dnd"), person="tomas")
    assert isinstance(answer, RowFault)
    assert "tomas has not lent a password" in answer.message
    chat.close()


def test_person_whom_the_server_does_not_know(prosody: Prosody) -> None:
    chat = xmpp(prosody.port)
    answer = send(type("L", (), {"chat": chat})(), "1", person="x", chat="nobody", text="hello")
    assert isinstance(answer, RowFault)
    assert "nobody@localhost is refused" in answer.message
    chat.close()


def test_workflow_speaks_on_the_server(desk: Desk, prosody: Prosody) -> None:
    place = (
        '[places.domes]\nkind = "calendar"\nfolder = "domes"\n[places.chat]\nkind = "chat"\nserver = '
        f'"127.0.0.1"\nport = {prosody.port}\nuser = "desk@localhost"\ntls = "none"\n'
        'password = { env = "DESK_CHAT" }\nrooms = ["dome-floor"]\nseconds = 5\n'
    )
    desk.settings(SETTINGS, place).workflow(
        'when asked\n\nsend message to room "dome-floor" in chat\n  text  "hello from the desk"\n'
    )
    carol = Onlooker(prosody.port, "carol")
    carol.join("dome-floor@rooms.localhost", "carol")
    result = desk.drive("run", "slots")
    assert result.code == 0, result.err
    eventually(lambda: any(text == "hello from the desk" for _, _, text in carol.heard))
    assert "answers, 1 room" in desk.drive("places").out
    carol.close()


ANSWERED = """[places.domes]
kind = "calendar"
folder = "domes"
[places.chat]
kind = "chat"
server = "127.0.0.1"
port = {port}
user = "desk@localhost"
tls = "none"
password = {{ env = "DESK_CHAT" }}
rooms = ["dome-floor"]
seconds = 5
"""


@contextlib.contextmanager
def watched(desk: Desk) -> Iterator[list[str]]:
    """While `watch` runs; it must end well. Gives what it told, when it has ended."""
    told: list[str] = []
    (desk.folder / ".whenvoca/watch.json").unlink(missing_ok=True)
    watching = subprocess.Popen([WHENVOCA, "watch"], cwd=desk.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    try:
        eventually(lambda: (desk.folder / ".whenvoca/watch.json").exists(), 20)
        yield told
    finally:
        watching.send_signal(signal.SIGTERM)
        out, err = watching.communicate(timeout=20)
        told += [*out.decode().splitlines(), *err.decode().splitlines()]
        print("\n".join(told))  # beside what failed
    assert watching.returncode == 0, err


def test_watch_hears_the_server_at_once_and_answers(desk: Desk, prosody: Prosody) -> None:
    workflow = 'when chat hears a message\n  from "ines"\n\nanswer message in domes\n'
    desk.settings(SETTINGS, ANSWERED.format(port=prosody.port)).workflow(workflow, "desk")
    ines = Onlooker(prosody.port, "ines")
    with watched(desk):
        ines.say("make mirror wash tomorrow 10:40", to="desk@localhost")
        eventually(lambda: any(text.startswith("Made: ") for _, _, text in ines.heard), 15)
        ines.say("undo that", to="desk@localhost")
        eventually(lambda: any(text == "Taken back: mirror wash." for _, _, text in ines.heard), 15)
    ines.close()
    assert desk.events() == []


def test_a_page_beside_a_server_is_one_chat_with_it(desk: Desk, prosody: Prosody) -> None:
    workflow = 'when chat hears a message\n  from "ines"\n\nanswer message in domes\n'
    web = f'page = "/desk"\n[web]\nlisten = "127.0.0.1:{free_port()}"\n'
    desk.settings(SETTINGS, ANSWERED.format(port=prosody.port), web).workflow(workflow, "desk")
    ines = Onlooker(prosody.port, "ines")
    with watched(desk):
        link = desk.run("places", "chat", "--link", "ines", "--json").json["link"]
        eventually(lambda: httpx.get(link).status_code == 200, 15)
        httpx.post(link, data={"text": "make mirror wash tomorrow 10:40", "page": "a"}, timeout=20)
        assert "Made: " in httpx.get(link).text
        eventually(lambda: any(text.startswith("Made: ") for _, _, text in ines.heard), 15)
        ines.say("undo that", to="desk@localhost")  # the same conversation, from her own program
        eventually(lambda: "Taken back: mirror wash." in httpx.get(link).text, 15)
    ines.close()
    assert desk.events() == []


def test_a_late_correction_takes_back_what_was_done(desk: Desk, prosody: Prosody) -> None:
    """The corrected request is done instead; also after a restart, and where the first one only led to a question."""
    desk.settings(SETTINGS, ANSWERED.format(port=prosody.port))
    desk.workflow(
        'when chat hears a message\n  from "ines"\n\nanswer message in domes\n  ask-before "deletions"\n', "desk"
    )
    ines = Onlooker(prosody.port, "ines")

    def say(text: str, number: str, corrects: str = "") -> str:
        """What is answered to it."""
        before = len(ines.heard)
        ines.say(text, to="desk@localhost", number=number, extra=CORRECTION.format(corrects) if corrects else "")
        eventually(lambda: len(ines.heard) > before, 15)
        return str(ines.heard[-1][2])

    def booked() -> list[tuple[str, str]]:
        found = [one for path in desk.events() for one in read_events(path.read_bytes(), UTC_ZONE)]
        return sorted((each.title, f"{each.start:%H:%M}") for each in found)

    with watched(desk):
        assert "Made: " in say("make mirror wash tomorrow 10:40", "c1")
        assert "Made: " in say("make mirror wash tomorrow 11:40", "c2", "c1")
        assert booked() == [("mirror wash", "11:40")]
    with watched(desk):
        assert "Made: " in say("make lens wash tomorrow 12:40", "c3", "c1")
        assert booked() == [("lens wash", "12:40")]
        assert "Shall I?" in say("delete all events tomorrow", "d1")
        assert "Made: " in say("tour tomorrow 15:10", "d2", "d1")
        say("yes", "d3")
    assert booked() == [("lens wash", "12:40"), ("tour", "15:10")]
    ines.close()


def test_watch_tells_that_it_was_put_out_of_a_room(desk: Desk, prosody: Prosody) -> None:
    desk.settings(SETTINGS, ANSWERED.format(port=prosody.port))
    desk.workflow('when chat hears a message\n\nanswer message\n  text  "heard {message.text}"\n', "desk")
    carol = Onlooker(prosody.port, "carol")
    carol.join("dome-floor@rooms.localhost", "carol")
    with watched(desk) as told:

        def is_out() -> bool:
            with contextlib.suppress(IqError):  # not yet in
                carol.put_out("dome-floor@rooms.localhost", "desk")
                return True
            return False

        eventually(is_out, 15)
        carol.say("are you back?", room="dome-floor@rooms.localhost")
        eventually(lambda: any(text == "heard are you back?" for _, _, text in carol.heard), 15)
        time.sleep(1)  # it comes back to its rooms once more, to say so
    carol.close()
    trouble = f"chat, 127.0.0.1:{prosody.port}: we were put out of the room dome-floor"
    begins, ends = [line[21:] for line in told if trouble in line]
    assert begins == trouble
    assert ends.startswith("right again after ")


# --- on bad days of the server, and from programs that say more than words


@pytest.fixture
def server_look(prosody: Prosody) -> Iterator[XmppLook]:
    made = XmppLook(prosody.port)
    yield made
    made.close()


CORRECTION = '<replace xmlns="urn:xmpp:message-correct:0" id="{}"/>'
NO_REQUESTS = [
    '<reactions xmlns="urn:xmpp:reactions:0" id="a1"><reaction>x</reaction></reactions>',
    '<retract xmlns="urn:xmpp:message-retract:1" id="other"/>',
    '<encryption xmlns="urn:xmpp:eme:0" namespace="eu.siacs.conversations.axolotl"/>',
]


def test_a_correction_stands_for_what_it_corrects(server_look: XmppLook) -> None:
    ear = Ear(server_look)
    ear.listen()
    ines = server_look._ines
    ines.say("please book tomorow", to="desk@localhost", number="a1")
    ines.say("please book tomorrow", to="desk@localhost", number="a2", extra=CORRECTION.format("a1"))
    ines.say("scrap all of it", to="desk@localhost", number="b1")
    ines.say("this was taken back", to="desk@localhost", extra='<retract xmlns="urn:xmpp:message-retract:1" id="b1"/>')
    for extra in NO_REQUESTS:
        ines.say("for programs that know no better", to="desk@localhost", extra=extra)
    time.sleep(1)
    eventually(lambda: ear.listen() == [("ines", "", "please book tomorrow")], told=lambda: ear.said)
    ear.said.clear()
    ines.say("please book friday", to="desk@localhost", number="a3", extra=CORRECTION.format("a1"))
    eventually(lambda: ear.listen() == [("ines", "", "please book friday")], told=lambda: ear.said)


@pytest.mark.parametrize("stamp", ["2099-01-01T00:00:00Z", "no moment", "2020-01-01T00:00:00Z"])
def test_nobody_forges_the_time_of_what_they_say(server_look: XmppLook, stamp: str) -> None:
    ear = Ear(server_look)
    ear.listen()
    for who in ("ines@localhost", "localhost"):
        extra = f'<delay xmlns="urn:xmpp:delay" from="{who}" stamp="{stamp}"/>'
        server_look._ines.say(f"by {who}", to="desk@localhost", extra=extra)
    eventually(lambda: len(ear.listen()) == 2, told=lambda: ear.said)
    assert datetime.fromisoformat(json.loads(ear._cursor)["since"]) <= datetime.now(UTC)
    server_look.restart()
    server_look._ines.say("afterwards", to="desk@localhost")
    eventually(lambda: ("ines", "", "afterwards") in ear.listen(), told=lambda: ear.said)


def test_put_out_of_a_room_we_come_back_and_read_what_was_said(server_look: XmppLook) -> None:
    ear = Ear(server_look)
    ear.listen()
    server_look.say("tomas", "hello", "dome-floor")
    eventually(lambda: ("tomas", "dome-floor", "hello") in ear.listen())
    assert isinstance(server_look.chat, XmppChat)
    client = server_look.chat._clients["desk@localhost"]
    server_look._carol.put_out("dome-floor@rooms.localhost", client._settings.nickname)
    eventually(lambda: "dome-floor@rooms.localhost" not in client.heard_rooms)
    server_look.say("tomas", "while you were out", "dome-floor")
    time.sleep(0.5)
    ear.listen()
    [said] = server_look.chat.unheard
    assert said.endswith(": we were put out of the room dome-floor")
    eventually(lambda: ("tomas", "dome-floor", "while you were out") in ear.listen(), told=lambda: ear.said)
    assert not server_look.chat.unheard
    assert isinstance(send(server_look, "back", room="dome-floor", text="we are back"), Receipt)


def test_a_room_that_is_not_there_makes_nobody_deaf(server_look: XmppLook) -> None:
    chat = server_look.chat
    assert isinstance(chat, XmppChat)
    chat.rooms = ("cellar", "dome-floor")
    ear = Ear(server_look)
    ear.listen()
    assert len(chat.unheard) == 1
    assert "there is no room cellar@rooms.localhost" in chat.unheard[0]
    server_look.say("tomas", "here we are", "dome-floor")
    eventually(lambda: ("tomas", "dome-floor", "here we are") in ear.listen(), told=lambda: ear.said)


def test_messages_without_a_number_of_their_own_are_told_apart() -> None:
    from whenvoca.places.chat.xmpp_message import OwnNumbers, Said

    def keys(*said: Said) -> list[str]:
        numbers = OwnNumbers()
        return [numbers.number("ines@localhost", each, STAMP) for each in said]

    yes, no, again = Said("", "yes"), Said("", "no"), Said("1", "yes")
    assert len(set(keys(yes, no, yes, again, again))) == 5
    assert keys(yes, no, yes) == keys(yes, no, yes)  # as they come again from what a room keeps


def test_a_server_without_tls_is_named_as_such(prosody: Prosody) -> None:
    chat = xmpp(prosody.port)
    chat._settings = replace(chat._settings, tls="starttls")
    report = chat.describe()
    chat.close()
    assert report.trouble == "the server offers no TLS, and the password would go out in the clear"
    assert report.fix == 'only on a machine of your own: tls = "none"'


def test_a_certificate_that_is_not_trusted_is_named(tmp_path: Path, capfd: pytest.CaptureFixture[str]) -> None:
    key, certificate = tmp_path / "key.pem", tmp_path / "cert.pem"
    subject = ["-subj", "/CN=localhost", "-days", "2", "-nodes"]
    files = ["-keyout", str(key), "-out", str(certificate)]
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", *subject, *files], check=True, capture_output=True
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    listening = socket.create_server(("127.0.0.1", 0))
    port = listening.getsockname()[1]

    def serve() -> None:
        with contextlib.suppress(OSError), context.wrap_socket(listening, server_side=True) as server:
            server.accept()

    threading.Thread(target=serve, daemon=True).start()
    chat = xmpp(port)
    chat._settings = replace(chat._settings, tls="implicit")
    report = chat.describe()
    chat.close()
    listening.close()
    assert "its certificate is not trusted: self-signed certificate" in report.trouble
    assert report.fix == 'if it is your own: ca = "own-ca.pem" at the place'
    assert capfd.readouterr().err == ""


def test_what_a_claim_says_is_shown_again_when_the_server_is_back(tmp_path: Path) -> None:
    busy = Presence("dnd", "at the eyepiece")
    with running_prosody(tmp_path) as server:
        for user in ("desk", "ines", "carol"):
            os.environ[f"{user.upper()}_CHAT"] = f"{user}pw"
        look = XmppLook(server.port)
        woken: list[int] = []
        look.chat.listen(lambda: woken.append(1))
        assert isinstance(show(look, busy), Receipt)
        eventually(lambda: look.ines_shows() == ("dnd", "at the eyepiece"))
        for each in (look._carol, look._ines):
            each.close()
        woken.clear()
        server.stop()
        eventually(lambda: bool(woken))
        with pytest.raises(PlaceTrouble):
            look.chat.keep_showing(INES, busy)
        server.start()
        look._carol = Onlooker(server.port, "carol")

        def is_shown() -> bool:
            with contextlib.suppress(PlaceTrouble):
                look.chat.keep_showing(INES, busy)
            return look.ines_shows() == ("dnd", "at the eyepiece")

        eventually(is_shown)
        look.chat.close()
        look._carol.close()


def test_nothing_of_ours_stays_where_somebody_changed_it_by_hand(server_look: XmppLook) -> None:
    assert isinstance(show(server_look, Presence("dnd", "at the eyepiece")), Receipt)
    assert isinstance(server_look.chat, XmppChat)
    ours = server_look.chat._clients["ines@localhost"].boundjid.full
    seen: list[tuple[str, str]] = []
    server_look._carol.client.add_event_handler(
        "presence", lambda stanza: seen.append((str(stanza["from"]), str(stanza["type"])))
    )
    server_look.ines_changes("away", "at lunch")
    server_look.chat.stop_showing(INES)
    eventually(lambda: (ours, "unavailable") in seen, told=lambda: seen)
    server_look.chat.stop_showing(INES)  # and that is all
    assert server_look.chat.presence_of(INES) == Presence("away", "at lunch")


def test_a_run_handed_to_watch_shows_it_as_long_as_watch_is_on(desk: Desk, prosody: Prosody) -> None:
    """One connection of each person owns what is shown: `run` beside `watch` leaves none of its own behind."""
    people = '[people.ines]\npassword = { env = "INES_CHAT" }\nchat = "ines@localhost"\n'
    desk.settings(SETTINGS.replace("[people.ines]\n", people), ANSWERED.format(port=prosody.port))
    desk.workflow(
        'when asked\n\nset presence of "ines" in chat\n  show    dnd\n  status  "at the eyepiece"\n  until   now + 1 '
        "hour\n",
        "quiet",
    )
    carol, ines = Onlooker(prosody.port, "carol"), Onlooker(prosody.port, "ines")
    carol.befriend("ines@localhost")
    eventually(lambda: carol.client.client_roster["ines@localhost"]["subscription"] in ("to", "both"))
    of_ines: dict[str, tuple[str, str]] = {}  # by resource
    carol.client.add_event_handler(
        "presence",
        lambda stanza: (
            of_ines.update({stanza["from"].resource: (str(stanza["type"]), str(stanza["status"]))})
            if stanza["from"].bare == "ines@localhost"
            else None
        ),
    )

    def shown() -> list[str]:
        return [status for kind, status in of_ines.values() if kind != "unavailable" and status]

    with watched(desk):
        result = desk.run("run", "quiet")
        assert result.code == 0, result
        eventually(lambda: shown() == ["at the eyepiece"], told=lambda: of_ines)
        time.sleep(1)
        assert shown() == ["at the eyepiece"]  # also when the command has ended
        assert desk.run("undo", "1", "--yes").code == 0
        eventually(lambda: shown() == [], told=lambda: of_ines)
        assert desk.run("run", "quiet").code == 0
        eventually(lambda: shown() == ["at the eyepiece"], told=lambda: of_ines)
        desk.workflow(
            'when asked\n\nsend message to person "ines" in chat\n  text  "hello"\n', "hello"
        )  # all is read anew
        time.sleep(2)
        assert desk.run("run", "hello").code == 0
        assert shown() == ["at the eyepiece"]
    eventually(lambda: shown() == [], told=lambda: of_ines)
    for each in (carol, ines):
        each.close()
