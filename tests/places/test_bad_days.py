"""A calendar server on bad days: a proxy before a real one spoils its answers.

Whatever it does: nothing twice, nothing lost, no edit of a person written over, and a later run on a good day brings
everything to where it belongs.
"""

from __future__ import annotations

import gzip
import os
import re
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.conftest import SETTINGS, Desk
from tests.places.test_server import AZORES, SERVER, SHEET
from tests.servers import Answer, Fault, FaultyProxy, Radicale, running_radicale
from whenvoca.calendars.reader import read_events

MIRROR = (
    "when requests gains, changes or loses a row\n\nmirror event in domes\n  title  Title\n  start  Day at From\n"
    "  end    Day at To\n"
)
LOG = '[places.log]\nkind = "sheet"\nfile = "log.csv"\ncreate = true\n'
TELL = "when domes gains, changes or loses an event\n\nadd row to log\n  What  event.title\n  Is    happened\n"
ROWS = [f",,R-{n},Tour {n},{16 + n}.03.2027,21:30,22:00" for n in (1, 2, 3)]
PAGE = Answer(200, {"content-type": "text/html"}, b"<html><body>Back soon</body></html>")


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    os.environ["DAV"] = "alicepw"
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


@pytest.fixture(autouse=True)
def no_pauses(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("whenvoca.engine.clock.RealClock.wait", lambda self, seconds: None)


@pytest.fixture
def domes(radicale: Radicale, request: pytest.FixtureRequest) -> str:
    name = f"bad{abs(hash(request.node.name))}"
    radicale.make(name, name)
    return name


class BadDay:
    """The server behind the proxy, and what a second client sees of it."""

    def __init__(self, desk: Desk, radicale: Radicale, name: str, proxy: FaultyProxy) -> None:
        self.desk, self.radicale, self.name, self.proxy = desk, radicale, name, proxy
        self.fault: Callable[[str], Fault] = lambda method: ""
        proxy.plan = lambda method, number: self.fault(method)

    def titles(self) -> list[str]:
        """The titles that stand there, in order."""
        found = [one for data in self.radicale.events(self.name).values() for one in read_events(data, AZORES)]
        return sorted(each.title for each in found)

    def edit(self, old: bytes, new: bytes) -> None:
        """A person changes an event by another program."""
        [(file, data)] = [each for each in self.radicale.events(self.name).items() if old in each[1]]
        with self.radicale.client() as other:
            assert other.put(f"/alice/{self.name}/{file}", content=data.replace(old, new)).status_code in (201, 204)

    def delete(self, part: bytes) -> None:
        """A person deletes an event by another program."""
        [file] = [name for name, data in self.radicale.events(self.name).items() if part in data]
        with self.radicale.client() as other:
            assert other.delete(f"/alice/{self.name}/{file}").status_code in (200, 204)

    def spoil(self, *methods: str, by: Fault, times: int = 1000) -> None:
        """From now on so many requests of these methods are spoilt."""
        left = [times]

        def fault(method: str) -> Fault:
            if method not in methods or not left[0]:
                return ""
            left[0] -= 1
            return by

        self.fault = fault

    def heal(self) -> None:
        """A good day again."""
        self.fault = lambda method: ""

    def log(self) -> list[str]:
        """What the following workflow has told."""
        path = self.desk.folder / "log.csv"
        return sorted(path.read_text().splitlines()[1:]) if path.exists() else []


@pytest.fixture
def day(desk: Desk, radicale: Radicale, domes: str) -> Iterator[BadDay]:
    with FaultyProxy(radicale.url, lambda method, number: "") as proxy:
        desk.settings(SETTINGS, SHEET, SERVER.format(url=proxy.url, name=domes), LOG)
        desk.workflow(MIRROR, "mirror").workflow(TELL, "tell").rows(*ROWS)
        assert 0 in (desk.run("run").code for _ in range(3))  # on a busy machine the server is slow by itself
        found = BadDay(desk, radicale, domes, proxy)
        assert found.titles() == ["Tour 1", "Tour 2", "Tour 3"]
        assert desk.run("run").code == 0
        (desk.folder / "log.csv").unlink()
        yield found


def said(result: object) -> str:
    return " ".join(f"{result}".replace("\\n", " ").split())


def without_data(answer: Answer) -> Answer:
    """A multistatus whose pieces have lost what was asked of them."""
    content = re.sub(
        rb"<(\w+:)?propstat>.*?</(\w+:)?propstat>",
        b"<status>HTTP/1.1 500 Oops</status>",
        answer.content,
        flags=re.DOTALL,
    )
    return Answer(answer.status, answer.headers, content)


def cut_data(answer: Answer) -> Answer:
    return Answer(
        answer.status, answer.headers, re.sub(rb"END:VEVENT.*?END:VCALENDAR", b"", answer.content, flags=re.DOTALL)
    )


def empty_multistatus(answer: Answer) -> Answer:
    return Answer(207, {"content-type": "text/xml"}, b'<multistatus xmlns="DAV:"/>')


NO_LISTING: dict[str, Fault] = {
    "a page": PAGE,
    "404": "404",
    "405": "405",
    "403": "403",
    "503": "503",
    "202": Answer(202, {}, b""),
    "empty": empty_multistatus,
    "other xml": Answer(207, {"content-type": "text/xml"}, b"<feed xmlns='x'/>"),
    "no xml": Answer(207, {"content-type": "text/xml"}, b"{}"),
    "bad gzip": Answer(207, {"content-encoding": "gzip"}, b"no gzip at all"),
    "bomb": Answer(207, {"content-encoding": "gzip"}, gzip.compress(bytes(40_000_000))),
    "cut": "cut",
    "drip": "drip",
    "port": Answer(302, {"location": "http://127.0.0.1:99999/"}, b""),
    "retry": Answer(503, {"retry-after": "\u00b2".encode().decode("latin-1")}, b""),
}


@pytest.mark.parametrize("fault", NO_LISTING)
def test_an_answer_that_is_none_proves_nothing(day: BadDay, fault: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing is reported as lost, no mirrored row goes; a person's edit of that day is seen on the next one."""
    if fault == "drip":
        monkeypatch.setattr("whenvoca.places.calendar.dav_client._TRIES", 1)
    before = day.desk.read()
    day.edit(b"Tour 2", b"Theirs")
    day.spoil("PROPFIND", "REPORT", by=NO_LISTING[fault])
    result = day.desk.run("run")
    assert result.code == 3, result
    assert "domes, " in result.err
    assert (day.log(), day.desk.read()) == ([], before)
    assert sorted(day.titles()) == ["Theirs", "Tour 1", "Tour 3"]
    assert day.desk.run("places").code in (0, 3)
    day.heal()
    assert day.desk.run("run").code in (0, 1)
    assert day.log() == ["Theirs,changed"]
    assert day.titles() == ["Theirs", "Tour 1", "Tour 3"]


@pytest.mark.parametrize("spoilt", [without_data, cut_data])
@pytest.mark.parametrize("times", [1, 1000])
def test_what_the_server_does_not_give_is_asked_again(
    day: BadDay, spoilt: Callable[[Answer], Answer], times: int
) -> None:
    day.edit(b"Tour 2", b"Theirs")

    def fault(answer: Answer) -> Answer:
        return spoilt(answer) if b"calendar-data" in answer.content else answer

    day.spoil("REPORT", by=fault)
    day.desk.run("run")
    assert day.log() == []
    day.heal()
    day.desk.run("run")
    assert day.log() == ["Theirs,changed"]


def property_404(answer: Answer) -> Answer:
    content = answer.content.replace(b"HTTP/1.1 200 OK", b"HTTP/1.1 404 Not Found")
    return Answer(answer.status, answer.headers, content)


def test_only_a_piece_that_is_not_there_is_gone(day: BadDay) -> None:
    day.edit(b"Tour 2", b"Theirs")
    day.spoil("REPORT", by=property_404)
    day.desk.run("run")
    assert day.log() == []
    day.heal()
    day.delete(b"Tour 3")
    day.desk.run("run")
    assert day.log() == ["Theirs,changed", "Tour 3,lost"]


def with_etag(make: Callable[[str], str]) -> Callable[[Answer], Answer]:
    """The answer with another ETag in its head, as programs in front of a server make it."""

    def change(answer: Answer) -> Answer:
        headers = {name.lower(): value for name, value in answer.headers.items()}
        if "etag" in headers and (etag := make(headers.pop("etag"))):
            headers["etag"] = etag
        return Answer(answer.status, headers, answer.content)

    return change


ETAGS: dict[str, Callable[[str], str]] = {
    "none": lambda etag: "",
    "weak": lambda etag: f"W/{etag}",
    "gzip": lambda etag: etag[:-1] + '-gzip"',
    "other": lambda etag: '"other"',
}


@pytest.mark.parametrize("etag", ETAGS)
def test_etags_of_a_program_in_front_do_no_harm(day: BadDay, etag: str) -> None:
    day.spoil("GET", "PUT", by=with_etag(ETAGS[etag]))
    day.desk.rows(ROWS[0], ROWS[1].replace("Tour 2", "Walk 2"), ROWS[2])
    assert day.desk.run("run").code == 0
    assert day.titles() == ["Tour 1", "Tour 3", "Walk 2"]
    day.edit(b"Tour 3", b"Theirs")  # a person's edit between two looks is not written over
    day.desk.rows(ROWS[0], ROWS[1].replace("Tour 2", "Walk 2"), ROWS[2].replace("Tour 3", "Walk 3"))
    day.desk.run("run")
    assert day.titles() == ["Theirs", "Tour 1", "Walk 2"]


WRITES: dict[str, Fault] = {
    "a page": PAGE,
    "202": Answer(202, {}, b""),
    "302": Answer(302, {}, b""),
    "207": Answer(
        207,
        {"content-type": "text/xml"},
        b'<multistatus xmlns="DAV:"><response><status>HTTP/1.1 500 x</status></response></multistatus>',
    ),
    "404": "404",
    "409": "409",
    "412": "412",
    "403": "403",
    "423": "423",
    "507": "507",
    "503": "503",
    "cut": "cut",
    "refuse": "refuse",
}
KINDS = {
    "create": ([*ROWS, ",,R-4,Tour 4,20.03.2027,21:30,22:00"], ["Tour 1", "Tour 2", "Tour 3", "Tour 4"]),
    "change": ([ROWS[0], ROWS[1].replace("Tour 2", "Walk 2"), ROWS[2]], ["Tour 1", "Tour 3", "Walk 2"]),
    "delete": (ROWS[:2], ["Tour 1", "Tour 2"]),
}


MOST_TELLING = ("a page", "302", "404", "412", "503", "cut")  # of creations and deletions; changes meet all


@pytest.mark.parametrize(
    ("kind", "fault"),
    [(kind, fault) for kind in KINDS for fault in WRITES if kind == "change" or fault in MOST_TELLING],
)
def test_a_write_counts_when_it_is_there(day: BadDay, kind: str, fault: str) -> None:
    rows, wanted = KINDS[kind]
    day.desk.rows(*rows)
    day.spoil("PUT", "DELETE", by=WRITES[fault])
    result = day.desk.run("run", "--yes")
    done = day.titles() == wanted
    assert (result.code == 0) <= done, result  # what is booked as done is there
    assert set(day.titles()) <= {*wanted, "Tour 1", "Tour 2", "Tour 3"}
    day.heal()
    code = day.desk.run("run", "--yes").code
    if day.titles() != wanted or code:
        day.desk.run("retry", "--failed")  # what was refused for good
        assert day.desk.run("run", "--yes").code == 0
    assert day.titles() == wanted


def test_another_calendar_on_the_same_server_is_another_one(day: BadDay) -> None:
    other = f"{day.name}other"
    day.radicale.make(other, other)
    settings = (day.desk.folder / "whenvoca.toml").read_text()
    (day.desk.folder / "whenvoca.toml").write_text(
        settings.replace(f'calendar = "{day.name}"', f'calendar = "{other}"')
    )
    day.desk.workflow(
        "when requests gains a row\n\ncreate event in domes\n  title  Title\n  start  Day at From\n", "mirror"
    )
    day.desk.rows(*ROWS, ",,R-4,Tour 4,20.03.2027,21:30,22:00")
    result = day.desk.run("run", "--yes")
    assert "Tour 4" not in day.titles(), result
    assert any(b"Tour 4" in data for data in day.radicale.events(other).values()), result


@pytest.mark.parametrize("also", ["", "also"])
@pytest.mark.parametrize("property_", ["current-user-principal", "calendar-home-set"])
def test_the_password_is_shown_to_no_other_server(
    desk: Desk, radicale: Radicale, domes: str, property_: str, also: str
) -> None:
    with FaultyProxy(radicale.url, lambda method, number: "") as thief:

        def elsewhere(answer: Answer) -> Answer:
            pattern = rf"(<(?:\w+:)?{property_}>\s*<(?:\w+:)?href>)".encode()
            content = re.sub(pattern, rb"\1" + thief.url[:-1].encode(), answer.content)
            return Answer(answer.status, answer.headers, content)

        with FaultyProxy(radicale.url, lambda method, number: elsewhere if method == "PROPFIND" else "") as proxy:
            line = f'also = ["{thief.url}"]\n' if also else ""
            desk.settings(SETTINGS, SHEET, SERVER.format(url=proxy.url, name=domes) + line, LOG)
            desk.workflow(MIRROR, "mirror").rows(*ROWS)
            result = desk.run("run")
        if also:
            assert (result.code, bool(thief.seen), len(radicale.events(domes))) == (0, True, 3)
        else:
            assert (result.code, thief.seen, len(radicale.events(domes))) == (3, [], 0)
            assert f"sends on to another server, {thief.url[:-1]}" in said(result)


def test_a_mark_of_byte_order_is_read_over(day: BadDay) -> None:
    [file] = [name for name, data in day.radicale.events(day.name).items() if b"Tour 2" in data]
    path = day.radicale.folder / "collections/collection-root/alice" / day.name / file
    plain = path.read_bytes()

    def marked(answer: Answer) -> Answer:
        return Answer(answer.status, answer.headers, b"\xef\xbb\xbf" + answer.content)

    day.spoil("GET", by=marked)
    day.desk.rows(ROWS[0], ROWS[1].replace("Tour 2", "Walk 2"), ROWS[2])
    assert day.desk.run("run").code == 0
    assert day.titles() == ["Tour 1", "Tour 3", "Walk 2"]
    assert plain != path.read_bytes()
    assert day.desk.run("undo", "7", "--yes").code == 0
    assert day.titles() == ["Tour 1", "Tour 2", "Tour 3"]


@pytest.mark.parametrize("wanted", ["dome", "nothing like it"])
def test_the_calendars_of_a_server_are_named(desk: Desk, radicale: Radicale, domes: str, wanted: str) -> None:
    desk.settings(SETTINGS, SHEET, SERVER.format(url=radicale.url, name=wanted), LOG)
    result = desk.run("places", "--json").json["places"]
    [place] = [each for each in result if each["name"] == "domes"]
    assert place["trouble"].startswith(f'there is no calendar "{wanted}"') or wanted in place["trouble"]
    assert "bad" in place["fix"]


@pytest.mark.parametrize("fault", ["refuse", "503", "cut"])
@pytest.mark.parametrize("when", ["at first", "while it writes"])
def test_an_undo_waits_for_its_server(day: BadDay, fault: str, when: str) -> None:
    day.desk.rows(ROWS[0], ROWS[1].replace("Tour 2", "Walk 2"), ROWS[2])
    assert day.desk.run("run").code == 0
    number = next(
        str(each["run"]) for each in day.desk.run("runs", "--json").json["runs"] if each["workflow"] == "mirror"
    )
    methods = ("PUT", "DELETE") if when == "while it writes" else ("PROPFIND", "REPORT", "GET", "PUT")
    day.spoil(*methods, by=fault)
    result = day.desk.run("undo", number, "--yes")
    assert result.code == 3, result
    assert "change event" not in said(result).partition("taken back:")[2]
    assert "nothing to take back" not in said(result)
    day.heal()
    assert day.desk.run("undo", number, "--yes").code == 0
    assert day.titles() == ["Tour 1", "Tour 2", "Tour 3"]


@pytest.mark.parametrize("fault", ["cut", PAGE], ids=["cut", "a page"])
def test_a_deletion_whose_answers_were_lost_is_ours(day: BadDay, fault: Fault) -> None:
    day.desk.rows(*ROWS[:2])
    day.spoil("DELETE", by=fault if fault == "cut" else lambda answer: PAGE)
    result = day.desk.run("run", "--yes")
    assert day.titles() == ["Tour 1", "Tour 2"]
    day.heal()
    assert day.desk.run("run", "--yes").code == 0
    [newest] = [each for each in day.desk.run("runs", "--json").json["runs"] if each["workflow"] == "mirror"][:1]
    assert [each["verb"] for each in newest["effects"]] == ["delete event"], (result, newest)
    assert day.desk.run("undo", str(newest["run"]), "--yes").code == 0
    assert day.titles() == ["Tour 1", "Tour 2", "Tour 3"]


@pytest.mark.parametrize(
    "edit", [(b"SUMMARY:Tour 3", b"SUMMARY:Theirs"), (b"T213000", b"T203000")], ids=["title", "start"]
)
@pytest.mark.parametrize("when", ["before", "at the last moment"])
def test_a_persons_edit_survives_a_deletion_of_ours(day: BadDay, edit: tuple[bytes, bytes], when: str) -> None:
    [file] = [name for name, data in day.radicale.events(day.name).items() if b"Tour 3" in data]

    def change() -> None:
        data = day.radicale.events(day.name)[file]
        with day.radicale.client() as other:
            address = f"/alice/{day.name}/{file}"
            assert other.put(address, content=data.replace(*edit)).status_code in (201, 204)

    edits = [change]
    if when == "before":
        edits.pop()()
    day.fault = lambda method: (edits.pop()() or "") if method == "DELETE" and edits else ""  # type: ignore[func-returns-value]
    day.desk.rows(*ROWS[:2])
    result = day.desk.run("run", "--yes")
    assert edit[1] in day.radicale.events(day.name).get(file, b""), result
    assert "changed" in said(result)


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ('also = ["nonsense"]', 'also: "nonsense" is no address of a server'),
        ('also = ["http://dav.example.org"]', "is no address of a server"),
        ("also = 5", "also is neither a text nor a list of texts"),
        ('size = "much"', "size is no size"),
        ('size = "0 MB"', "size is no size"),
    ],
)
def test_settings_that_are_none_are_refused(desk: Desk, line: str, said: str) -> None:
    desk.settings(SETTINGS, SERVER.format(url="http://127.0.0.1:9/", name="domes"), f"{line}\n")
    [place] = desk.run("places", "--json").json["places"]
    assert said in place["trouble"]


@pytest.mark.parametrize("verb", ["create", "mirror"])
@pytest.mark.parametrize("fault", ["cut", "page"])
def test_a_creation_whose_answers_were_lost_follows_its_row(day: BadDay, fault: str, verb: str) -> None:
    """The event is ours, though no answer said so: what its row says by now is written."""
    if verb == "create":
        text = MIRROR.replace("mirror event", "create event").replace(", changes or loses", "")
        day.desk.workflow(text.replace("a row\n", 'a row\n  where  row.No is "R-4"\n'), "mirror")
    day.desk.rows(*ROWS, ",,R-4,Tour 4,20.03.2027,21:30,22:00")
    day.spoil("GET", "PUT", by=lambda answer: PAGE if fault == "page" else "cut")
    result = day.desk.run("run", "--yes")
    assert result.code == 3, result
    assert "Tour 4" in day.titles()
    day.heal()
    day.desk.rows(*ROWS, ",,R-4,Tour 44,20.03.2027,21:30,22:00")
    result = day.desk.run("run", "--yes")
    assert result.code == 0, result
    assert day.titles() == ["Tour 1", "Tour 2", "Tour 3", "Tour 44"]
    numbers = [str(each["run"]) for each in day.desk.run("runs", "--json").json["runs"] if each["workflow"] == "mirror"]
    assert day.desk.run("undo", numbers[0], "--yes").code == 0
    assert day.titles() == ["Tour 1", "Tour 2", "Tour 3"]


@pytest.mark.parametrize(
    ("row", "left"),
    [
        (",,R-4,Tour 4,20.03.2027,21:30,22:00", ["Tour 1", "Tour 2", "Tour 3"]),
        (ROWS[2].replace("Tour 3", "Tour 33"), ["Tour 1", "Tour 2"]),
    ],
    ids=["gained", "changed"],
)
def test_a_row_that_goes_while_its_run_waits_takes_its_event_along(day: BadDay, row: str, left: list[str]) -> None:
    """The answer to a write is lost, and the row goes before it is known what came of it: the event goes as well."""
    day.desk.rows(*[each for each in ROWS if each[:6] != row[:6]], row)
    day.spoil("GET", "PUT", by="cut")
    assert day.desk.run("run", "--yes").code == 3
    day.desk.rows(*[each for each in ROWS if each[:6] != row[:6]])
    day.heal()
    result = day.desk.run("run", "--yes")
    assert (result.code, day.titles()) == (0, left), result


def test_the_brake_does_not_wait_for_a_server_that_is_away(day: BadDay, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is rehearsed for it in `watch` ends at once, so that `watch` can be stopped: the next round asks again."""
    waits: list[str] = []

    def wait(self: object, seconds: float) -> None:
        waits.append(Path(sys._getframe(1).f_code.co_filename).name)

    monkeypatch.setattr("whenvoca.engine.clock.RealClock.wait", wait)
    day.desk.workflow("brake 1 deletions\n\n" + MIRROR, "mirror").rows(ROWS[0])
    day.spoil("GET", by="503")
    day.desk.run("watch", "--once")
    assert waits  # the client itself tries a few times
    assert "run_workflows.py" not in waits
    assert day.titles() == ["Tour 1", "Tour 2", "Tour 3"]
