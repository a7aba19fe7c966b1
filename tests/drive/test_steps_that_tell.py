"""The steps that tell others, keep rows and tasks, and call addresses, each through the program; and the rules on
trust."""

from __future__ import annotations

import gzip
import json
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from email import message_from_bytes
from email.policy import default
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, ClassVar

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.writer import write_calendar
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
RUI = '[people.rui]\nmail = "rui@example.org"\nzone = "Europe/Lisbon"\n'
PLACES = """
[places.chat]
kind = "chat"
folder = "chat"
rooms = ["desk"]
[places.emails]
kind = "outbox"
folder = "emails"
from = "desk@example.org"
[places.chores]
kind = "tasks"
folder = "chores"
[places.list]
kind = "sheet"
file = "list.csv"
key = "Event"
create = true
"""


@pytest.fixture
def hall(desk: Desk) -> Desk:
    desk.settings(SETTINGS, RUI, REQUESTS, PLACES).rows()
    (desk.folder / "domes").mkdir()
    return desk


def put(desk: Desk, uid: str, title: str = "", hour: int = 10, **more: Any) -> None:
    start = datetime(2027, 3, 17, hour, tzinfo=AZORES)
    more["attendees"] = tuple(Attendee(each) for each in more.get("attendees", ()))
    event = Event(uid=uid, title=title or uid, start=start, end=start + timedelta(hours=1), **more)
    desk.write(f"domes/{uid}.ics", write_calendar(event, STAMP))


def go(desk: Desk, *arguments: str, code: int = 0, now: str = "2027-03-01 09:00") -> Any:
    result = desk.run("run", *arguments, "--now", now, "--json")
    assert result.code == code, result.err + result.out
    return result.json


def said(desk: Desk, where: str = "rooms/desk") -> list[str]:
    path = desk.folder / f"chat/{where}.jsonl"
    return [json.loads(line)["text"] for line in path.read_text().splitlines()] if path.exists() else []


def emails(desk: Desk) -> list[Any]:
    return [
        message_from_bytes(path.read_bytes(), policy=default) for path in sorted((desk.folder / "emails").glob("*.eml"))
    ]


def rows(desk: Desk) -> list[list[str]]:
    return [line.split(",") for line in desk.read("list.csv").splitlines()]


GAIN = "when domes gains an event\n  existing  yes\n\n"
FOLLOW = "when domes gains, changes or loses an event\n  existing  yes\n\n"


# --- messages and emails


def test_message_to_people_is_told_in_their_zones(hall: Desk) -> None:
    hall.workflow(
        GAIN + 'send message to person "ines", "rui" in chat\n  text  "{event.title} at {event.start as time}, '
        '{event.start}"\n'
    )
    put(hall, "a", "Tour")
    go(hall)
    assert said(hall, "people/ines") == ["Tour at 10:00, 17 Mar 10:00"]
    assert said(hall, "people/rui") == ["Tour at 11:00, 17 Mar 11:00"]


def test_email_takes_the_event_along(hall: Desk) -> None:
    hall.workflow(
        GAIN + 'send email to event.attendees, "rui" in emails\n  subject  "{event.title}"\n  text     "See you at '
        '{event.start as time}."\n'
        "  attach   event\n"
    )
    put(hall, "a", "Tour", attendees=("ana@example.org",))
    go(hall)
    (email,) = emails(hall)
    assert (email["To"], email["Subject"]) == ("ana@example.org, rui@example.org", "Tour")
    (part,) = email.iter_attachments()
    (event,) = read_events(part.get_payload(decode=True), AZORES)
    assert event.uid == "a"
    go(hall)
    assert len(emails(hall)) == 1


def test_email_to_an_address_with_a_line_break_is_refused(hall: Desk) -> None:
    hall.workflow(GAIN + 'send email to event.details\n  subject  "x"\n  text     "x"\n')
    put(hall, "a", details="ana@example.org\nBcc: all@example.org")
    (told,) = go(hall, code=1)["runs"]
    assert "is no address: a line ends in it" in told["reason"]
    assert not (hall.folder / "emails").exists()


def test_titles_of_private_events_stay_out_of_rooms_rows_and_presence(hall: Desk) -> None:
    steps = (
        'let line = "{event.title} {event.location}"\n'
        'send message to room "desk" in chat\n  text  "{event.title}|{line}|{event.start as time}"\n'
        "add row to list\n  Event  event.uid\n  What  event.title\n"
        'set presence of "ines" in chat\n  show  dnd\n  status  title\n  until  event.end\n'
    )
    put(hall, "open", "Tour", 10, location="hall")
    put(hall, "secret", "Doctor", 11, location="clinic", private=True)
    hall.workflow(GAIN.replace("existing  yes", 'existing  yes\n  where  title is not "x"') + steps)
    go(hall)
    assert sorted(said(hall)) == ["Tour|Tour hall|10:00", "private|private |11:00"]
    assert [row[1] for row in rows(hall)] == ["What", "Tour", "private"]
    everything = b"".join(path.read_bytes() for path in (hall.folder / "chat").rglob("*") if path.is_file())
    assert b"Doctor" not in everything
    assert b"clinic" not in everything


def test_workflow_may_say_that_private_titles_are_shown(hall: Desk) -> None:
    put(hall, "secret", "Doctor", private=True)
    hall.workflow("private  shown\n\n" + GAIN + 'send message to room "desk" in chat\n  text  event.title\n')
    go(hall)
    assert said(hall) == ["Doctor"]


def test_fifty_messages_at_once_are_held(hall: Desk) -> None:
    hall.workflow(GAIN + 'send message to room "desk" in chat\n  text  event.title\n')
    for number in range(51):
        put(hall, f"e{number}")
    held = go(hall, code=4)["held"]
    assert (held[0]["what"], held[0]["count"], held[0]["limit"]) == ("message", 51, 50)
    assert said(hall) == []
    go(hall, "--yes")
    assert len(said(hall)) == 51


def test_cells_are_saved_before_anything_is_told(hall: Desk) -> None:
    hall.rows(",,R-1,M 42,17.03.2027,21:30,02:00")
    hall.workflow(
        'when requests gains a row\n  where  Answer is empty\n\nchange row\n  Answer  "granted"\nsend message to room '
        '"desk" in chat\n  text  Title\n'
    )
    (hall.folder / ".~lock.requests.csv#").write_text("x")
    told = hall.run("run", "--json")
    assert told.code == 3
    assert said(hall) == []
    (hall.folder / ".~lock.requests.csv#").unlink()
    assert hall.run("run").code == 0
    assert said(hall) == ["M 42"]
    assert "granted" in hall.read()


def test_undo_says_what_cannot_be_taken_back(hall: Desk) -> None:
    hall.workflow(
        GAIN + 'add row to list\n  Event  event.uid\nsend message to room "desk" in chat\n  text  event.title\n'
    )
    put(hall, "a", "Tour")
    (told,) = go(hall)["runs"]
    result = hall.run("undo", str(told["run"]), "--yes", "--now", "2027-03-01 10:00")
    assert result.code == 1
    assert "the message to desk cannot be taken back" in result.out + result.err
    assert rows(hall) == [["Event"]]


# --- rows that follow events


def test_mirror_row_follows_its_event(hall: Desk) -> None:
    hall.workflow(FOLLOW + "mirror row in list\n  Event  event.uid\n  What  event.title\n  At  event.start as time\n")
    put(hall, "a", "Tour")
    put(hall, "b", "Talk", 12)
    go(hall)
    assert rows(hall)[1:] == [["a", "Tour", "10:00"], ["b", "Talk", "12:00"]]
    before = hall.snapshot()
    assert go(hall)["runs"] == []
    assert hall.snapshot() == before
    put(hall, "a", "Tour", 11)
    (hall.folder / "domes/b.ics").unlink()
    go(hall)
    assert rows(hall)[1:] == [["a", "Tour", "11:00"]]


def test_mirror_row_changed_by_another_hand_is_not_written_over_unseen(hall: Desk) -> None:
    text = FOLLOW + "mirror row in list\n  Event  event.uid\n  What  event.title\n  At  event.start as time\n"
    hall.workflow(text)
    put(hall, "a", "Tour")
    go(hall)
    hall.write("list.csv", hall.read("list.csv").replace("Tour", "Big tour"))
    put(hall, "a", "Tour", 11)
    go(hall)
    assert rows(hall)[1] == ["a", "Big tour", "11:00"]  # only the copy had another title
    put(hall, "a", "Walk", 11)
    (told,) = go(hall, code=1)["runs"]
    assert "What Big tour there, Walk here" in told["reason"]
    assert rows(hall)[1][1] == "Big tour"
    hall.workflow(text + "  disputed  as in source\n")
    go(hall)
    assert rows(hall)[1][1] == "Walk"


def test_undone_mirror_row_comes_and_goes(hall: Desk) -> None:
    hall.workflow(FOLLOW + "mirror row in list\n  Event  event.uid\n  What  event.title\n")
    put(hall, "a", "Tour")
    (told,) = go(hall)["runs"]
    assert hall.run("undo", str(told["run"]), "--yes", "--now", "2027-03-01 10:00").code == 0
    assert rows(hall) == [["Event", "What"]]


def test_fill_sheet_undone_brings_the_rows_back(hall: Desk) -> None:
    hall.write("list.csv", "Event,What,Note\nold,Old one,mine\n")
    hall.workflow(
        "when asked\n\nfind events in domes as found\nfill sheet list for each e in found\n  Event  e.uid\n  What  "
        "e.title\n"
    )
    put(hall, "a", "Tour")
    put(hall, "b", "Talk", 12)
    (told,) = go(hall, "slots")["runs"]
    assert rows(hall) == [["Event", "What", "Note"], ["a", "Tour", "mine"], ["b", "Talk", ""]]
    assert hall.run("undo", str(told["run"]), "--yes", "--now", "2027-03-01 10:00").code == 0
    assert rows(hall)[:2] == [["Event", "What", "Note"], ["old", "Old one", "mine"]]


# --- tasks


def test_tasks_are_made_changed_finished_and_deleted(hall: Desk) -> None:
    hall.workflow(
        GAIN
        + 'create task in chores as chore\n  title  "Pack for {event.title}"\n  due  event.start - 1 day\n  person  '
        '"ines"\n  reminder  2 hours before\n'
    )
    put(hall, "a", "Tour")
    go(hall)
    path = next(iter(hall.events("chores")))
    (task,) = read_events(path.read_bytes(), AZORES, noun="task")
    assert (task.title, task.person, task.source) == ("Pack for Tour", "ines", "a")  # type: ignore[attr-defined]
    hall.workflow(
        'when asked\n\nchange task in chores as t\n  where  source is "a"\n  title  "{t.title}, quickly"\n  section  '
        '"soon"\n'
    )
    (changed,) = go(hall, "slots")["runs"]
    (task,) = read_events(path.read_bytes(), AZORES, noun="task")
    assert (task.title, task.section) == ("Pack for Tour, quickly", "soon")  # type: ignore[attr-defined]
    assert hall.run("undo", str(changed["run"]), "--yes", "--now", "2027-03-01 10:00").code == 0
    (task,) = read_events(path.read_bytes(), AZORES, noun="task")
    assert (task.title, task.section) == ("Pack for Tour", "")  # type: ignore[attr-defined]
    hall.workflow(
        "when asked\n\nfind tasks in chores as open-ones\n  where  finished is empty\nfor each t in open-ones\n  "
        "finish task t\n",
        "tick",
    )
    go(hall, "tick", now="2027-03-16 18:00")
    (task,) = read_events(path.read_bytes(), AZORES, noun="task")
    assert task.finished == datetime(2027, 3, 16, 18, tzinfo=AZORES)  # type: ignore[attr-defined]
    hall.workflow('when asked\n\ndelete task in chores\n  where  source is "a"\n', "clear")
    go(hall, "clear", now="2027-03-16 19:00")
    assert hall.events("chores") == []


# --- the web


class Hook(BaseHTTPRequestHandler):
    calls: ClassVar[list[tuple[str, str, dict[str, Any], str]]] = []
    answers: ClassVar[list[int]] = []
    packed: ClassVar[bytes] = b""  # instead of an answer, packed by gzip

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers.get("content-length") or 0))
        self.calls.append(
            (self.command, self.path, json.loads(body) if body else {}, str(self.headers.get("idempotency-key")))
        )
        code = self.answers.pop(0) if self.answers else 200
        text = self.packed or json.dumps({"door": {"number": 7}, "open_until": "23:00"}).encode()
        self.send_response(code)
        if self.packed:
            self.send_header("content-encoding", "gzip")
        self.send_header("content-length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)

    def log_message(self, format: str, *args: Any) -> None: ...


@pytest.fixture
def hook() -> Iterator[str]:
    Hook.calls, Hook.answers, Hook.packed = [], [], b""
    server = ThreadingHTTPServer(("127.0.0.1", 0), Hook)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


def calling(hook: str, more: str = "") -> str:
    return (
        GAIN + f'call "{hook}/doors/{{event.uid}}" as answer\n  Room  event.location\n  Until  event.end\n{more}'
        "add row to list\n  Event  event.uid\n  What  answer.door.number\n  At  answer.open-until\n"
    )


def test_call_posts_json_and_its_answer_has_fields(hall: Desk, hook: str) -> None:
    hall.workflow(calling(hook))
    put(hall, "a", location="hall")
    go(hall)
    ((method, path, body, key),) = Hook.calls
    assert (method, path, body) == ("POST", "/doors/a", {"Room": "hall", "Until": "2027-03-17T11:00:00-01:00"})
    assert len(key) == 36
    assert rows(hall)[1] == ["a", "7", "23:00"]
    assert go(hall)["runs"] == []
    assert len(Hook.calls) == 1


def test_call_is_tried_again_with_the_same_key_while_the_server_is_away(hall: Desk, hook: str) -> None:
    Hook.answers = [503, 503]
    hall.workflow(calling(hook))
    put(hall, "a")
    go(hall)
    assert len(Hook.calls) == 3
    assert len({key for _, _, _, key in Hook.calls}) == 1


def test_call_that_is_refused_fails_with_what_was_answered(hall: Desk, hook: str) -> None:
    Hook.answers = [422]
    hall.workflow(calling(hook))
    put(hall, "a")
    (told,) = go(hall, code=1)["runs"]
    assert "answers 422" in told["reason"]
    assert len(Hook.calls) == 1


@pytest.mark.parametrize(("accepted", "status", "code"), [("404, 410", 404, 0), ("503", 503, 0), ("404", 410, 1)])
def test_statuses_that_are_accepted_are_answers(hall: Desk, hook: str, accepted: str, status: int, code: int) -> None:
    Hook.answers = [status]
    hall.workflow(calling(hook, f"  accept  {accepted}\n").replace("answer.door.number", "answer.status"))
    put(hall, "a")
    go(hall, code=code)
    assert len(Hook.calls) == 1
    assert code != 0 or rows(hall)[1] == ["a", str(status), "23:00"]


def test_a_status_to_be_accepted_is_one(hall: Desk, hook: str) -> None:
    hall.workflow(calling(hook, "  accept  204\n"))
    put(hall, "a")
    (told,) = go(hall, code=1)["runs"]
    assert "is not a status from 300 to 599" in told["reason"]
    assert Hook.calls == []


@pytest.mark.parametrize(
    ("packed", "said", "code"),
    [
        (gzip.compress(bytes(3_000_000)), "answers with more than 1 MB", 1),
        (b"no gzip", "answers what cannot be unpacked", 1),
    ],
    ids=["a bomb", "no gzip"],
)
def test_answer_that_cannot_be_unpacked_is_that_calls_trouble(
    hall: Desk, hook: str, packed: bytes, said: str, code: int
) -> None:
    Hook.packed = packed
    hall.workflow("tries  1\n" + calling(hook))
    put(hall, "a")
    (told,) = go(hall, code=code)["runs"]
    assert said in told["reason"]


def test_rehearsed_call_calls_nothing(hall: Desk, hook: str) -> None:
    hall.workflow(calling(hook))
    put(hall, "a")
    assert hall.run("rehearse", "--now", "2027-03-01 09:00").code == 0
    assert Hook.calls == []


def test_host_of_a_call_stands_in_the_workflow(hall: Desk, hook: str) -> None:
    hall.workflow(GAIN + 'call "{event.details}"\n')
    put(hall, "a", details=hook)
    (told,) = go(hall, code=1)["runs"]
    assert "is named neither in the workflow nor in the settings" in told["reason"]
    assert Hook.calls == []
