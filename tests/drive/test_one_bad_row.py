"""One row, event, message or place that cannot be used stops nothing but itself."""

from __future__ import annotations

import os
import threading
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.engine.rehearsing import previewing
from whenvoca.places import files

GOOD = "R-1,M 42,2027-03-17,21:30,30 minutes,", "R-2,M 13,2027-03-18,21:30,30 minutes,"
HEAD = "No,Title,Day,From,Long,Rep\n"
WORKFLOW = (
    "when requests gains a row\n\ncreate event in domes\n  title   Title\n  start   Day at From\n  length  Long\n"
    "  repeat  Rep\n"
)
# the row, and what is said of it
USELESS = [
    ("R-9,x,9999-12-31,21:30,30 minutes,", "the day 9999-12-31 lies outside the years 1900 to 9998"),
    ("R-9,x,9999-12-30,21:30,30 minutes,", "the day 9999-12-30 lies outside the years 1900 to 9998"),
    ("R-9,x,0001-01-01,00:30,30 minutes,", "the day 0001-01-01 lies outside the years 1900 to 9998"),
    ("R-9,x,1899-12-31,00:30,30 minutes,", "the day 1899-12-31 lies outside the years 1900 to 9998"),
    ("R-9,x,9998-12-31,23:30,2 hours,", "the end 9999-01-01 lies outside the years 1900 to 9998"),
    ("R-9,x,2027-03-17,21:30,999999999999 minutes,", "its time lies outside the years 1900 to 9998"),
    ("R-9,x,2027-03-17,21:30,30 minutes,FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31", "the repetition gives no day"),
    (
        "R-9,x,2027-03-17,21:30,30 minutes,FREQ=DAILY;INTERVAL=0",
        "is no rule of repetition (RRULE): its INTERVAL is none",
    ),
    ("R-9,x,2027-03-17,21:30,30 minutes,FREQ=MINUTELY", "repeats more often than each hour"),
    ('R-9,x,2027-03-17,21:30,30 minutes,"FREQ=DAILY;BYMINUTE=1,2"', "repeats more often than each hour"),
]


@pytest.fixture
def rows(desk: Desk) -> Desk:
    return desk.settings(
        SETTINGS, REQUESTS, '[places.post]\nkind = "outbox"\nfolder = "post"\nfrom = "desk@example.org"\n'
    )


def reasons(desk: Desk) -> dict[str, str]:
    return {each["subject"]: each["reason"] for each in desk.run("run", "--json").json["runs"]}


@pytest.mark.parametrize(("row", "said"), USELESS, ids=lambda value: value[:40])
def test_row_with_a_moment_or_rule_that_no_calendar_can_hold_fails_alone(rows: Desk, row: str, said: str) -> None:
    rows.workflow(WORKFLOW).rows(GOOD[0], row, GOOD[1], head=HEAD)
    assert rows.run("rehearse").code == 1
    told = reasons(rows)
    assert said in told["R-9"]
    assert (told["R-1"], told["R-2"], len(rows.events())) == ("", "", 2)


@pytest.mark.parametrize("moment", ["Day + 500000 weeks", "Day - 400000 weeks", "(Day at From) + 99999999 hours"])
def test_reckoning_that_leaves_the_calendar_fails_its_row(rows: Desk, moment: str) -> None:
    rows.workflow(f"when requests gains a row\n\nlet far = {moment}\n\nadd row to log\n  What  far\n")
    rows.rows(*GOOD, head=HEAD)
    told = rows.run("run", "--json")
    assert told.code == 1
    assert all("lies outside the years 1900 to 9998" in each["reason"] for each in told.json["runs"])


WRONG_ADDRESSES = [
    "john..smith@example.org",
    "john.@example.org",
    ".john@example.org",
    "a@example..org",
    "a[b]@example.org",
    "ä@example.org",
    "a@example.org?subject=x",
    "a@-example.org",
    f"{'a' * 65}@example.org",
]


@pytest.mark.parametrize("address", WRONG_ADDRESSES)
def test_typo_in_an_address_fails_its_row_with_the_cell_and_the_others_are_sent(rows: Desk, address: str) -> None:
    rows.workflow('when requests gains a row\n\nsend email to To in post\n  subject  "x"\n  text     "y"\n')
    rows.rows("R-1,a@example.org", f"R-9,{address}", "R-2,b@example.org", head="No,To\n")
    told = reasons(rows)
    assert told["R-9"] == f'requests.csv, B3: "{address}" is not an email address'
    assert (told["R-1"], told["R-2"], len(list((rows.folder / "post").iterdir()))) == ("", "", 2)


# --- what nobody foresaw


def unforeseen(monkeypatch: pytest.MonkeyPatch, target: str, of: str) -> None:
    """Makes a function fail, in a way that it does not know, for whatever is called so."""
    import importlib

    module, _, name = target.rpartition(".")
    holder = importlib.import_module(module)
    real = getattr(holder, name)

    def broken(*args: object, **more: object) -> object:
        if of in repr(args):
            raise ZeroDivisionError("nobody thought of this")
        return real(*args, **more)

    monkeypatch.setattr(holder, name, broken)


BREAKS = ["whenvoca.steps.event_fields.to_title", "whenvoca.places.calendar.folder.write_calendar"]


@pytest.mark.parametrize("target", BREAKS, ids=["in a step", "in a place"])
def test_unforeseen_error_is_the_failure_of_its_run_and_names_the_report(
    rows: Desk, monkeypatch: pytest.MonkeyPatch, target: str
) -> None:
    rows.workflow(WORKFLOW).rows(GOOD[0], "R-9,odd,2027-03-19,21:30,30 minutes,", GOOD[1], head=HEAD)
    if "to_title" in target:
        monkeypatch.setattr(
            "whenvoca.steps.event_fields.to_title",
            lambda call: 1 // 0 if call.text("title") == "odd" else call.text("title"),
        )
    else:
        unforeseen(monkeypatch, target, "odd")
    done = rows.run("run", "--json")
    told = {each["subject"]: each["reason"] for each in done.json["runs"]}
    assert done.code == 1
    assert "something unforeseen happened" in told["R-9"]
    report = Path(told["R-9"].rpartition("the report is in ")[2])
    assert "ZeroDivisionError" in report.read_text(encoding="utf-8")
    report.unlink()
    assert (told["R-1"], told["R-2"], len(rows.events())) == ("", "", 2)
    monkeypatch.undo()
    assert rows.run("retry", "--failed").code == 0
    assert len(rows.events()) == 3


def test_unforeseen_error_at_one_place_leaves_the_others(rows: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    rows.workflow(WORKFLOW).workflow("when domes gains an event\n\nadd row to log\n  What  event.title\n", "other")
    rows.rows(*GOOD, head=HEAD)
    monkeypatch.setattr("whenvoca.engine.seeing.sources.observe_calendar", lambda *_: 1 // 0)
    done = rows.run("run", "--json")
    assert done.code == 3
    assert "domes: something unforeseen happened" in done.json["troubles"][0]
    assert len(rows.events()) == 2


# --- options at the edges

EDGES = [
    ("agenda", "--from", "9999-12-31"),
    ("agenda", "--from", "0001-01-01"),
    ("agenda", "--now", "9999-12-31 23:59"),
    ("say", "what is on friday", "--now", "0001-01-01"),
    ("run", "--now", "9999-12-31"),
    ("runs", "--limit", "9" * 20),
    ("runs", "--limit", "0"),
    ("explain", "9" * 20),
    ("undo", "9" * 20),
    ("retry", "9" * 20),
]


@pytest.mark.parametrize("command", EDGES, ids=" ".join)
def test_options_beyond_any_use_are_refused_in_words(rows: Desk, command: tuple[str, ...]) -> None:
    rows.workflow(WORKFLOW).rows(*GOOD, head=HEAD)
    told = rows.run(*command)
    assert told.code == 2
    assert "unforeseen" not in told.err


def test_a_form_that_is_set_wrongly_is_told_and_stops_nothing_else(rows: Desk) -> None:
    rows.settings(SETTINGS, REQUESTS, '[places.door]\nkind = "form"\n').workflow(WORKFLOW).rows(*GOOD, head=HEAD)
    told = rows.run("check")
    assert "door: a form has a path" in f"{told}"
    assert rows.run("run").code == 0


def test_task_is_told_with_its_start_and_its_due(rows: Desk) -> None:
    rows.settings(SETTINGS, REQUESTS, '[places.chores]\nkind = "tasks"\nfolder = "chores"\n')
    rows.workflow(
        "when requests gains a row\n\ncreate task in chores\n  title  Title\n  start  Day\n  due    Day + 2 days\n"
    )
    rows.rows(GOOD[0], head=HEAD)
    assert "from 17 Mar 2027, due 19 Mar 2027" in rows.run("rehearse").out
    assert '"M 42" from 17 Mar 2027, due 19 Mar 2027' in " ".join(rows.run("run").out.split())


def test_words_takes_the_options_that_all_commands_have(rows: Desk) -> None:
    assert rows.run("words", "mirror", "event", "--now", "2027-03-17", "--quiet").code == 0


SETTINGS_SLIPS = [
    ('week.starts = "monday[[a]]"\n', "7", 'week.starts = "monday[[a]]" is no day of the week'),
    ("[foo]\nx = 1\n", "7", 'there is no table "foo"'),
    ("[foo.sub]\nx = 1\n", "7", 'there is no table "foo"'),
    ("[[foo]]\nx = 1\n", "7", 'there is no table "foo"'),
    ('[people.ana]\nmail = "ana@example..org"\n', "8", '"ana@example..org" is not an email address'),
]


@pytest.mark.parametrize(("text", "line", "said"), SETTINGS_SLIPS, ids=lambda value: value.split("\n")[0])
def test_slip_in_the_settings_is_told_with_its_line(desk: Desk, text: str, line: str, said: str) -> None:
    head = SETTINGS.split("[people.ines]")[0]
    desk.settings(head, text)
    told = desk.run("check")
    assert told.code == 2
    assert f"whenvoca.toml:{line}: {said}" in told.err


# --- what is no file


ODD = {
    "a pipe": os.mkfifo,
    "a link to itself": lambda path: os.symlink(path, path),
    "a device": lambda path: os.symlink("/dev/zero", path),
    "a folder": os.mkdir,
}


@pytest.mark.parametrize("odd", ODD)
@pytest.mark.parametrize("name", ["requests.csv", "domes/x.ics", "workflows/other.voca"])
def test_what_is_no_file_is_told_and_never_waited_for(rows: Desk, odd: str, name: str) -> None:
    rows.workflow("when domes gains an event\n\nadd row to log\n  What  event.title\n", "starts")
    rows.workflow(WORKFLOW).rows(*GOOD, head=HEAD)
    path = rows.folder / name
    path.parent.mkdir(exist_ok=True)
    path.unlink(missing_ok=True)
    ODD[odd](path)
    for command in (("check",), ("run",), ("agenda",), ("places",), ("read", "sheet", "requests")):
        told = rows.drive(*command)
        assert told.code != 70, told.err
    told = rows.drive("run")
    assert told.code != 0
    assert Path(name).name in told.out + told.err or "/dev/zero" in told.err


# --- an end that is given and empty


@pytest.mark.parametrize(
    ("field", "told"), [("end     Day at To", "the end is empty"), ("length  Long", "the length is empty")]
)
def test_empty_end_is_no_hour_and_a_mirror_leaves_its_event_alone(desk: Desk, field: str, told: str) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(
        "when requests gains, changes or loses a row\n\nmirror event in domes\n  title   Title\n  start   Day at "
        f"From\n  {field}\n"
    )
    head = "No,Title,Day,From,To,Long\n"
    desk.rows("R-1,M 42,2027-03-17,21:30,23:00,90 minutes", "R-2,M 13,2027-03-18,21:30,,", head=head)
    assert told in reasons(desk)["R-2"]
    (made,) = desk.events()
    before = made.read_bytes()
    desk.rows("R-1,M 43,2027-03-17,21:30,,", "R-2,M 13,2027-03-18,21:30,,", head=head)
    assert told in reasons(desk)["R-1"]
    assert made.read_bytes() == before


OTHER_ENDS = [
    ("end     if To is filled then Day at To else (Day at From) + 1 hour", "23:00", "17T230000"),
    ("end     Day at To or 1 hour", "23:00", "17T230000"),
    ("end     Day at To or (Day at From) + 1 hour", "01:00", "18T010000"),
    ("length  Long or 1 hour", "", "17T225000"),
]


@pytest.mark.parametrize(("end", "to", "shown"), OTHER_ENDS)
def test_another_end_may_be_said_for_rows_without_one(desk: Desk, end: str, to: str, shown: str) -> None:
    workflow = f"when requests gains a row\n\ncreate event in domes\n  title   Title\n  start   Day at From\n  {end}\n"
    desk.settings(SETTINGS, REQUESTS).workflow(workflow)
    desk.rows(
        f"R-1,M 42,2027-03-17,21:30,{to},80 minutes", "R-2,M 13,2027-03-18,21:30,,", head="No,Title,Day,From,To,Long\n"
    )
    checked = desk.run("check")
    assert (checked.code, "will fail" in checked.err) == (0, False)
    assert desk.run("run").code == 0
    ends = {line for path in desk.events() for line in path.read_text().splitlines() if line.startswith("DTEND")}
    assert ends == {f"DTEND;TZID=Atlantic/Azores:202703{day}" for day in (shown, "18T223000")}


def test_check_counts_the_rows_that_leave_their_end_empty(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(
        "when requests gains a row\n  where  Title is filled\n\ncreate event in domes\n  title  Title\n"
        "  start  Day at From\n  end    Day at To\n"
    )
    rows = [f"R-{n},M {n},2027-03-17,21:30," for n in range(1, 8)]
    whole = "R-8,M 8,2027-03-17,,"  # without a start it is another fault, or a whole day
    desk.rows(*rows, whole, "R-10,,2027-03-17,21:30,", "R-9,M 9,2027-03-17,21:30,23:00", head="No,Title,Day,From,To\n")
    checked = desk.run("check", "--json").json
    assert checked["warnings"] == [
        "slots: 7 rows have no end and will fail: R-1, R-2, R-3, R-4, R-5 and 2 more; fill it, or give a default in "
        "line "
        "7: … or 1 hour"
    ]


# --- an installation without an extra

EXTRAS = [
    ('kind = "calendar"\nserver = "https://dav.example.org/"\n', "httpx", "server"),
    ('kind = "tasks"\nserver = "https://dav.example.org/"\n', "httpx", "server"),
    ('kind = "chat"\nserver = "xmpp.example.org"\nuser = "desk@example.org"\n', "slixmpp", "chat"),
]


@pytest.mark.parametrize(("place", "package", "extra"), EXTRAS, ids=lambda value: value.split("\n")[0])
def test_place_without_its_extra_is_told_with_the_command_that_installs_it(
    rows: Desk, monkeypatch: pytest.MonkeyPatch, place: str, package: str, extra: str
) -> None:
    monkeypatch.setattr("whenvoca.places.place_kind.find_spec", lambda name: None if name == package else name)
    trigger = {"chat": "away hears a message", "tasks": "away finishes a task"}.get(
        place.split('"')[1], "away gains an event"
    )
    rows.settings(SETTINGS, REQUESTS, f"[places.away]\n{place}").rows(*GOOD, head=HEAD)
    rows.workflow(f'when {trigger}\n\nadd row to log\n  What  "x"\n')
    for command in (("check",), ("places",), ("run",), ("rehearse",)):
        told = rows.run(*command)
        said = " ".join((told.out + told.err).split())
        assert told.code != 70, command
        assert f"pip install 'whenvoca[{extra}]'" in said, (command, said)
        assert "away" in said


def test_unforeseen_error_of_one_workflow_leaves_check_of_the_others(
    rows: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    rows.workflow(WORKFLOW).workflow('when requests gains a row\n\nadd row to log\n  What  "x"\n', "other")
    rows.rows(*GOOD, head=HEAD)
    real = previewing.open_program

    def broken(workflow: Any, stage: Any) -> Any:
        if workflow.name == "other":
            raise ZeroDivisionError("nobody thought of this")
        return real(workflow, stage)

    monkeypatch.setattr(previewing, "open_program", broken)
    told = rows.run("check")
    assert (told.code, "slots: would run for R-1, R-2" in told.out) == (0, True)
    assert "other: something unforeseen happened (nobody thought of this)" in told.err


# --- a folder on the network whose server is away


def test_folder_that_does_not_answer_is_told_after_a_limit(rows: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    """No such folder can be had here: asking for one waits instead. Commands that do not need it work on."""
    real, over = os.stat, threading.Event()

    def stat(path: Any, *args: Any, **more: Any) -> os.stat_result:
        if str(path).endswith("away"):
            over.wait(20)
        return real(path, *args, **more)

    away = '[places.away]\nkind = "calendar"\nfolder = "away"\n'
    rows.settings(SETTINGS, REQUESTS, away).rows(*GOOD, head=HEAD)
    rows.workflow(WORKFLOW).workflow('when away gains an event\n\nadd row to log\n  What  "x"\n', "other")
    monkeypatch.setattr(files, "ANSWERS_WITHIN", 0.2)
    monkeypatch.setattr(os, "stat", stat)
    said = "the folder does not answer within 0.2 seconds"
    try:
        for command in (("check",), ("run",), ("agenda",), ("places",)):
            told = rows.run(*command)
            assert said in told.out + told.err, command
            assert told.code in ((0,) if command == ("places",) else (1, 3)), command
        assert rows.run("run", "slots").code == 0
        assert len(rows.events()) == 2
    finally:
        over.set()
