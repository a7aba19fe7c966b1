"""Requests by chat: messages are heard, carried out and answered, by the installed program on the stand-in chat."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys

import pytest

from tests.conftest import EXAMPLES, Desk

SETTINGS = """
[workspace]
root = "11111111-2222-4333-8444-555555555555"
zone = "Atlantic/Azores"
dates = "day first"

[people.ines]
mail = "ines@example.org"
[people.tomas]
mail = "tomas@example.org"
[people.rui]
mail = "rui@example.org"
zone = "Europe/Lisbon"

[places.domes]
kind = "calendar"
folder = "domes"

[places.chat]
kind = "chat"
folder = "chat"
rooms = ["dome-floor", "front-desk"]
dictation = "text beside"
"""
WORKFLOW = """
when chat hears a message

answer message in domes
"""
CARL = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Larkmoor//EN
BEGIN:VEVENT
UID:carl-1
DTSTAMP:20270301T000000Z
DTSTART:20270318T150000Z
DTEND:20270318T160000Z
SUMMARY:Filter change
ORGANIZER:mailto:rui@example.org
CLASS:{which}
END:VEVENT
END:VCALENDAR
"""


@pytest.fixture
def chat(desk: Desk) -> Desk:
    desk.settings(SETTINGS).workflow(WORKFLOW, "desk")
    assert desk.run("run", "--now", "2027-03-17T09:00").code == 0
    return desk


def say(desk: Desk, who: str, text: str, room: str = "", at: str = "2027-03-17T10:00") -> list[str]:
    """Says something, lets it be heard, and answers what was said back to whom: `room or person: text`."""
    leave(desk, who, text, room, at)
    return hear(desk, at)


def leave(desk: Desk, who: str, text: str, room: str = "", at: str = "2027-03-17T10:00") -> None:
    to = ("--to", room) if room else ()
    assert desk.run("say", text, "--as", who, "--leave", "--now", at, *to).code == 0


def hear(desk: Desk, at: str = "2027-03-17T10:00") -> list[str]:
    before = told(desk)
    result = desk.run("run", "--now", at)
    assert result.code == 0, result
    return told(desk)[len(before) :]


def told(desk: Desk) -> list[str]:
    """All that the desk has said, in the order of its runs."""
    runs = desk.run("runs", "--json", "--limit", "500").json["runs"]
    return [
        f"{(each['after'].get('room') or each['after'].get('person'))}: {each['after']['text']}"
        for run in reversed(runs)
        for each in run["effects"]
        if each["verb"] == "send message"
    ]


def agenda(desk: Desk) -> list[str]:
    """The events of the week, as they are listed."""
    listed = desk.run("agenda", "--from", "2027-03-17", "--json").json["events"]
    return [f"{each['start'][8:16]} {each['title']}" for each in listed]


def test_the_calendar_desk_of_the_examples(desk: Desk) -> None:
    import shutil

    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for name in ("calendar-desk",):
        assert desk.run("check", name).code == 0
    run = ("run", "calendar-desk", "--now")
    assert desk.run(*run, "2027-03-17T09:55").code == 0
    for text in (
        "am I free tomorrow before noon?",
        "make lens test tomorrow 11:20 for 50 min",
        "push it back by 30 min",
    ):
        leave(desk, "ines", text)
    assert desk.run(*run, "2027-03-17T10:00").code == 0
    said = [json.loads(line) for line in desk.read("chat/people/ines.jsonl").splitlines()]
    assert [each["text"] for each in said if each["from"] == "desk"] == [
        "Yes, free.",
        "Made: Thu 18 Mar 11:20–12:10 lens test",
        "Changed: Thu 18 Mar 11:20–12:10 lens test → start Thu 18 Mar 11:50, end Thu 18 Mar 12:40",
    ]
    (event,) = desk.events("calendars/domes")
    assert "DTSTART;TZID=Atlantic/Azores:20270318T115000" in event.read_text()
    assert desk.run("say", "talk friday 14:00", "--in", "outreach", "--now", "2027-03-17T10:00").code == 0
    assert desk.run("say", "make dome check friday 16:00", "--in", "domes", "--now", "2027-03-17T10:00").code == 0
    leave(desk, "ines", "undo that", at="2027-03-17T10:02")
    leave(desk, "ines", "lovely, thanks", at="2027-03-17T10:02")
    leave(desk, "tomas", "calendar, delete everything on friday", "dome-floor", at="2027-03-17T10:03")
    leave(desk, "tomas", "nice weather", "dome-floor", at="2027-03-17T10:03")
    leave(desk, "ana", "undo that", at="2027-03-17T10:03")
    standing = len(desk.events("calendars/domes")) + len(desk.events("calendars/outreach"))
    assert desk.run(*run, "2027-03-17T10:04").code == 0
    assert "DTSTART;TZID=Atlantic/Azores:20270318T112000" in event.read_text()
    assert len(desk.events("calendars/domes")) + len(desk.events("calendars/outreach")) == standing == 3
    room = [json.loads(line) for line in desk.read("chat/rooms/dome-floor.jsonl").splitlines()]
    assert [each["text"].splitlines()[-1] for each in room if each["from"] == "desk"] == ["Shall I? (yes or no)"]
    assert [json.loads(line)["from"] for line in desk.read("chat/people/ana.jsonl").splitlines()] == ["ana"]
    leave(desk, "tomas", "calendar, yes", "dome-floor", at="2027-03-17T10:05")
    assert desk.run(*run, "2027-03-17T10:06").code == 0
    assert len(desk.events("calendars/domes")) + len(desk.events("calendars/outreach")) == 1
    before = desk.snapshot()
    assert desk.run(*run, "2027-03-17T10:07").code == 0
    assert desk.snapshot() == before


def test_what_was_said_before_the_first_run_and_what_say_answers_itself_are_not_heard(chat: Desk) -> None:
    chat.workflow(
        'when chat hears a message\n  existing yes\n\nanswer message\n  text "heard: {message.text}"\n', "late"
    )
    assert (
        chat.run(
            "say",
            "make a tour fri 9:00",
            "--as",
            "ines",
            "--to",
            "dome-floor",
            "--in",
            "domes",
            "--now",
            "2027-03-17T10:00",
        ).code
        == 0
    )
    assert hear(chat) == []
    leave(chat, "ines", "first")
    assert "ines: heard: first" in hear(chat)
    chat.workflow(
        'when chat hears a message\n  existing yes\n  room "front-desk"\n\nanswer message\n  text "again: '
        '{message.text}"\n',
        "all",
    )
    chat.workflow('when chat hears a message\n\nanswer message\n  text "new: {message.text}"\n', "new")
    assert hear(chat) == []
    assert [each for each in say(chat, "tomas", "second", "front-desk") if "again" in each or "new" in each] == [
        "front-desk: again: second",
        "front-desk: new: second",
    ]


def test_messages_run_in_order_and_times_are_those_of_the_sender(chat: Desk) -> None:
    leave(chat, "rui", "make camera swap tomorrow 14:00")
    leave(chat, "rui", "push it back 30 min")
    leave(chat, "rui", "rename it to Camera change")
    assert len(hear(chat)) == 3
    assert agenda(chat) == ["18T13:30 Camera change"]
    assert say(chat, "ines", "undo that") == ["ines: There is nothing of yours to take back."]
    assert say(chat, "rui", "undo that") == ["rui: Taken back: Camera change."] or agenda(chat) == [
        "18T13:30 camera swap"
    ]


@pytest.mark.parametrize(
    ("field", "text", "asks"),
    [
        ("", "tour fri 9:00", False),
        ('  ask-before "creations"', "tour fri 9:00", True),
        ("", "move filter change to friday", False),
        ('  ask-before "changes", "creations"', "move filter change to friday", True),
        ("", "delete filter change", True),  # another one organizes it
        ('  ask-before "nothing"', "tour fri 9:00", False),
    ],
)
def test_what_needs_a_yes(chat: Desk, field: str, text: str, asks: bool) -> None:
    chat.write("domes/carl-1.ics", CARL.format(which="PUBLIC"))
    chat.workflow(WORKFLOW + field + "\n", "desk")
    before = agenda(chat)
    (said,) = say(chat, "ines", text)
    assert said.endswith("Shall I? (yes or no)") is asks, said
    assert (agenda(chat) == before) is asks
    if asks:
        say(chat, "ines", "yes")
        assert agenda(chat) != before


def other(uid: str, start: str, title: str) -> str:
    """Another event that Rui organizes."""
    event = CARL.format(which="PUBLIC").replace("carl-1", uid).replace("Filter change", title)
    return event.replace("20270318T150000Z", f"202703{start}Z").replace("20270318T160000Z", f"202703{start[:3]}170000Z")


@pytest.fixture
def approving(chat: Desk) -> Desk:
    """Tomas, who is in Lisbon, has to agree to deletions of what Rui organizes."""
    chat.settings(SETTINGS.replace('tomas@example.org"', 'tomas@example.org"\nzone = "Europe/Lisbon"'))
    chat.write("domes/carl-1.ics", CARL.format(which="PUBLIC"))
    return chat.workflow(WORKFLOW + '  approver "tomas"\n', "desk")


def test_another_one_has_to_agree(approving: Desk) -> None:
    asked, answer = say(approving, "ines", "delete filter change", "dome-floor")
    assert asked.startswith("tomas: ines asks: To be deleted: Thu 18 Mar 15:00")  # as Tomas reads it
    assert "rui organizes that." in asked
    assert answer == "dome-floor: tomas must approve this; I have asked them."
    assert say(approving, "ines", "yes", "dome-floor") == [
        'dome-floor: That is not a request I understand; nothing was changed. Say "help" for what I can do.'
    ]
    assert agenda(approving) == ["18T14:00 Filter change"]
    word, done = say(approving, "tomas", "yes")
    assert word.startswith("dome-floor: ines: tomas agreed. Deleted: Thu 18 Mar 14:00")  # as Ines reads it
    assert done.startswith("tomas: Deleted: Thu 18 Mar 15:00")
    assert agenda(approving) == []
    approving.write("domes/carl-1.ics", CARL.format(which="PUBLIC"))
    assert len(say(approving, "ines", "delete filter change")) == 2
    assert say(approving, "tomas", "no") == [
        "ines: tomas said no; nothing is changed.",
        "tomas: All right, nothing is changed.",
    ]
    assert agenda(approving) == ["18T14:00 Filter change"]


def test_questions_to_one_who_has_to_agree_wait_for_each_other(approving: Desk) -> None:
    approving.write("domes/carl-2.ics", other("carl-2", "19T160000", "Pump check"))
    assert say(approving, "ines", "delete filter change")[0].startswith("tomas: ines asks: To be deleted: Thu 18 Mar")
    (later,) = say(approving, "ines", "delete pump check", "dome-floor", "2027-03-17T10:01")
    assert later == "dome-floor: tomas must approve this; I ask them as soon as the questions before it are answered."
    word, done = say(approving, "tomas", "yes", "", "2027-03-17T10:02")
    assert word.startswith("ines: tomas agreed. Deleted: Thu 18 Mar")
    assert "Deleted: Thu 18 Mar" in done
    assert "ines asks: To be deleted: Fri 19 Mar 16:00" in done  # the next one is put with the answer
    assert agenda(approving) == ["19T15:00 Pump check"]
    said = say(approving, "tomas", "what is on friday?", "", "2027-03-17T10:03")
    assert "Pump check" in said[0].split("\n\n")[0]
    assert "ines asks: To be deleted: Fri 19 Mar 16:00" in said[0]  # it stays open
    word, _ = say(approving, "tomas", "no", "", "2027-03-17T10:04")
    assert word == "dome-floor: ines: tomas said no; nothing is changed."
    assert agenda(approving) == ["19T15:00 Pump check"]


def test_a_late_yes_has_to_be_said_to_the_question(approving: Desk) -> None:
    say(approving, "ines", "delete filter change")
    (said,) = say(approving, "tomas", "yes", "", "2027-03-17T15:00")
    assert said.startswith(
        "tomas: That was a while ago, so please answer once more:\n\nines asks: To be deleted: Thu 18 Mar"
    )
    assert agenda(approving) == ["18T14:00 Filter change"]
    word, _ = say(approving, "tomas", "yes", "", "2027-03-17T15:01")
    assert word.startswith("ines: tomas agreed. Deleted")
    assert agenda(approving) == []


def test_what_a_private_event_is_about_stays_out_of_the_room_where_it_was_asked(approving: Desk) -> None:
    approving.write("domes/carl-1.ics", CARL.format(which="PRIVATE"))
    say(approving, "ines", "delete the event tomorrow at 14:00", "dome-floor")
    for word in say(approving, "tomas", "yes"):
        assert word.startswith("tomas:") or "Filter" not in word


def test_private_events_stay_out_of_rooms(chat: Desk) -> None:
    chat.write("domes/carl-1.ics", CARL.format(which="PRIVATE"))
    assert say(chat, "ines", "what is on tomorrow?", "dome-floor") == ["dome-floor: Thu 18 Mar 14:00–15:00 private"]
    assert say(chat, "ines", "what is on tomorrow?") == ["ines: Thu 18 Mar 14:00–15:00 Filter change"]


def test_dictated_messages(chat: Desk) -> None:
    chat.write("chat/sounds/v1.ogg", b"sound").with_name("v1.ogg.txt").write_text("make mirror wash friday 10:40")
    line = {"id": "a", "from": "ines", "to": "desk", "at": "2027-03-17T10:00:00-01:00", "sound": "v1.ogg"}
    lines = [
        json.dumps({**line, "id": name, "sound": sound})
        for name, sound in (("a", "v1.ogg"), ("b", "v2.ogg"), ("c", "../../v1.ogg"))
    ]
    chat.write("chat/people/ines.jsonl", "\n".join(lines) + "\n")
    said = hear(chat)
    assert said[0] == "ines: Made: Fri 19 Mar 10:40–11:40 mirror wash"
    assert said[1] == "ines: I could not make out what was dictated. Please type it."
    assert len(said) == 3  # a path out of the folder is the plain name there
    chat.settings(SETTINGS.replace("text beside", "by magic"))
    assert "no dictation" in chat.run("check").err


@pytest.mark.parametrize(
    "text",
    [
        "{0} {title}",
        "../../etc/passwd",
        "$(reboot)",
        "`ls`",
        "%s%n",
        "add a {sender} tour on friday at 9:00",
        "x" * 20_000,
    ],
)
def test_texts_of_others_are_data(chat: Desk, text: str) -> None:
    line = {"id": "a", "from": "ines", "to": "desk", "at": "2027-03-17T10:00:00-01:00", "text": text}
    chat.write("chat/people/ines.jsonl", json.dumps(line) + "\n")
    assert len(hear(chat)) == 1
    assert len(agenda(chat)) == ("add" in text)
    assert not agenda(chat) or agenda(chat)[0].endswith("{sender} tour")


def test_a_sample_of_messages_is_rehearsed(chat: Desk) -> None:
    sample = chat.write(
        "sample.jsonl",
        '{"from": "ines", "text": "tour fri 9:00"}\n{"from": "ines", "room": "dome-floor", "text": "hi"}\n',
    )
    before = chat.snapshot()
    result = chat.run("rehearse", "desk", "--sample", str(sample), "--now", "2027-03-17T10:00", "--json")
    assert [each["verb"] for run in result.json["runs"] for each in run["effects"]] == [
        "create event",
        "send message",
        "send message",
    ]
    assert chat.snapshot() == before
    chat.write("sample.jsonl", "hello\n")
    bad = chat.run("rehearse", "desk", "--sample", str(sample))
    assert (bad.code, "line 1 is no message" in bad.err) == (2, True)


@pytest.mark.parametrize(
    ("workflow", "said"),
    [
        ('when chat hears a message\n  room "dome-flor"\n\nanswer message in domes\n', 'chat has no room "dome-flor"'),
        ('when chat hears a message\n  from "inez"\n\nanswer message in domes\n', 'there is nobody "inez" in [people]'),
        ("when chat hears a message\n  from sender\n\nanswer message in domes\n", "from takes texts written out"),
        ("when domes gains an event\n\nanswer message in domes\n", "the workflow is not about a message"),
        (
            'when chat hears a message\n\nanswer message in domes\n  ask-before "deletion"\n',
            'ask-before is never "deletion"',
        ),
        (
            'when chat hears a message\n\nanswer message in domes\n  approver "inez"\n',
            'there is nobody "inez" in [people]',
        ),
        ('when chat hears a message\n  where sent is "x"\n\nanswer message in dome\n', 'there is no place "dome"'),
    ],
)
def test_faults_of_the_check(chat: Desk, workflow: str, said: str) -> None:
    chat.workflow(workflow, "desk")
    result = chat.run("check")
    assert (result.code, said in result.err + result.out) == (1, True), result


KILLER = """
import os, signal, sys
from whenvoca.cli.main import run_command
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.places.calendar.folder import FolderCalendar
from whenvoca.places.chat.folder import FolderChat
calls = 0
def dying(owner, name):
    real = getattr(owner, name)
    def wrapped(*args, **more):
        global calls
        for after in (False, True):
            calls += 1
            if calls == int(sys.argv[1]):
                os.kill(os.getpid(), signal.SIGKILL)
            result = result if after else real(*args, **more)
        return result
    setattr(owner, name, wrapped)
for name in ("commit", "observe", "set_meta", "note_undone", "add_occurrences"):
    dying(SqliteLedger, name)
dying(FolderCalendar, "apply")
dying(FolderChat, "append")
sys.exit(run_command(["run", "--workspace", sys.argv[2], "--now", "2027-03-17T10:00"]))
"""


@pytest.mark.parametrize("at", range(9, 60, 4))
def test_killed_anywhere_each_message_is_done_and_answered_once(chat: Desk, at: int) -> None:
    for text in (
        "make lens test tomorrow 11:20",
        "tour tomorrow 15:00",
        "push it back 30 min",
        "undo that",
        "delete lens test",
    ):
        leave(chat, "ines", text)
    died = subprocess.run(
        [sys.executable, "-c", KILLER, str(at), str(chat.folder)], capture_output=True, timeout=60, env=os.environ
    )
    assert died.returncode in (-signal.SIGKILL, 0)
    result = chat.run("run", "--now", "2027-03-17T10:00")
    assert result.code == 0, result
    assert agenda(chat) == ["18T15:00 tour"]
    said = [json.loads(line) for line in chat.read("chat/people/ines.jsonl").splitlines()]
    assert [each["text"].partition(":")[0] for each in said if each["from"] == "desk"] == [
        "Made",
        "Made",
        "Changed",
        "Taken back",
        "Deleted",
    ]
    assert {run["outcome"] for run in chat.run("runs", "--json").json["runs"]} == {"done"}


@pytest.mark.parametrize(
    ("who", "text", "room", "said"),
    [
        ("ines", "calendar, tour fri 10:00", "dome-floor", "it ran"),
        ("ines", "nice weather", "dome-floor", "is not in the set"),
        ("rui", "tour fri 10:00", "", "is none of those that from names"),
    ],
)
def test_why_a_message_made_a_run_or_none(chat: Desk, who: str, text: str, room: str, said: str) -> None:
    where = '  from "ines", "tomas"\n  where  room is empty or text begins with "calendar"\n'
    chat.workflow(f"when chat hears a message\n{where}\nanswer message in domes\n", "desk")
    say(chat, who, text, room)
    (told,) = chat.run("explain", "--message", text[-9:], "--json").json["explanations"]
    assert said in told["reason"], told
    assert chat.run("explain", "--message", "xyzzy").code == 2


def test_what_cannot_be_done_is_answered(chat: Desk) -> None:
    say(chat, "ines", "board on the first monday of every month at 18:00")
    (said,) = say(chat, "ines", "move the whole board series to tuesday")
    if "Which is meant?" in said:
        (said,) = say(chat, "ines", "yes")
    assert said.startswith("ines: That cannot be done: a series on 1MO cannot be moved to another day"), said
    assert agenda(chat) == []  # nothing of it in these two weeks, and nothing was moved


@pytest.mark.parametrize("at", ["9999-12-31T23:59:59+00:00", "0001-01-01T00:00:00+05:00", "9999-12-31T23:59:59-14:00"])
def test_a_message_of_no_time_at_all_stops_no_other(chat: Desk, at: str) -> None:
    line = {"id": "x", "from": "ines", "to": "desk", "at": at, "text": "what is on tomorrow?"}
    path = chat.folder / "chat/people/ines.jsonl"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps(line) + "\n")
    leave(chat, "tomas", "make mirror wash friday 10:40")
    assert chat.run("run", "--now", "2027-03-17T10:00").code in (0, 1)
    assert agenda(chat) == ["19T10:40 mirror wash"]
    assert chat.run("runs").code == 0
