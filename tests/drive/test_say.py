"""Requests in words through the installed command: what is done, answered, remembered and taken back."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SETTINGS, Desk
from whenvoca.engine.acting.workspace_stage import WorkspaceStage

PLACES = """
[people.rui]
mail = "rui@example.org"
zone = "Europe/Lisbon"
[places.domes]
kind = "calendar"
folder = "domes"
[places.holidays]
kind = "calendar"
folder = "holidays"
readonly = true
[places.chat]
kind = "chat"
folder = "chat"
rooms = ["front-desk"]
"""
NOW = "2027-03-17 10:00"  # a Wednesday
HOLIDAY = (
    "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkmoor//EN\r\nBEGIN:VEVENT\r\nUID:h1\r\nDTSTAMP:20270101T000000Z\r\n"
    "DTSTART;VALUE=DATE:20270326\r\nDTEND;VALUE=DATE:20270327\r\nSUMMARY:Good Friday\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
)


@pytest.fixture
def desk(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> Desk:
    """A workspace with one calendar that may be written and one that is only read."""
    made = Desk(tmp_path, capsys).settings(SETTINGS, PLACES)
    made.write("holidays/h1.ics", HOLIDAY)
    return made


def talk(desk: Desk, *turns: tuple[str, int, str], now: str = NOW, more: tuple[str, ...] = ()) -> None:
    """Says one text after another: each with the status and a piece of the answer it must have."""
    for text, code, piece in turns:
        done = desk.run("say", text, "--now", now, *more)
        if code != 4 and done.code == 4 and done.out.startswith("Which is meant?"):  # the first one offered is
            done = desk.run("say", "yes", "--now", now, *more)
        assert (done.code, piece in done.out) == (code, True), f"{text}: {done.code} {done.out}{done.err}"


def titles(desk: Desk) -> list[str]:
    """What the calendar holds, with times."""
    told = desk.run("agenda", "domes", "--json", "--from", "2027-03-01", "--until", "2027-06-01", "--now", NOW)
    return [f"{each['title']} {each['start'][5:16]}" for each in told.json["events"]]


def test_a_conversation(desk: Desk) -> None:
    """Made, moved, corrected, undone step by step; then nothing is left and the calendar is as it was."""
    talk(
        desk,
        ("mirror wash thu 10:40", 0, "Made: Thu 18 Mar 10:40–11:40 mirror wash"),
        ("push it back by 30 min", 0, "start Thu 18 Mar 11:10"),
        ("no, 4pm", 0, "start Thu 18 Mar 16:00"),
        ("what's on tomorrow?", 0, "Thu 18 Mar 16:00–17:00 mirror wash"),
    )
    assert titles(desk) == ["mirror wash 03-18T16:00"]
    talk(desk, ("undo that", 0, "Taken back"), ("undo that", 0, "Taken back"), ("undo that", 0, "Taken back"))
    assert titles(desk) == []
    talk(desk, ("undo that", 0, "nothing of yours"))


def test_several_deletions_need_a_yes(desk: Desk) -> None:
    """A no leaves them, a yes takes them, and undo brings all of them back."""
    talk(desk, ("wash fri 10:00", 0, "Made"), ("lens test fri 14:00", 0, "Made"))
    before = titles(desk)
    talk(
        desk,
        ("delete everything on friday", 4, "Shall I?"),
        ("no", 0, "nothing is changed"),
        ("yes", 0, "not a request"),
    )
    assert titles(desk) == before
    talk(desk, ("delete everything on friday", 4, "Shall I?"), ("yes", 0, "Deleted"))
    assert titles(desk) == []
    talk(desk, ("undo that", 0, "2 events"))
    assert titles(desk) == before


def test_which_one_is_asked_and_answered(desk: Desk) -> None:
    """Two events fit: a number, a word or a time chooses."""
    talk(desk, ("council call fri 10:00", 0, "Made"), ("council dinner thu 19:00", 0, "Made"))
    talk(
        desk,
        ("cancel the council", 4, "1. Thu 18 Mar 19:00–20:00 council dinner"),
        ("the second one", 0, "council call"),
    )
    assert titles(desk) == ["council dinner 03-18T19:00"]


def test_what_is_missing_is_asked_for(desk: Desk) -> None:
    """A question keeps what was said before; after half an hour it is forgotten."""
    talk(desk, ("add lens test tomorrow", 4, "At what time"), ("3pm", 0, "Thu 18 Mar 15:00–16:00 lens test"))
    talk(desk, ("add dome check tomorrow", 4, "At what time"))
    talk(desk, ("3pm", 4, "Which is meant?"), now="2027-03-17 10:31")
    assert titles(desk) == ["lens test 03-18T15:00"]


@pytest.mark.parametrize(
    "text",
    [
        "lens test 31 april 10:00",
        "meeting fri 20 march 10:00",
        "add call 03/04 at noon",
        "lens test yesterday 10:00",
        "add lens test 28 march 00:30",
    ],
)
def test_doubts_are_asked_about(desk: Desk, text: str) -> None:
    """A day that is none, a weekday that contradicts, two readings, the past, an hour that the clocks skip."""
    done = desk.run("say", text, "--now", NOW)
    assert (done.code, done.out.strip().endswith("?")) == (4, True), done.out
    assert titles(desk) == []


def test_zone_of_who_asks(desk: Desk) -> None:
    """Ten o'clock is ten where the person is."""
    talk(desk, ("council call fri 10:00", 0, "Fri 19 Mar 10:00"), more=("--as", "rui"))
    assert titles(desk) == ["council call 03-19T09:00"]


def test_conversations_are_apart(desk: Desk) -> None:
    """What one person made is not "it" for another, nor theirs to undo."""
    talk(desk, ("council call fri 10:00", 0, "Made"), more=("--as", "rui"))
    talk(desk, ("undo that", 0, "nothing of yours"), ("delete it", 4, "?"), more=("--as", "ines"))
    assert titles(desk) == ["council call 03-19T09:00"]


def test_read_only_calendars_are_only_read(desk: Desk) -> None:
    """Asked about, never written."""
    path = desk.folder / "holidays/h1.ics"
    talk(desk, ("what's on 26 march?", 0, "Good Friday"), ("delete good friday", 1, "only read"))
    assert path.read_bytes() == HOLIDAY.encode()


def test_the_calendar_is_asked_for(desk: Desk) -> None:
    """Where several may be written the answer is a name; where none may be, that is said."""
    desk.settings(SETTINGS, PLACES, '[places.outreach]\nkind = "calendar"\nfolder = "outreach"\n')
    talk(desk, ("mirror wash thu 10:40", 4, "In which calendar: domes or outreach?"))
    talk(
        desk, ("in the Outreach calendar, please", 0, "Made: Thu 18 Mar 10:40"), ("push it back by 30 min", 0, "11:10")
    )
    assert (titles(desk), len(list((desk.folder / "outreach").glob("*.ics")))) == ([], 1)
    talk(
        desk,
        ("undo that", 0, "Taken back"),
        ("undo that", 0, "Taken back"),
        ("outreach", 0, "not a request I understand"),
    )
    assert not list((desk.folder / "outreach").glob("*.ics"))
    desk.settings(SETTINGS, PLACES.replace('folder = "domes"', 'folder = "domes"\nreadonly = true'))
    talk(desk, ("mirror wash thu 10:40", 1, "no calendar here that may be written"))


def test_json_and_rooms(desk: Desk) -> None:
    """JSON tells the reading, the answer and the effects; a room of the stand-in holds both sides."""
    done = desk.run("say", "mirror wash thu 10:40", "--to", "front-desk", "--as", "ines", "--json", "--now", NOW)
    told = done.json
    assert (told["intent"], told["events"][0]["start"], told["done"][0]["verb"]) == (
        "create",
        "2027-03-18T10:40:00-01:00",
        "create event",
    )
    lines = [json.loads(line) for line in desk.read("chat/rooms/front-desk.jsonl").splitlines()]
    assert [line["from"] for line in lines] == ["ines", "desk"]
    assert lines[1]["text"] == told["reply"]
    assert told["reply"] in desk.run("say", "--to", "front-desk").out
    for nothing in ([], [""], ["--leave"], ["--leave", "--to", "front-desk", "--as", "ines"], [" ", "--as", "ines"]):
        asked = desk.run("say", *nothing)
        assert (asked.code, "say what is to be said" in asked.err) == (2, True), nothing
    assert 'asked: "mirror wash thu 10:40"' in desk.run("explain", str(told["run"])).out
    assert desk.run("retry", str(told["run"])).code == 2
    assert desk.run("undo", str(told["run"]), "--yes", "--now", NOW).code == 0
    assert titles(desk) == []


@pytest.mark.parametrize(
    ("more", "piece"), [(("--as", "ruy"), "rui"), (("--in", "dome"), "domes"), (("--to", "kitchen"), "front-desk")]
)
def test_wrong_names(desk: Desk, more: tuple[str, str], piece: str) -> None:
    """A name that is none is answered with those that are, and nothing is done."""
    done = desk.run("say", "mirror wash thu 10:40", *more)
    assert (done.code, piece in done.err) == (2, True), done.err
    assert titles(desk) == []


@pytest.mark.parametrize(
    "text", ["{0.__class__}", "delete ../../etc friday", "$(touch x)", "%s %n", "add \x1b[31m thu 10:00", "' OR 1=1 --"]
)
def test_texts_are_data(desk: Desk, text: str) -> None:
    """Whatever a text holds, nothing but an event comes of it."""
    before = {path for path in desk.folder.rglob("*") if ".whenvoca" not in path.parts}
    done = desk.run("say", text, "--now", NOW)
    after = {path for path in desk.folder.rglob("*") if ".whenvoca" not in path.parts}
    assert done.code in (0, 4)
    assert all(path.suffix == ".ics" or path.is_dir() for path in after - before)


def test_read_text(desk: Desk) -> None:
    """The reading is shown and nothing is done; with - one request a line, one JSON object a line."""
    done = desk.run("read", "text", "mirror wash thu 10:40", "--now", NOW)
    assert (done.code, "understood as: create" in done.out, titles(desk)) == (0, True, [])
    assert "whenvoca say" not in desk.run("read", "text", "hello there").err
    assert desk.run("read", "text", " ").code == 2
    lines = desk.drive(
        "read", "text", "-", "--json", "--now", NOW, input="anything tonight?\nwash thu 10:40\n\n"
    ).out.splitlines()
    assert [json.loads(line)["intent"] for line in lines] == ["query", "create"]


def test_read_text_without_a_workspace(tmp_path: Path, desk: Desk) -> None:
    """Elsewhere there is only the text."""
    (desk.folder / "whenvoca.toml").unlink()
    done = desk.drive(
        "read", "text", "wash thu 10:40", "--json", "--now", "2027-03-17 10:00", "--zone", "Europe/Lisbon"
    )
    assert json.loads(done.out)["events"][0]["start"] == "2027-03-18T10:40:00+00:00", done.err


def test_a_moved_leave_keeps_its_days(desk: Desk) -> None:
    """Whole days stay as many as they were."""
    talk(
        desk,
        ("ines on leave 25 to 26 march", 0, "Made"),
        ("move ines on leave to 6 april", 0, "first day Tue 6 Apr, last day Wed 7 Apr"),
    )


def test_private_events_stay_out_of_rooms(desk: Desk) -> None:
    """A room is told when, never what; alone, a person is told both."""
    private = HOLIDAY.replace("SUMMARY:Good Friday", "SUMMARY:Interview\r\nLOCATION:Harbour\r\nCLASS:PRIVATE")
    desk.write("holidays/h1.ics", private)
    talk(desk, ("what's on 26 march?", 0, "Interview"))
    room = desk.run("say", "what's on 26 march?", "--to", "front-desk", "--json", "--now", NOW).out
    talk(desk, ("what's on 26 march?", 0, "Fri 26 Mar private"), more=("--to", "front-desk"))
    told = room + desk.read("chat/rooms/front-desk.jsonl")
    assert "Interview" not in told
    assert "Harbour" not in told


@pytest.mark.parametrize("is_written", [True, False])
def test_a_request_cut_short_is_settled(desk: Desk, monkeypatch: pytest.MonkeyPatch, *, is_written: bool) -> None:
    """Stopped behind or before the write: the next request notes what stands, and undo takes it back."""
    really = WorkspaceStage.apply

    def stop(stage: WorkspaceStage, *given: Any) -> Any:
        if is_written:
            really(stage, *given)
        raise KeyboardInterrupt

    with monkeypatch.context() as patched:
        patched.setattr(WorkspaceStage, "apply", stop)
        assert desk.run("say", "mirror wash thu 10:40", "--now", NOW).code == 130
    talk(desk, ("anything tonight?", 0, "Nothing"))
    (run,) = desk.run("runs", "--json").json["runs"]
    assert (run["outcome"], len(run["effects"])) == ("failed", int(is_written))
    assert titles(desk) == ["mirror wash 03-18T10:40"] * is_written
    desk.run("undo", str(run["run"]), "--yes", "--now", NOW)
    assert titles(desk) == []


def test_series_from_one_occurrence_on_and_as_a_whole(desk: Desk) -> None:
    """What is asked for of this and later ones leaves the earlier ones; of the whole series it moves all by as much."""
    talk(
        desk,
        ("mirror wash every thursday 10:40", 0, "Made"),
        ("from 1 april on mirror wash at 12:00", 0, "and all after it"),
        ("cancel the mirror wash on 15 april and all after it", 0, "Deleted: Thu 15 Apr"),
    )
    expected = [
        "mirror wash 03-18T10:40",
        "mirror wash 03-25T10:40",
        "mirror wash 04-01T12:00",
        "mirror wash 04-08T12:00",
    ]
    assert titles(desk) == expected
    talk(desk, ("undo that", 0, "Taken back"), ("undo that", 0, "Taken back"))
    assert titles(desk)[:4] == [f"mirror wash {day}T10:40" for day in ("03-18", "03-25", "04-01", "04-08")]
    talk(
        desk,
        ("move all mirror washes to 11:00", 0, "the whole series"),
        ("rename the whole mirror wash series to wash", 0, "title wash"),
    )
    assert titles(desk)[:2] == ["wash 03-18T11:00", "wash 03-25T11:00"]
    talk(desk, ("delete all washes", 4, "Shall I?"), ("yes", 0, "Deleted"))
    assert titles(desk) == []


def test_a_question_of_a_change_is_answered(desk: Desk) -> None:
    """Which one, and when: the answer is read together with what was asked for."""
    talk(
        desk,
        ("council call fri 10", 0, "Made"),
        ("council dinner thu 19:00", 0, "Made"),
        ("move the council to 11", 4, "Which one"),
    )
    talk(
        desk, ("the second one", 0, "start Fri 19 Mar 11:00"), ("move the dinner to friday morning", 4, "At what time?")
    )
    talk(
        desk,
        ("at 9", 0, "start Fri 19 Mar 09:00"),
        ("move the council to 3", 4, "1. "),
        ("both", 4, "One after the other"),
    )
    talk(desk, ("the call", 0, "15:00"), ('rename the council call to "Council"', 0, "title Council"))
    assert titles(desk) == ["council dinner 03-19T09:00", "Council 03-19T15:00"]


def test_other_years_are_told_and_details_in_full(desk: Desk) -> None:
    """A day of another year has its year; details say what a line does not."""
    talk(
        desk,
        (
            "add tour 29 feb 10:00 in the hall with ines, remind me 30 min before",
            0,
            "Made: Tue 29 Feb 2028 10:00–11:00 tour in hall with ines",
        ),
        (
            "details of the tour",
            0,
            "  place: hall\n  people: ines@example.org\n  reminder: 30 minutes before\n  calendar: domes",
        ),
    )


def test_length_of_a_whole_day_is_in_days(desk: Desk) -> None:
    """A time beside a day would be no valid calendar."""
    talk(
        desk,
        ("camp on 18 march all day", 0, "camp"),
        ("It takes two days.", 0, "last day Fri 19 Mar"),
        ("make the camp three days long", 0, "last day Sat 20 Mar"),
        ("extend the camp by a day", 0, "last day Sun 21 Mar"),
        ("It takes 3 hours.", 4, "the whole day now. From when to when?"),
        ("the camp ends at 5pm", 4, "the whole day now"),
        ("move it to 10:00-12:00", 0, "start Thu 18 Mar 10:00, end Thu 18 Mar 12:00"),
    )
    assert desk.run("agenda", "--from", "2027-03-15").code == 0


def test_pieces_and_references_of_a_conversation(desk: Desk) -> None:
    """A piece more for what was made, the last one I made, the first of those listed, a corrected day, a past that is
    meant."""
    talk(
        desk,
        ("tour fri 10:00", 0, "Made"),
        ("in the hall", 0, "location hall"),
        ("with tomas", 0, "attendees tomas"),
        ("for two hours", 0, "end Fri 19 Mar 12:00"),
        ("move the last one I made to monday", 0, "start Mon 22 Mar 10:00"),
        ("talk mon 15:00", 0, "Made"),
        ("what's on monday?", 0, "Mon 22 Mar 15:00–16:00 talk"),
        ("move the first one to 11", 0, "10:00–12:00 tour → start Mon 22 Mar 11:00"),
        ("dinner on 31 april at 8", 4, "April has 30 days"),
        ("undo that", 0, "Nothing was done yet"),
        ("dinner on 31 april at 8", 4, "April has 30 days"),
        ("30 april", 0, "Made: Fri 30 Apr 08:00–09:00 dinner"),
        ("add lunch yesterday at 12", 4, "is past"),
        ("yes", 0, "Made: Tue 16 Mar 12:00–13:00 lunch"),
        ("picnic sunday at 1?", 4, "make Sun 21 Mar 13:00–14:00 picnic"),
        ("yes please", 0, "Made: Sun 21 Mar 13:00"),
    )
    assert titles(desk) == [
        "lunch 03-16T12:00",
        "picnic 03-21T13:00",
        "tour 03-22T11:00",
        "talk 03-22T15:00",
        "dinner 04-30T08:00",
    ]


def test_people_whom_the_calendar_names(desk: Desk) -> None:
    """An attendee's name stands for their address, the first name too where only one has it."""
    known = HOLIDAY.replace(
        "SUMMARY:Good Friday", 'SUMMARY:Good Friday\r\nATTENDEE;CN="Carla Reis":mailto:carla@example.com'
    ).replace("h1", "h2")
    desk.write("domes/h2.ics", known)
    talk(
        desk, ("talk mon 15:00 with carla", 0, "with carla@example.com"), ("anything with carla on monday?", 0, "15:00")
    )


def test_a_series_moved_to_another_day_turns_with_what_was_taken_out_of_it(desk: Desk) -> None:
    """Its weekdays turn, an occurrence that was taken out stays out, and days that cannot be turned are refused."""
    talk(
        desk,
        ("mirror wash every tuesday and thursday 10:40, 6 times", 0, "every tuesday and thursday, 6 times"),
        ("cancel the mirror wash on the 25th", 0, "Deleted"),
        ("move the whole mirror wash series a day later", 0, "the whole series"),
    )
    assert titles(desk) == [f"mirror wash {day}T10:40" for day in ("03-19", "03-24", "03-31", "04-02", "04-07")]
    talk(
        desk,
        ("board on the first monday of every month at 18:00", 0, "every month on the first monday"),
        ("move the whole board series to tuesday", 1, "cannot be moved to another day"),
        ("from 6 april on mirror wash on saturday", 0, "and all after it"),
    )
    assert [each for each in titles(desk) if "wash" in each][-1].endswith("T10:40")


@pytest.mark.parametrize(
    ("text", "start"),
    [
        ("Budget call Friday 4pm UTC", "DTSTART:20270319T160000Z"),
        ("Budget call on Friday at 3pm New York time", "DTSTART;TZID=America/New_York:20270319T150000"),
        ("Budget call every Monday 9am New York time", "DTSTART;TZID=America/New_York:20270322T090000"),
    ],
)
def test_a_time_in_another_zone(desk: Desk, text: str, start: str) -> None:
    talk(desk, (text, 0, "Budget call"))
    made = [each.read_text(encoding="utf-8") for each in (desk.folder / "domes").glob("*.ics")]
    assert len(made) == 1
    assert start in made[0]


def test_a_zone_that_may_be_several_is_asked_about(desk: Desk) -> None:
    talk(desk, ("Budget call Friday 3pm IST", 4, "IST is the time of India"))
    assert not list((desk.folder / "domes").glob("*.ics"))
    talk(desk, ("Delhi", 0, "Made: Fri 19 Mar 08:30–09:30 Budget call"))


def test_two_zones_in_one_text_are_never_acted_on_unasked(desk: Desk) -> None:
    done = desk.run("say", "Sync Friday 3pm London time / 4pm Berlin time", "--now", NOW)
    assert done.code == 4
    assert not list((desk.folder / "domes").glob("*.ics"))


@pytest.mark.parametrize("text", ["cancel budget call", "cancel budget call on friday", "move budget call to 7pm"])
def test_which_of_two_that_are_called_the_same_is_asked(desk: Desk, text: str) -> None:
    for hour in (15, 18):
        desk.write(
            f"domes/{hour}.ics",
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkmoor//EN\r\nBEGIN:VEVENT\r\n"
            f"UID:b{hour}\r\nDTSTAMP:20270101T000000Z\r\nDTSTART:20270319T{hour}0000Z\r\nDTEND:20270319T{hour}3000Z\r\n"
            "SUMMARY:Budget call\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
        )
    done = desk.run("say", text, "--now", NOW)
    assert done.code == 4, done.out
    assert "Fri 19 Mar 14:00" in done.out
    assert "Fri 19 Mar 17:00" in done.out
