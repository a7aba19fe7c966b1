"""The rules on presence, circles, pauses, rehearsing and time, each with a test of its name that plays the failure it
prevents."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

import pytest

from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.reader import read_events
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
create = true
[places.chat]
kind = "chat"
folder = "chat"
rooms = ["desk"]
"""
WATCH = (
    "when cal begins an event\n\nset presence of event.attendees in chat\n  show  dnd\n  status  event.title\n  "
    "until  event.end\n"
)
CLOCK = 'when clock reads 10:00\n\nsend message to room "desk" in chat\n  text  "ten, {today}"\n'


@pytest.fixture
def hall(desk: Desk) -> Desk:
    (desk.folder / "cal").mkdir()
    return desk.settings(SETTINGS, PLACES)


def at(text: str) -> datetime:
    return datetime.fromisoformat(f"2027-03-17T{text}").replace(tzinfo=AZORES)


def put(desk: Desk, uid: str, start: Any, end: Any, *attendees: str, **more: Any) -> None:
    people = tuple(Attendee(f"{each}@example.org") for each in attendees)
    desk.write(
        f"cal/{uid}.ics",
        write_calendar(Event(uid=uid, title=uid, start=start, end=end, attendees=people, **more), STAMP),
    )


def go(desk: Desk, clock: str, *names: str, code: int = 0, day: str = "2027-03-17") -> list[Any]:
    result = desk.run("run", *names, "--now", f"{day} {clock}", "--json")
    assert result.code == code, result.err + result.out
    runs: list[Any] = result.json["runs"]
    return runs


def shown(desk: Desk, person: str = "ines") -> tuple[str, str]:
    path = desk.folder / f"chat/presence/{person}.json"
    data = json.loads(path.read_text()) if path.exists() else {}
    return data.get("show", "free"), data.get("status", "")


def show(desk: Desk, kind: str, status: str, person: str = "ines") -> None:
    desk.write(f"chat/presence/{person}.json", json.dumps({"show": kind, "status": status}))


def said(desk: Desk) -> list[str]:
    path = desk.folder / "chat/rooms/desk.jsonl"
    return [json.loads(line)["text"] for line in path.read_text().splitlines()] if path.exists() else []


# --- presence


def test_presence_of_two_overlapping_events_ends_with_the_later_one(hall: Desk) -> None:
    hall.workflow(WATCH)
    show(hall, "away", "tea")
    put(hall, "long", at("10:00"), at("14:00"), "ines")
    put(hall, "short", at("11:00"), at("12:00"), "ines")
    for clock, wanted in (("09:00", "tea"), ("10:00", "long"), ("11:00", "short"), ("12:00", "long"), ("14:00", "tea")):
        go(hall, clock)
        assert shown(hall)[1] == wanted, clock


@pytest.mark.parametrize(
    ("end", "checks"),
    [("15:00", [("12:00", "a"), ("14:59", "a"), ("15:00", "")]), ("11:00", [("10:59", "a"), ("11:00", "")])],
    ids=["later", "earlier"],
)
def test_presence_follows_an_end_that_moves_while_it_stands(
    hall: Desk, end: str, checks: list[tuple[str, str]]
) -> None:
    hall.workflow(WATCH)
    put(hall, "a", at("10:00"), at("12:00"), "ines")
    go(hall, "09:00")
    go(hall, "10:00")
    put(hall, "a", at("10:00"), at(end), "ines")
    go(hall, "10:30")
    for clock, wanted in checks:
        go(hall, clock)
        assert shown(hall)[1] == wanted, clock


@pytest.mark.parametrize("how", ["deleted", "cancelled"])
def test_presence_ends_when_its_event_is_lost(hall: Desk, how: str) -> None:
    hall.workflow(WATCH)
    put(hall, "a", at("10:00"), at("12:00"), "ines")
    go(hall, "09:00")
    go(hall, "10:00")
    assert shown(hall) == ("dnd", "a")
    if how == "deleted":
        (hall.folder / "cal/a.ics").unlink()
    else:
        put(hall, "a", at("10:00"), at("12:00"), "ines", cancelled=True)
    go(hall, "10:30")
    assert shown(hall) == ("free", "")


def test_presence_changed_by_hand_is_left(hall: Desk) -> None:
    hall.workflow(WATCH)
    put(hall, "a", at("10:00"), at("12:00"), "ines")
    go(hall, "09:00")
    go(hall, "10:00")
    show(hall, "xa", "gone home")
    go(hall, "12:00")
    assert shown(hall) == ("xa", "gone home")


def test_presence_of_an_event_without_an_end_does_not_stay(hall: Desk) -> None:
    hall.workflow(WATCH.replace("\n\nset", "\n  early  10 minutes\n\nset"))
    put(hall, "a", at("10:00"), at("10:00"), "ines")
    path = hall.folder / "cal/a.ics"
    hall.write(
        "cal/a.ics",
        b"".join(line for line in path.read_bytes().splitlines(keepends=True) if not line.startswith(b"DTEND")),
    )
    go(hall, "09:00")
    go(hall, "09:50")
    assert shown(hall) == ("dnd", "a")
    go(hall, "10:00")
    assert shown(hall) == ("free", "")


def test_presence_set_without_until_stays_and_ends_other_claims(hall: Desk) -> None:
    hall.workflow(WATCH).workflow(
        'when asked\n\nset presence of "ines" in chat\n  show  away\n  status  "holiday"\n', "holiday"
    )
    put(hall, "a", at("10:00"), at("12:00"), "ines")
    go(hall, "09:00")
    go(hall, "10:00")
    go(hall, "10:30", "holiday")
    go(hall, "12:30")
    assert shown(hall) == ("away", "holiday")


def test_presence_claim_survives_a_lost_step_between_sending_and_noting(
    hall: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    hall.workflow(WATCH)
    show(hall, "away", "tea")
    put(hall, "a", at("10:00"), at("12:00"), "ines")
    go(hall, "09:00")

    def stop(*arguments: object) -> None:
        raise KeyboardInterrupt

    with monkeypatch.context() as patched:
        patched.setattr("whenvoca.engine.ledger.schedule_store.SqliteSchedule.add_claim", stop)
        assert hall.run("run", "--now", "2027-03-17 10:00").code == 130
    assert shown(hall) == ("dnd", "a")
    go(hall, "10:01")
    go(hall, "12:00")
    assert shown(hall) == ("away", "tea")  # what was there before, not what was set and never noted


# --- circles


def test_circle_by_time_is_stopped(hall: Desk) -> None:
    hall.workflow(
        "when cal ends an event\n\ncreate event in cal\n  title  event.title\n  start  now\n  length  10 minutes\n"
    )
    put(hall, "a", at("10:00"), at("11:00"))
    go(hall, "09:00")
    go(hall, "11:00")
    assert len(hall.events("cal")) == 2
    result = hall.run("run", "--now", "2027-03-17 11:10", "--json")
    assert "would go round without end; stopped here" in result.json["faults"][0]["message"]
    assert len(hall.events("cal")) == 2


def test_circle_through_another_workflow_is_stopped_with_its_chain(hall: Desk) -> None:
    hall.workflow('when cal gains an event\n  where  title is not "x"\n\nadd row to log\n  What  event.title\n', "one")
    hall.write("log.csv", "What\n")
    hall.workflow(
        'when log gains a row\n  existing  no\n  where  What is filled\n\ncreate event in cal\n  title  "{What}!"\n  '
        "start  now\n",
        "two",
    )
    go(hall, "09:00")
    put(hall, "a", at("10:00"), at("11:00"))
    result = hall.run("run", "--now", "2027-03-17 09:10", "--json")
    (fault,) = result.json["faults"]
    assert "one → two → one" in fault["message"]


# --- pauses


def meanwhile(hall: Desk) -> None:
    hall.workflow("when cal gains an event\n\nadd row to log\n  What  event.title\n")
    put(hall, "first", at("10:00"), at("11:00"))
    go(hall, "09:00")
    assert hall.run("pause", "slots", "--now", "2027-03-17 09:01").code == 0
    put(hall, "second", at("12:00"), at("13:00"))
    assert go(hall, "09:02") == []


@pytest.mark.parametrize(("option", "taken"), [("--run-missed", 1), ("--skip", 0)])
def test_pause_is_told_and_taken_up_or_skipped_as_asked(hall: Desk, option: str, taken: int) -> None:
    meanwhile(hall)
    nobody = hall.run("resume", "slots", "--now", "2027-03-17 09:03")
    assert (nobody.code, "1 occurrence meanwhile: second" in nobody.err) == (4, True)
    assert go(hall, "09:04") == []
    result = hall.run("resume", "slots", option, "--json", "--now", "2027-03-17 09:05")
    assert result.json["resumed"][0]["meanwhile"] == ["second"]
    assert len(go(hall, "09:06")) == taken
    put(hall, "third", at("12:00"), at("13:00"))
    assert [run["subject"] for run in go(hall, "09:07")] == ["third"]


def test_resume_of_what_is_not_paused_is_refused(hall: Desk) -> None:
    hall.workflow(CLOCK)
    result = hall.run("resume", "slots")
    assert (result.code, "is not paused" in result.err) == (2, True)


# --- the clock


def test_of_missed_clock_moments_only_the_newest_runs(hall: Desk) -> None:
    hall.workflow("missed  3 days\n\n" + CLOCK)
    go(hall, "09:00")
    (run,) = go(hall, "11:00", day="2027-03-20")
    assert "and 3 before it" in run["subject"]
    assert said(hall) == ["ten, 20 Mar"]
    assert go(hall, "11:01", day="2027-03-20") == []


def test_now_is_the_moment_of_the_occurrence_in_a_late_run_and_in_a_retry(hall: Desk) -> None:
    text = (
        'missed  1 day\n\nwhen clock reads 23:50\n\nsend message to room "desk" in chat\n  text  "{today} {now as '
        'time}"\nif log-fails is filled\n  fail "no"\n'
    )
    hall.workflow(text.replace('if log-fails is filled\n  fail "no"\n', 'add row to log\n  What  "x"\n  Odd  "y"\n'))
    hall.write("log.csv", "What\n")
    hall.workflow(text.replace('if log-fails is filled\n  fail "no"\n', 'fail "no"\n'))
    go(hall, "12:00")
    (run,) = go(hall, "00:20", code=1, day="2027-03-18")
    assert said(hall) == ["17 Mar 23:50"]
    hall.workflow(text.replace('if log-fails is filled\n  fail "no"\n', "").replace("send", "send"))
    assert hall.run("retry", str(run["run"]), "--now", "2027-03-18 08:00").code == 0
    assert said(hall)[-1] == "17 Mar 23:50"


def test_ledger_is_on_real_or_on_played_time_never_both(hall: Desk) -> None:
    hall.workflow(CLOCK)
    go(hall, "09:00")
    refused = hall.run("run")
    assert (refused.code, "was played through with --now" in refused.err) == (2, True)
    assert hall.run("claim", "--real-time").code == 0
    assert hall.run("run").code == 0
    assert hall.run("run", "--now", "2027-03-17 10:00").code == 2
    assert said(hall) == []


# --- rehearsing


def test_rehearsal_plays_the_clock_and_writes_nothing(hall: Desk) -> None:
    hall.workflow(WATCH, "watch").workflow(CLOCK, "ten").workflow(
        "when cal gains an event\n\nadd row to log\n  What  event.title\n", "rows"
    )
    put(hall, "a", at("10:30"), at("11:30"), "ines", rule="FREQ=DAILY;COUNT=3")
    go(hall, "09:00")
    state = {path: path.read_bytes() for path in sorted(hall.folder.rglob("*")) if path.is_file()}
    result = hall.run("rehearse", "--from", "2027-03-18", "--until", "2027-03-19 12:00", "--json")
    assert result.code == 0
    told = [(run["at"][:16], run["workflow"]) for run in result.json["runs"]]
    assert [each for each in told if each[1] == "ten"] == [("2027-03-18T10:00", "ten"), ("2027-03-19T10:00", "ten")]
    assert [each for each in told if each[1] == "watch"] == [
        ("2027-03-18T10:30", "watch"),
        ("2027-03-19T10:30", "watch"),
    ]
    assert [each["workflow"] for each in result.json["runs"]].count("presence") == 2
    assert {path: path.read_bytes() for path in sorted(hall.folder.rglob("*")) if path.is_file()} == state


def test_rehearsal_of_a_period_needs_both_ends_and_a_workflow_of_time(hall: Desk) -> None:
    hall.workflow("when cal gains an event\n\nadd row to log\n  What  event.title\n", "rows")
    assert hall.run("rehearse", "--from", "2027-03-18").code == 2
    result = hall.run("rehearse", "--from", "2027-03-18", "--until", "2027-03-19")
    assert (result.code, "none of these workflows waits for a moment" in result.err) == (2, True)


# --- by hand


def test_started_about_an_event_offers_what_where_lets_through(hall: Desk) -> None:
    hall.workflow(
        'when asked about an event of cal\n  where  start after now and location is "hall"\n\nchange event\n  colour  '
        '"teal"\n'
    )
    put(hall, "past", at("08:00"), at("09:00"), location="hall")
    put(hall, "dome", at("12:00"), at("13:00"), location="dome")
    put(hall, "one", at("12:00"), at("13:00"), location="hall")
    put(hall, "two", at("14:00"), at("15:00"), location="hall")
    result = hall.run("run", "slots", "--now", "2027-03-17 10:00")
    assert result.code == 2
    assert '"one"' in result.err
    assert '"two"' in result.err
    assert "past" not in result.err
    assert "dome" not in result.err
    go(hall, "10:00", "slots", "--event", "two")
    (event,) = read_events((hall.folder / "cal/two.ics").read_bytes(), AZORES)
    assert event.colour == "teal"


ASKS: list[tuple[str, str, str]] = [
    ("text", "hello there", "hello there"),
    ("number", "2,5", "2.5"),
    ("yes/no", "yes", "yes"),
    ("date", "2027-03-24", "24 Mar"),
    ("date", "24 March 2027", "24 Mar"),
    ("time", "21:30", "21:30"),
    ("moment", "2027-03-24 21:30", "24 Mar 21:30"),
    ("duration", "1 hour 30 minutes", "1 hour 30 minutes"),
    ("duration", "0:45", "45 minutes"),
    ("list", "a\nb", "a, b"),
]


@pytest.mark.parametrize(("kind", "given", "wanted"), ASKS, ids=[f"{kind} {given!r}" for kind, given, _ in ASKS])
def test_answers_are_read_by_their_kind(hall: Desk, kind: str, given: str, wanted: str) -> None:
    hall.workflow(
        f'when asked\n\nask it "What?"\n  kind  {kind}\nsend message to room "desk" in chat\n  text  "{{it}}"\n'
    )
    go(hall, "10:00", "slots", "--give", f"it={given}")
    assert said(hall) == [wanted]


@pytest.mark.parametrize(
    ("kind", "given"),
    [("number", "many"), ("date", "31.02.2027"), ("time", "25:00"), ("duration", "long"), ("yes/no", "maybe")],
)
def test_answers_that_are_none_of_their_kind_do_nothing(hall: Desk, kind: str, given: str) -> None:
    hall.workflow(
        f'when asked\n\nask it "What?"\n  kind  {kind}\nsend message to room "desk" in chat\n  text  "{{it}}"\n'
    )
    result = hall.run("run", "slots", "--give", f"it={given}", "--now", "2027-03-17 10:00")
    assert (result.code, f"is no {kind}" in result.err) == (2, True)
    assert said(hall) == []


def test_answer_comes_from_standard_input_and_a_name_that_nobody_asks_for_is_refused(
    hall: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    import io

    hall.workflow('when asked\n\nask it "What?"\nsend message to room "desk" in chat\n  text  it\n')
    monkeypatch.setattr("sys.stdin", io.StringIO("from\nthe pipe\n"))
    go(hall, "10:00", "slots", "--give", "it=-")
    assert said(hall) == ["from\nthe pipe"]
    refused = hall.run("run", "slots", "--give", "itt=x", "--now", "2027-03-17 10:00")
    assert (refused.code, 'nothing asks for "itt"' in refused.err) == (2, True)


def test_question_in_a_branch_is_asked_only_there(hall: Desk) -> None:
    hall.workflow(
        'when asked\n\nfind events in cal as found\nif found is empty\n  ask it "What?"\n  send message to room '
        '"desk" in chat\n    text  it\n'
    )
    (failed,) = go(hall, "10:00", "slots", code=1)
    assert '"it" is not given' in failed["reason"]
    put(hall, "a", at("10:00"), at("11:00"))
    (done,) = go(hall, "10:05", "slots")
    assert done["outcome"] == "done"


Faulty = tuple[str, str, str]
FAULTS: list[Faulty] = [
    ("no such day", "when clock reads 10:00 on someday\n\nstop\n", '"someday" is no day'),
    ("no time", "when clock reads soon\n\nstop\n", "reads takes a time written out"),
    ("no span", "when clock passes every moon\n\nstop\n", "every takes a duration written out"),
    (
        "both offsets",
        "when cal begins an event\n  early 5 minutes\n  late 5 minutes\n\nstop\n",
        "early and late do not go together",
    ),
    (
        "room that is none",
        'when asked\n\nsend message to room "cellar" in chat\n  text "x"\n',
        'chat has no room "cellar"',
    ),
    ("nobody", 'when asked\n\nset presence of "paulo" in chat\n  show dnd\n', 'there is nobody "paulo" in [people]'),
    ("odd show", 'when asked\n\nset presence of "ines" in chat\n  show asleep\n', 'show is never "asleep"'),
    ("odd kind", 'when asked\n\nask it "What?"\n  kind moon\n\nstop\n', 'there is no kind "moon"'),
    (
        "default of another kind",
        'when asked\n\nask it "What?"\n  kind number\n  default "x"\n\nstop\n',
        "it is a number, and this is a text",
    ),
    (
        "mirror row without key",
        "when cal gains, changes or loses an event\n\nmirror row in log\n  What event.title\n",
        "log has no key",
    ),
    (
        "fields of a clock",
        "when clock reads 10:00\n  where  now is filled\n\nstop\n",
        'this trigger has no setting "where"',
    ),
    ("no list", "when asked\n\nlet x = 5\nfill sheet log for each e in x\n  What  e\n", "for each goes through a list"),
    ("private odd", "private maybe\n\nwhen asked\n\nstop\n", "private takes shown or hidden"),
]


@pytest.mark.parametrize(("name", "text", "wanted"), FAULTS, ids=[each[0] for each in FAULTS])
def test_check_finds_the_fault(hall: Desk, name: str, text: str, wanted: str) -> None:
    hall.write("log.csv", "What\n")
    result = hall.workflow(text).run("check")
    assert result.code == 1
    assert wanted in result.out + result.err
