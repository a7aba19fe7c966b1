"""`watch`: hears of changes and moments, stops cleanly, takes work from other commands, is refused twice, survives
kills."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from tests.conftest import SETTINGS, WHENVOCA, Desk
from whenvoca.calendars.event import Event
from whenvoca.calendars.writer import write_calendar
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
PLACES = """
[places.cal]
kind = "calendar"
folder = "cal"
[places.log]
kind = "sheet"
file = "log.csv"
key = "Event"
create = true
[places.chat]
kind = "chat"
folder = "chat"
rooms = ["desk"]
"""
LOG = "when cal gains an event\n  existing  yes\n\nadd row to log\n  Event  event.uid\n  What  event.title\n"
TELL = 'when cal gains an event\n\nsend message to room "desk" in chat\n  text  "new: {event.title}"\n'


@pytest.fixture
def hall(desk: Desk) -> Desk:
    (desk.folder / "cal").mkdir()
    return desk.settings(SETTINGS, PLACES)


def put(desk: Desk, uid: str, title: str = "", start: datetime | None = None) -> None:
    begin = start or datetime(2027, 3, 17, 10, tzinfo=AZORES)
    data = write_calendar(Event(uid=uid, title=title or uid, start=begin, end=begin + timedelta(hours=1)), STAMP)
    path = desk.folder / f"cal/{uid}.ics"
    temporary = path.with_suffix(".part")
    temporary.write_bytes(data)
    os.replace(temporary, path)


def logged(desk: Desk) -> list[str]:
    path = desk.folder / "log.csv"
    return [line.split(",")[0] for line in path.read_text().splitlines()[1:]] if path.exists() else []


def said(desk: Desk) -> list[dict[str, Any]]:
    path = desk.folder / "chat/rooms/desk.jsonl"
    return (
        [json.loads(line) for line in path.read_bytes().splitlines(keepends=True) if line.endswith(b"\n")]
        if path.exists()
        else []
    )


def until(condition: Callable[[], bool], seconds: float = 20.0) -> None:
    ends = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < ends, "it never came to be"
        time.sleep(0.02)


class Watching:
    """A `watch` in a process of its own."""

    def __init__(self, desk: Desk, *arguments: str) -> None:
        self.desk = desk
        self._err = open(desk.folder.parent / "err.txt", "ab")  # noqa: SIM115
        self._out = tempfile.TemporaryFile(dir=desk.folder.parent)  # noqa: SIM115  (a pipe would fill up)
        command = [WHENVOCA, "watch", "--json", *arguments]
        self.process = subprocess.Popen(
            command,
            cwd=desk.folder,
            stdout=self._out,
            stderr=self._err,
            start_new_session=True,
            env={**os.environ, "PYTHONFAULTHANDLER": "1"},
        )

    def ready(self) -> Watching:
        until(
            lambda: (
                (self.desk.folder / ".whenvoca/watch.json").exists() and self.health()["process"] == self.process.pid
            )
        )
        return self

    def health(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads((self.desk.folder / ".whenvoca/watch.json").read_text())
        return found

    def kill(self) -> None:
        """Ends it as a power cut would."""
        self.process.kill()
        self.process.wait()
        self._close()

    def _close(self) -> None:
        self._err.close()
        self._out.close()

    def must_look(self, seconds: float) -> None:
        """Ends it, and tells where it hangs, where it has not looked for so long."""
        age = time.time() - (self.desk.folder / ".whenvoca/watch.json").stat().st_mtime
        if age > seconds:
            raise AssertionError(f"it has not looked for {age:.0f} seconds:\n{self._where_it_hangs()}")

    def _where_it_hangs(self) -> str:
        self.process.send_signal(signal.SIGABRT)
        self.process.wait(timeout=30)
        text = (self.desk.folder.parent / "err.txt").read_text(errors="replace")
        return text[text.rfind("Fatal Python error") :][:20_000]

    def stop(self, number: int = signal.SIGTERM) -> tuple[int, list[dict[str, Any]]]:
        self.process.send_signal(number)
        try:
            self.process.wait(timeout=90)  # the answer to an email is waited for
        except subprocess.TimeoutExpired:
            raise AssertionError(f"it does not end:\n{self._where_it_hangs()}") from None
        self._out.seek(0)
        lines = [json.loads(line) for line in self._out.read().splitlines()]
        self._close()
        return self.process.returncode, lines


@pytest.fixture
def watching(hall: Desk) -> Iterator[Callable[..., Watching]]:
    begun: list[Watching] = []

    def begin(*arguments: str) -> Watching:
        begun.append(Watching(hall, *arguments))
        return begun[-1].ready()

    yield begin
    for each in begun:
        if each.process.poll() is None:
            each.kill()


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT], ids=["SIGTERM", "SIGINT"])
def test_watch_takes_up_changes_and_stops_cleanly(hall: Desk, watching: Callable[..., Watching], number: int) -> None:
    hall.workflow(LOG, "log").workflow(TELL, "tell")
    put(hall, "before")
    watch = watching()
    until(lambda: logged(hall) == ["before"])
    put(hall, "a", "Tour")
    put(hall, "b", "Talk")
    until(lambda: len(logged(hall)) == 3 and len(said(hall)) == 2)
    code, lines = watch.stop(number)
    assert code == 0
    assert {(line["workflow"], line["subject"], line["outcome"]) for line in lines} == {
        ("log", "before", "done"),
        ("log", "Tour", "done"),
        ("log", "Talk", "done"),
        ("tell", "Tour", "done"),
        ("tell", "Talk", "done"),
    }
    assert not (hall.folder / ".whenvoca/watch.json").exists()


def test_second_watch_is_refused_and_other_commands_hand_over(hall: Desk, watching: Callable[..., Watching]) -> None:
    hall.workflow(TELL, "tell").workflow(
        'when asked\n\nask word "Which?"\nsend message to room "desk" in chat\n  text  word\n', "ask"
    )
    watch = watching()
    second = hall.drive("watch")
    assert second.code == 3
    assert f"is watched already, by process {watch.process.pid}" in second.err
    given = hall.drive("run", "ask", "--give", "word=hello", "--json")
    assert (given.code, given.json["runs"][0]["outcome"]) == (0, "done")
    assert [each["text"] for each in said(hall)] == ["hello"]
    refused = hall.drive("run", "ask")
    assert (refused.code, '"word" is not given' in refused.err) == (2, True)
    number = given.json["runs"][0]["run"]
    assert "cannot be taken back" in hall.drive("undo", str(number), "--yes").err
    places = hall.drive("places", "--json").json
    assert places["watch"]["process"] == watch.process.pid
    assert hall.drive("runs", "--json").json["runs"][0]["workflow"] == "ask"
    watch.stop()


def test_start_fires_on_its_moment(hall: Desk, watching: Callable[..., Watching]) -> None:
    hall.workflow(
        "when cal begins an event\n  early  1 hour\n\nadd row to log\n  Event  event.uid\n  What  event.start\n",
        "starts",
    )
    moment = datetime.now(UTC).replace(microsecond=0) + timedelta(hours=1, seconds=6)
    put(hall, "soon", start=moment)
    watch = watching()
    assert logged(hall) == []
    until(lambda: logged(hall) == ["soon"])
    late = datetime.now(UTC) + timedelta(hours=1) - moment
    assert timedelta() <= late < timedelta(seconds=5)
    watch.stop()


def test_what_is_wrong_is_told_once_and_the_rest_goes_on(hall: Desk, watching: Callable[..., Watching]) -> None:
    hall.workflow(LOG, "log")
    watch = watching()
    (hall.folder / "cal/broken.ics").write_text("BEGIN:VCALENDAR\nBEGIN:VEVENT\n")
    hall.workflow("when fish swim\n\nstop\n", "odd")
    put(hall, "a")
    until(lambda: logged(hall) == ["a"])
    put(hall, "b")
    until(lambda: logged(hall) == ["a", "b"])
    (hall.folder / "workflows/odd.voca").unlink()
    (hall.folder / "cal/broken.ics").unlink()
    put(hall, "c")
    until(lambda: logged(hall) == ["a", "b", "c"] and not watch.health()["troubles"])
    _, lines = watch.stop()
    troubles = [(line["trouble"], line["is_over"]) for line in lines if "trouble" in line]
    about = [text for text, is_over in troubles if "broken.ics" in text and not is_over]
    odd = [text for text, is_over in troubles if "odd.voca" in text and not is_over]
    assert (len(about), len(odd)) == (1, 1)
    assert {is_over for text, is_over in troubles if "odd.voca" in text} == {False, True}


def test_workflow_that_is_added_or_changed_is_taken_up(hall: Desk, watching: Callable[..., Watching]) -> None:
    hall.workflow(LOG, "log")
    watch = watching()
    hall.workflow(TELL, "tell")
    until(lambda: watch.health()["workflows"] == 2)
    put(hall, "a")
    until(lambda: len(said(hall)) == 1 and logged(hall) == ["a"])
    watch.stop()


def test_until_and_once_end_by_themselves(hall: Desk) -> None:
    hall.workflow(LOG, "log")
    put(hall, "a")
    assert hall.drive("watch", "--once").code == 0
    assert logged(hall) == ["a"]
    wanted = hall.drive("watch", "--now", "2027-03-17 09:00")
    assert (wanted.code, "needs an end" in wanted.err) == (2, True)


def storm(hall: Desk, kills: int, changes: int, seed: int = 7) -> None:
    """Changes come while `watch` is killed and started again; then everything is there, once."""
    hall.workflow(LOG, "log").workflow("brake  5000 messages\n\n" + TELL, "tell")
    chance = random.Random(seed)
    watch = Watching(hall).ready()
    per_round = changes // kills
    number = 0
    for _ in range(kills):
        for _ in range(per_round):
            put(hall, f"e{number:05}")
            number += 1
        time.sleep(chance.uniform(0.05, 0.6))
        watch.kill()
        watch = Watching(hall)
    try:
        until(lambda: len(logged(hall)) >= number and len({each["id"] for each in said(hall)}) >= number, 120)
    finally:
        watch.stop()
    assert sorted(logged(hall)) == [f"e{each:05}" for each in range(number)]
    by_id: dict[str, set[str]] = {}
    for each in said(hall):
        by_id.setdefault(each["id"], set()).add(each["text"])
    assert len(by_id) == number
    assert {text for texts in by_id.values() for text in texts} == {f"new: e{each:05}" for each in range(number)}
    assert all(len(texts) == 1 for texts in by_id.values())


def test_storm_of_changes_with_kills_leaves_each_handled_once(hall: Desk) -> None:
    storm(hall, kills=10, changes=2000)


@pytest.mark.soak
def test_storm_with_a_hundred_kills(hall: Desk) -> None:
    storm(hall, kills=100, changes=2000, seed=11)


BROKEN = [
    ("cut", b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:x\r\n", "is cut in the middle"),
    (
        "no start",
        b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:x\r\nSUMMARY:Lost\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
        '"Lost" cannot be used: it has no start',
    ),
    (
        "strange zone",
        b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:x\r\nDTSTART;TZID=Mars/Phobos:20270317T100000\r\nEND:VEVENT\r\n"
        b"END:VCALENDAR\r\n",
        'no time zone "Mars/Phobos"',
    ),
]


@pytest.mark.parametrize(("name", "data", "wanted"), BROKEN, ids=[each[0] for each in BROKEN])
def test_event_that_is_broken_in_mid_watch_is_told_once(
    hall: Desk, watching: Callable[..., Watching], name: str, data: bytes, wanted: str
) -> None:
    hall.workflow(LOG, "log")
    watch = watching()
    (hall.folder / "cal/x.ics").write_bytes(data)
    for uid in ("a", "b", "c"):
        put(hall, uid)
        until(lambda uid=uid: uid in logged(hall))
    until(lambda: any(wanted in each for each in watch.health()["troubles"]))
    (hall.folder / "cal/x.ics").unlink()
    put(hall, "d")
    until(lambda: "d" in logged(hall))
    until(lambda: not any(wanted in each for each in watch.health()["troubles"]))
    _, lines = watch.stop()
    told = [line["is_over"] for line in lines if wanted in line.get("trouble", "")]
    assert told == [False, True]
