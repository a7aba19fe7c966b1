"""What makes a specialist trust it: rehearse, explain, undo, retry, the brake, and choosing rows."""

from __future__ import annotations

import csv
import io
import os
import stat
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import HEAD, REQUESTS, SETTINGS, WORKFLOW, Desk

R1, R2, R3 = (f",,R-{n},M {n},1{n}.03.2027,20:00,22:00" for n in (1, 2, 3))
BAD = ",,R-9,M 9,31.02.2027,20:00,22:00"
LOGGED = WORKFLOW.replace("change row\n  Booking", "add row to log\n  What  slot.title\n\nchange row\n  Booking")


def rows_of(desk: Desk, name: str = "requests.csv") -> list[dict[str, str]]:
    return list(csv.DictReader(desk.read(name).splitlines()))


def everything(desk: Desk) -> dict[str, tuple[bytes, int]]:
    """Every file, the ledger's too, with bytes and time."""
    return {
        str(path.relative_to(desk.folder)): (path.read_bytes(), path.stat().st_mtime_ns)
        for path in sorted(desk.folder.rglob("*"))
        if path.is_file()
    }


# --- rehearse


def test_rehearsing_writes_no_byte_anywhere_and_tells_what_a_run_then_does(slots: Desk) -> None:
    slots.workflow(LOGGED).rows(R1, R2, BAD)
    for _ in range(2):  # without a ledger, then with one
        before = everything(slots)
        rehearsed = slots.run("rehearse", "--json")
        assert everything(slots) == before
        assert rehearsed.code == 1
        told = [[effect["verb"] for effect in run["effects"]] for run in rehearsed.json["runs"]]
        done = slots.run("run", "--json")
        assert [[effect["verb"] for effect in run["effects"]] for run in done.json["runs"]] == told
        slots.rows(*[line.replace("M ", "N ") for line in slots.read().splitlines()[1:]], R3)


def test_a_later_step_sees_what_an_earlier_one_would_have_done(slots: Desk) -> None:
    slots.workflow(
        "when requests gains a row\ncreate event in domes as slot\n  title  Title\n  start  Day at From\n\n"
        'find event in domes as again\n  where  uid is slot.uid\n\nchange event again\n  location  "{again.title} '
        'hall"\n\n'
        "find events in domes as all-of-them\n  from   Day\n  until  Day + 1 day\nchange row\n  Answer  "
        "count(all-of-them)\n"
    ).rows(R1)
    run = slots.run("rehearse", "--json").json["runs"][0]
    assert [effect["verb"] for effect in run["effects"]] == ["create event", "change event", "change row"]
    assert run["effects"][1]["after"] == {"location": "M 1 hall"}
    assert run["effects"][2]["after"] == {"Answer": 1}
    assert slots.events() == []


def test_rehearsing_chosen_rows_and_samples(slots: Desk) -> None:
    slots.rows(R1, R2, R3)
    told = slots.run("rehearse", "--row", "2,4", "--json").json["runs"]
    assert [run["subject"] for run in told] == ["R-1", "R-3"]
    sample = slots.write("sample.csv", HEAD + ",,S-1,sample,01.04.2027,20:00,21:00\n")
    (run,) = slots.run("rehearse", "slots", "--sample", str(sample), "--json").json["runs"]
    assert (run["subject"], run["outcome"], len(run["effects"])) == ("S-1", "done", 2)
    assert slots.run("rehearse", "--row", "9").code == 2
    assert slots.run("rehearse", "--row", "x").code == 2


def test_rehearsing_names_what_would_be_set_off(slots: Desk) -> None:
    slots.workflow(
        'when requests gains a row\n  where  Answer is "granted"\nadd row to log\n  What  Title\n', "tell"
    ).rows(R1)
    assert slots.run("rehearse", "slots", "--json").json["sets_off"] == {"tell": 1}


# --- choosing rows


def test_only_the_chosen_row_runs_and_the_others_go_on_waiting(slots: Desk) -> None:
    slots.rows(R1, R2, R3)
    assert slots.run("run", "--row", "3").code == 0
    assert [row["Answer"] for row in rows_of(slots)] == ["", "granted", ""]
    again = slots.run("run", "--row", "3", "--json").json["runs"]
    assert [(run["outcome"], run["reason"]) for run in again] == [("not taken up", "its row left the set")]
    assert slots.run("run").code == 0
    assert [row["Answer"] for row in rows_of(slots)] == ["granted"] * 3
    assert len(slots.events()) == 3


# --- undo


def test_undo_brings_events_rows_and_cells_back_and_undo_of_it_brings_them_again(slots: Desk) -> None:
    slots.workflow(LOGGED).write("log.csv", "What\nfirst\n")
    slots.rows(R1, R2)
    before = slots.snapshot()
    slots.run("run")
    after = slots.snapshot()
    shown = slots.run("undo", "1", "2")
    assert shown.code == 4  # nobody there to say yes
    assert "nothing was done" in shown.err
    assert slots.snapshot() == after
    assert slots.run("undo", "1", "2", "--yes").code == 0
    assert slots.snapshot() == before
    assert "nothing new" in slots.run("run").err  # held until a person changes the row
    assert slots.run("undo", "3", "4", "--yes").code == 0
    again = slots.snapshot()
    assert sorted(row["Answer"] for row in rows_of(slots)) == ["granted", "granted"]
    assert {name for name in again if "domes" in name} == {name for name in after if "domes" in name}
    assert sorted(slots.read("log.csv").split()) == sorted(after["log.csv"].decode().split())


def test_an_undone_row_is_held_until_somebody_changes_it_or_chooses_it(slots: Desk) -> None:
    slots.rows(R1, R2)
    slots.run("run")
    slots.run("undo", "1", "2", "--yes")
    slots.rows(R1.replace("M 1", "M 7"), R2)
    assert [run["subject"] for run in slots.run("run", "--json").json["runs"]] == ["R-1"]
    assert slots.run("retry", "2").code == 0
    assert [row["Answer"] for row in rows_of(slots)] == ["granted", "granted"]
    assert len(slots.events()) == 2


def test_what_another_hand_changed_since_is_left_alone_and_named(slots: Desk) -> None:
    slots.rows(R1, R2)
    slots.run("run")
    first, second = sorted(slots.events(), key=lambda path: b"M 2" in path.read_bytes())
    first.write_bytes(first.read_bytes().replace(b"SUMMARY:M 1", b"SUMMARY:Mine"))
    text = slots.read().replace("granted", "thanks", 1)
    slots.write("requests.csv", text)
    result = slots.run("undo", "1", "2", "--yes")
    assert result.code == 1
    assert 'left alone: domes: "Mine" was changed since (title) and is left there' in result.err
    assert 'R-1, Answer was changed since, to "thanks"; it is left so' in result.err
    assert first.exists()
    assert not second.exists()
    assert [(row["Answer"], row["Booking"]) for row in rows_of(slots)] == [("thanks", ""), ("", "")]


def test_undo_takes_back_what_its_effects_set_off_first(slots: Desk) -> None:
    slots.workflow(
        'when requests gains a row\n  where  Answer is "granted"\nadd row to log\n  What  Title\n', "tell"
    ).rows(R1)
    slots.run("run")
    assert len(rows_of(slots, "log.csv")) == 1
    result = slots.run("undo", "1", "--yes", "--json")
    assert [run["workflow"] for run in result.json["runs"]] == ["tell", "slots"]
    assert rows_of(slots, "log.csv") == []
    assert slots.run("undo", "1", "--yes").code == 2  # taken back already


def test_undo_of_changed_and_deleted_events_brings_back_what_we_do_not_know_either(slots: Desk) -> None:
    slots.workflow(
        'when requests changes a row\n  fields  Title, To\nif Title is "gone"\n  delete event in domes\n    where  '
        "uid is row.Booking\n"
        "  stop\nchange event in domes\n  where  uid is row.Booking\n  title  Title\n  end    Day at To\n",
        "follow",
    ).rows(R1)
    slots.run("run")
    (path,) = slots.events()
    path.write_bytes(path.read_bytes().replace(b"END:VEVENT", b"X-UNKNOWN;P=1:kept\r\nCOMMENT:ours\r\nEND:VEVENT"))
    booked = slots.read()
    original = path.read_bytes()
    slots.write("requests.csv", booked.replace("M 1", "M 7").replace("22:00", "23:00"))
    assert slots.run("run", "follow").code == 0
    assert b"SUMMARY:M 7" in path.read_bytes()
    assert slots.run("undo", "2", "--yes").code == 0
    volatile = (b"DTSTAMP", b"SEQUENCE")
    kept = [line for line in original.split(b"\r\n") if not line.startswith(volatile)]
    assert sorted(line for line in path.read_bytes().split(b"\r\n") if not line.startswith(volatile)) == sorted(kept)
    slots.write("requests.csv", booked.replace("M 1", "gone"))
    assert slots.run("run", "follow").code == 0
    assert slots.events() == []
    number = slots.run("runs", "--json").json["runs"][0]["run"]
    assert slots.run("undo", str(number), "--yes").code == 0
    assert b"X-UNKNOWN;P=1:kept" in path.read_bytes()


@pytest.mark.parametrize(
    ("options", "taken"),
    [
        (("--from", "2027-03-13"), (2, 3)),
        (("--until", "2027-03-13"), (1,)),
        (("--from", "2027-03-13", "--until", "2027-03-14 12:00"), (2,)),
        ((), (1, 2, 3)),
    ],
)
def test_undo_of_a_workflow_goes_by_the_moment_of_its_runs(
    slots: Desk, options: tuple[str, ...], taken: tuple[int, ...]
) -> None:
    slots.rows()
    for day, row in ((12, R1), (13, R2), (14, R3)):
        slots.write("requests.csv", slots.read() + row + "\n")
        assert slots.run("run", "--now", f"2027-03-{day} 12:30").code == 0
    undone = slots.run("undo", "--workflow", "slots", *options, "--yes", "--json")
    assert undone.code == 0, undone
    assert sorted(each["undoes"] for each in undone.json["runs"]) == list(taken)


def test_undo_asks_for_what_it_can_do(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    assert slots.run("undo", "77", "--yes").code == 2
    assert slots.run("undo").code == 2
    unknown = slots.run("undo", "--workflow", "slotz", "--yes")
    assert (unknown.code, '"slotz" has not run' in unknown.err) == (2, True)
    assert "--workflow NAME" in slots.run("undo", "1", "--from", "2027-03-12").err
    backwards = slots.run("undo", "--workflow", "slots", "--from", "2027-03-12", "--until", "2027-03-11")
    assert (backwards.code, "does not come after" in backwards.err) == (2, True)


TOUGH = [
    "plain",
    "two\nlines",
    "win\r\nlines\r\n",
    "tab\tin it",
    " blanks around ",
    "no\u00a0break",
    "zero\u200bwidth",
    "a\\b;c,d:e",
    "\\n no line",
    "é ê ü 🔭 日本",
    "e\u0301 joined",
    "x" * 400,
    "line\u2028separator",
    "bell\x07and\x0bmore",
    '"quoted"',
    "BEGIN:VEVENT\nEND:VEVENT",
    "=1+1",
    "%41 &amp; <b>",
]
ALARMS = ["1 day", "24 hours", "36 hours", "2 weeks", "90 minutes", "1 day 2 hours", "45 min", "P1DT1H", "PT48H"]
TOUGH_WORKFLOW = """
when requests gains{more} a row
  where  {where}

{step}
  title      Title
  start      2027-03-01 at 20:00 + Length
  length     Length
  location   Title
  details    Title
  category   Title
  reminder   Length before, Length after
  attendees  Who
  priority   3
  colour     "DarkRed"

change row
  Booking  event.uid
"""


@pytest.mark.parametrize("calendar", ['folder = "domes"', 'file = "domes.ics"'])
@pytest.mark.parametrize("step", ["create event in domes as event", "mirror event in domes as event"])
def test_what_was_made_of_odd_values_is_known_as_ours_and_taken_back(desk: Desk, step: str, calendar: str) -> None:
    desk.settings(SETTINGS, REQUESTS.replace('folder = "domes"', calendar))
    more, where = (", changes or loses", "No is not empty") if "mirror" in step else ("", "Booking is empty")
    text = TOUGH_WORKFLOW.format(step=step, more=more, where=where)
    desk.workflow(text if "mirror" in step else text.replace("2027-03-01 at 20:00", "now"))
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(["Booking", "No", "Title", "Length", "Who"])
    for number, title in enumerate(TOUGH):
        who = ["", "Ines", "TOMAS@EXAMPLE.ORG; ines", "x@example.org,X@example.org"][number % 4]
        writer.writerow(["", f"R-{number}", title, ALARMS[number % len(ALARMS)], who])
    desk.write("requests.csv", text.getvalue())
    before = [row["Title"] for row in rows_of(desk)]
    first = desk.run("run")
    assert (first.code, f"{len(TOUGH)} rows done" in first.err) == (0, True), first.out + first.err
    assert desk.run("rehearse").err.startswith("nothing")
    if "mirror" in step:
        chosen = desk.run("rehearse", "--row", f"2-{1 + len(TOUGH)}", "--json")
        assert [each["effects"] for each in chosen.json["runs"]] == [[]] * len(TOUGH), chosen.out
    undone = desk.run("undo", "--workflow", "slots", "--yes")
    assert (undone.code, undone.err.count("left alone")) == (0, 0), undone.out + undone.err
    assert [row["Title"] for row in rows_of(desk)] == before
    assert desk.run("agenda", "--from", "2026-01-01", "--until", "2099-01-01", "--json").json["events"] == []


TOUGH_COPY = """
when requests gains a row
  where  Copy is empty

add row to log
  What  Title

change row
  Copy  Title
"""


def test_a_text_that_is_too_long_for_a_cell_is_refused(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS.replace("log.csv", "log.xlsx")).workflow(TOUGH_COPY)
    desk.write("requests.csv", f"Copy,No,Title\n,R-1,{'x' * 32768}\n,R-2,{'x' * 32767}\n")
    ran = desk.run("run", "--json")
    assert [each["outcome"] for each in ran.json["runs"]] == ["failed", "done"]
    assert ran.json["runs"][0]["reason"].startswith("a cell of a workbook holds 32,767 signs at most")
    assert len(desk.run("read", "sheet", "log", "--json").json["columns"][0]["cells"]) == 1


@pytest.mark.parametrize("log", ["log.csv", "log.xlsx"])
def test_odd_texts_in_cells_are_known_as_ours_and_taken_back(desk: Desk, log: str) -> None:
    desk.settings(SETTINGS, REQUESTS.replace("log.csv", log)).workflow(TOUGH_COPY)
    text = io.StringIO()
    rows = [["Copy", "No", "Title"], *(["", f"R-{number}", title] for number, title in enumerate(TOUGH))]
    csv.writer(text).writerows(rows)
    desk.write("requests.csv", text.getvalue())

    def cells(place: str, column: int) -> list[str]:
        return [each["value"] for each in desk.run("read", "sheet", place, "--json").json["columns"][column]["cells"]]

    before = cells("requests", 2)
    assert desk.run("run").err.startswith(f"{len(TOUGH)} rows done")
    assert desk.run("run").err.startswith("nothing new")
    assert cells("requests", 0) == cells("requests", 2) == before
    if log.endswith("csv"):
        assert cells("log", 0) == before
    undone = desk.run("undo", "--workflow", "slots", "--yes")
    assert (undone.code, undone.err.count("left alone")) == (0, 0), undone.out + undone.err
    assert (cells("requests", 0), cells("requests", 2), cells("log", 0)) == ([], before, [])


def test_what_was_taken_back_does_not_wait_for_a_correction(slots: Desk) -> None:
    slots.rows(R1, BAD)
    slots.run("run")
    slots.run("undo", "1", "--yes")
    assert "1 row that failed before waits for a correction" in slots.run("run").err
    slots.run("undo", "2", "--yes")
    told = slots.run("run").err
    assert "nothing new" in told
    assert "that failed before" not in told


def test_what_an_undo_would_do_is_listed_effect_by_effect(slots: Desk) -> None:
    slots.workflow(LOGGED).rows(R1, R2, R3)
    slots.run("run")
    asked = slots.run("undo", "1", "2", "3")
    assert asked.code == 4
    starts = [line.split("  ")[0] for line in asked.out.splitlines() if line[:1].strip()]
    assert starts == ["place", "requests", "log", "domes"]  # each place once, its effects below it
    assert [asked.out.count(said) for said in ("delete event", "delete row", "change row")] == [3, 3, 3]
    assert all(f"M {n}" in asked.out for n in (1, 2, 3))


# --- explain


def test_explain_tells_conditions_fields_and_effects_of_a_run(slots: Desk) -> None:
    text = WORKFLOW.replace("create event", 'if Title is "M 1"\n  let x = 1\nelse\n  stop\n\ncreate event')
    slots.workflow(text).rows(R1, R2)
    slots.run("run")
    told = slots.run("explain", "1", "--json").json["explanations"][0]
    assert (told["workflow"], told["subject"], told["outcome"]) == ("slots", "R-1", "done")
    assert told["fields"]["title"] == "M 1"
    kinds = [(each["kind"], each["text"], each["holds"]) for each in told["told"] if each["kind"] != "effect"]
    assert kinds[:2] == [("condition", "where  Answer is empty", True), ("condition", 'if Title is "M 1"', True)]
    steps = [each for each in told["told"] if each["kind"] == "step"]
    assert steps[0]["values"] == {"title": "M 1", "start": "11 Mar 2027 20:00", "end": "11 Mar 2027 22:00"}
    effects = [each["effect"]["verb"] for each in told["told"] if each["kind"] == "effect"]
    assert effects == ["create event", "change row"]
    other = slots.run("explain", "2")
    assert 'if Title is "M 1"  → does not hold (Title M 2)' in other.out


def test_explain_tells_a_second_try_without_what_the_failed_one_wrote(slots: Desk) -> None:
    slots.rows(BAD)
    slots.run("run")
    slots.write("requests.csv", slots.read("requests.csv").replace(",31.02.2027", ",30.02.2027"))
    assert slots.run("run").code == 1
    told = slots.run("explain", "2", "--json").json["explanations"][0]
    assert "answer" not in told["fields"]
    assert (told["told"][0]["text"], told["told"][0]["holds"]) == ("where  Answer is empty", True)
    (effect,) = (each["effect"] for each in told["told"] if each["kind"] == "effect")
    assert effect["before"]["Answer"].endswith("31.02.2027 is no date: February 2027 has 28 days")


@pytest.mark.parametrize(
    ("prepare", "told"),
    [
        ("run", "the row is not in the set that where describes"),
        ("fail", "its last run failed; it runs again when somebody changes the row"),
        ("undo", "its run was taken back; it is held until somebody changes the row"),
        ("wait", "it waits, and runs with the next whenvoca run"),
    ],
)
def test_explain_tells_why_a_row_made_no_run(slots: Desk, prepare: str, told: str) -> None:
    slots.rows(BAD if prepare == "fail" else R1)
    if prepare != "wait":
        slots.run("run")
    if prepare == "undo":
        slots.run("undo", "1", "--yes")
    before = everything(slots)
    result = slots.run("explain", "--row", "2", "--json")
    assert everything(slots) == before
    assert result.json["explanations"][0]["reason"].startswith(told)


# --- retry


def test_retry_runs_again_what_failed_with_the_row_as_it_is_now(slots: Desk) -> None:
    slots.rows(BAD, R1)
    slots.run("run")
    assert [run["subject"] for run in slots.run("runs", "--failed", "--json").json["runs"]] == ["R-9"]
    assert slots.run("retry", "--failed").code == 1  # the cell is as it was
    slots.write("requests.csv", slots.read().replace(",31.02.2027,", ",28.02.2027,"))
    slots.run("run")
    assert [row["Answer"] for row in rows_of(slots)] == ["granted", "granted"]
    assert slots.run("retry", "--failed", "--json").json["runs"] == []
    assert slots.run("retry", "1").code == 0  # a later run went well; nobody says yes
    assert slots.run("retry").code == 2


# --- the brake


def test_brake_on_changes_holds_the_whole_batch(slots: Desk) -> None:
    slots.workflow("brake  2 changes\n" + WORKFLOW).rows(R1, R2, R3)
    before = slots.snapshot()
    held = slots.run("run")
    assert held.code == 4
    assert "slots: 3 changes at once, and its brake allows 2" in held.err
    assert slots.snapshot() == before
    assert slots.run("rehearse").code == 4
    assert slots.run("run", "--yes").code == 0
    assert len(slots.events()) == 3


MIRROR = (
    "when requests gains, changes or loses a row\n\nmirror event in domes\n  title  Title\n  start  Day at "
    "From\n  end    Day at To\n"
)


def test_default_brake_is_twenty_deletions(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(MIRROR, "keep")
    desk.rows(*(f",,R-{n},M {n},{n % 27 + 1:02d}.03.2027,20:00,22:00" for n in range(41)))
    desk.run("run")
    desk.rows(*(f",,R-{n},M {n},{n % 27 + 1:02d}.03.2027,20:00,22:00" for n in range(21)))
    assert desk.run("run").code == 0  # twenty
    assert len(desk.events()) == 21
    desk.rows()
    held = desk.run("run")
    assert held.code == 4
    # the whole list
    assert [line.split()[-6:-4] for line in held.out.splitlines()[1:]] == [["M", str(n)] for n in range(21)]
    assert len(desk.events()) == 21
    (desk.folder / "requests.csv").unlink()
    desk.write("requests.csv", "")
    assert desk.run("run").code == 2  # a sheet without headings is a fault, never an empty one
    assert len(desk.events()) == 21


def test_sheet_that_is_half_as_long_stops_at_the_brake(desk: Desk) -> None:
    lines = [f",,R-{n},M {n},{n % 27 + 1:02d}.03.2027,20:00,22:00" for n in range(12)]
    desk.settings(SETTINGS, REQUESTS).workflow(MIRROR, "keep")
    desk.rows(*lines)
    desk.run("run")
    desk.rows(*lines[:7])
    assert desk.run("run").code == 0  # five of twelve
    desk.rows(*lines, ",,R-99,x,01.03.2027,20:00,22:00")
    desk.run("run")
    desk.rows(*lines[:6])
    held = desk.run("run")
    assert held.code == 4
    assert "keep: 7 deletions at once, half of what there is or more" in held.err
    assert len(desk.events()) == 13
    assert desk.run("run", "--yes").code == 0
    assert len(desk.events()) == 6


# rows at first, rows that are left, what the run says; None: it goes through
SHRUNK = [
    (1, 0, "nothing is left of what it looks at, which would be 1 deletion"),
    (2, 1, None),
    (4, 0, "nothing is left of what it looks at, which would be 4 deletions"),
    (3, 1, "2 deletions at once, half of what there is or more"),
    (4, 2, None),  # half, not more
    (6, 2, "4 deletions at once, half of what there is or more"),
    (9, 5, None),
    (10, 5, "5 deletions at once, half of what there is or more"),
    (11, 6, None),
]


@pytest.mark.parametrize(("before", "after", "said"), SHRUNK, ids=lambda value: str(value))
@pytest.mark.parametrize("brake", ["", "brake  100 deletions\n"], ids=["default", "own brake"])
def test_shrunken_sheet_asks_for_a_yes_whatever_its_size(
    desk: Desk, before: int, after: int, said: str | None, brake: str
) -> None:
    lines = [f",,R-{n},M {n},{n % 27 + 1:02d}.03.2027,20:00,22:00" for n in range(before)]
    desk.settings(SETTINGS, REQUESTS).workflow(brake + MIRROR, "keep").rows(*lines)
    desk.run("run")
    desk.rows(*lines[:after])
    rehearsed, done = desk.run("rehearse"), desk.run("run")
    assert (rehearsed.code, done.code) == ((4, 4) if said else (0, 0))
    assert len(desk.events()) == (before if said else after)
    if said:
        assert f"the brake would hold this, and run would ask: keep: {said}" in rehearsed.err
        assert f"held: keep: {said}" in done.err


def test_mirror_without_its_ledger_takes_copies_as_made_and_asks_before_it_deletes_orphans(desk: Desk) -> None:
    import shutil

    desk.settings(SETTINGS, REQUESTS).workflow(MIRROR, "keep").rows(R1, R2)
    desk.run("run")
    before = {path.name: path.read_bytes() for path in desk.events()}
    shutil.rmtree(desk.folder / ".whenvoca")
    desk.rows(R1)
    held = desk.run("run")
    assert held.code == 4
    assert "1 of its events belong to rows that are not there" in held.err
    assert {path.name: path.read_bytes() for path in desk.events()} == before
    assert desk.run("run", "--yes").code == 0
    assert len(desk.events()) == 1


# --- rows that go


def test_deleted_row_of_a_workbook_takes_its_place_and_everything_follows(desk: Desk) -> None:
    import io

    import openpyxl

    from tests.places.workbooks import read_cells

    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Slots"
    for row in (["No", "State", "Hours"], ["a", "", 1], ["b", "done", 2], ["c", "", 3]):
        sheet.append(row)
    sheet["E1"] = "=SUM(C2:C4)"
    sheet["E2"] = "=C4*2"
    sheet.merge_cells("G4:H4")
    book.create_sheet("Other")["A1"] = "=Slots!C4+SUM(Slots!C3:C4)"
    book.defined_names["Last"] = openpyxl.workbook.defined_name.DefinedName("Last", attr_text="Slots!$C$4")
    target = io.BytesIO()
    book.save(target)
    desk.write("s.xlsx", target.getvalue())
    places = '[places.things]\nkind = "sheet"\nfile = "s.xlsx"\ntab = "Slots"\nkey = "No"\n'
    desk.settings(SETTINGS, places).workflow(
        'when things gains a row\n  where  State is "done"\n\ndelete row\n', "clear"
    )
    assert desk.run("run").code == 0
    after = openpyxl.load_workbook(desk.folder / "s.xlsx")
    rows = [row[:3] for row in read_cells((desk.folder / "s.xlsx").read_bytes())]
    assert rows == [["No", "State", "Hours"], ["a", None, 1], ["c", None, 3]]
    assert (after["Slots"]["E1"].value, after["Slots"]["E2"].value) == ("=SUM(C2:C3)", "=C3*2")
    assert after["Other"]["A1"].value == "=Slots!C3+SUM(Slots!C3:C3)"
    assert [str(each) for each in after["Slots"].merged_cells.ranges] == ["G3:H3"]
    assert after.defined_names["Last"].attr_text == "Slots!$C$3"
    assert desk.run("undo", "1", "--yes").code == 0
    back: Any = openpyxl.load_workbook(desk.folder / "s.xlsx")["Slots"]
    assert [[cell.value for cell in row[:3]] for row in back.iter_rows()] == [
        ["No", "State", "Hours"],
        ["a", None, 1],
        ["b", "done", 2],
        ["c", None, 3],
    ]
    assert back["E1"].value == "=SUM(C2:C4)"


# --- ledgers


def test_ledger_of_a_newer_version_is_refused_and_says_how_to_go_on(slots: Desk) -> None:
    import sqlite3

    slots.rows(R1)
    slots.run("run")
    database = sqlite3.connect(slots.folder / ".whenvoca/ledger.sqlite")
    database.execute("PRAGMA user_version=99")
    database.close()
    for command in (("run",), ("rehearse",), ("explain", "1"), ("undo", "1")):
        result = slots.run(*command)
        assert result.code == 2, command
        assert "the ledger is of version 99" in result.err
        assert "move the ledger away, what was made is then found by its marks" in result.err


def test_clock_set_back_between_runs_makes_nothing_twice(slots: Desk) -> None:
    slots.rows(R1)
    assert slots.run("run", "--now", "2027-03-10 12:00").code == 0
    slots.rows(slots.read().splitlines()[1], R2)
    assert slots.run("run", "--now", "2027-03-10 11:00").code == 0
    assert len(slots.events()) == 2
    assert "nothing new" in slots.run("run", "--now", "2027-03-10 10:00").err


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write everywhere")
def test_read_only_folder_leaves_everything_as_it_was(slots: Desk) -> None:
    slots.rows(R1)
    domes = Path(slots.folder / "domes")
    domes.mkdir()
    domes.chmod(stat.S_IREAD | stat.S_IEXEC)
    assert slots.run("run").code == 3
    domes.chmod(0o755)
    assert slots.run("run").code == 0


def test_workflow_that_would_write_into_an_ods_sheet_is_a_fault_of_check(slots: Desk) -> None:
    from tests.places.workbooks import ods_workbook

    rows: list[list[Any]] = [
        ["Answer", "Booking", "No", "Title", "Day", "From", "To"],
        [None, None, "R-1", "M 42", "17.03.2027", "20:00", "22:00"],
    ]
    slots.write("requests.ods", ods_workbook(rows))
    slots.settings(SETTINGS, REQUESTS.replace("requests.csv", "requests.ods"))
    result = slots.run("check")
    assert result.code == 1
    assert "requests cannot be written: sheets are not written into .ods files" in " ".join(result.out.split())
    slots.workflow(WORKFLOW.split("change row")[0].replace("  where  Answer is empty\n", ""))
    assert slots.run("run").code == 0
    assert len(slots.events()) == 1


# --- in the hand


def test_retry_refuses_a_workflow_that_check_calls_faulty(slots: Desk) -> None:
    slots.rows(R1, ",,R-3,M 81,31.02.2027,20:00,22:00")
    slots.run("run")
    slots.workflow(WORKFLOW.replace("title  Title", "titel  Title"))
    before = slots.snapshot()
    refused = slots.run("retry", "--failed")
    assert refused.code == slots.run("run").code == 2
    assert "nothing was run: 1 fault" in refused.err
    assert slots.snapshot() == before


def test_rows_that_an_undo_holds_are_told_with_the_command_that_starts_them_again(slots: Desk) -> None:
    slots.rows(R1, R2, R3)
    slots.run("run")
    slots.run("undo", "1-3", "--yes")
    told = slots.run("run")
    assert "nothing new" in told.err
    command = "whenvoca run slots --key R-1,R-2,R-3"
    assert f"3 rows are held because their runs were undone; {command} starts them again" in told.err
    assert [each["key"] for each in slots.run("run", "--json").json["held_back"]] == ["R-1", "R-2", "R-3"]
    assert slots.run(*command.split()[1:]).code == 0
    assert len(slots.events()) == 3
    assert "held because" not in slots.run("run").err


@pytest.mark.parametrize("numbers", [["1,", "3"], ["1,3"], ["1", "3"], ["1,", "3,"]], ids=" ".join)
def test_numbers_of_runs_are_taken_as_our_own_hints_print_them(slots: Desk, numbers: list[str]) -> None:
    slots.rows(R1, R2, R3)
    slots.run("run")
    assert slots.run("explain", *numbers).out.count(" · run ") == 2
    assert slots.run("undo", *numbers, "--yes").code == 0
    assert len(slots.events()) == 1
    assert slots.run("retry", *numbers).code == 0
    assert len(slots.events()) == 3


def test_a_span_of_runs_is_all_of_them_and_what_is_no_number_is_refused(slots: Desk) -> None:
    slots.rows(R1, R2, R3)
    slots.run("run")
    assert slots.run("undo", "1-3", "--yes").code == 0
    assert not slots.events()
    for wrong in ("x", "3-1", "9" * 20, "1-999999"):
        for command in ("undo", "retry", "explain"):
            assert slots.run(command, wrong).code == 2


def test_rows_are_chosen_by_their_keys(slots: Desk) -> None:
    slots.rows(R1, R2, R3)
    assert [each["subject"] for each in slots.run("rehearse", "--key", "R-2,R-3", "--json").json["runs"]] == [
        "R-2",
        "R-3",
    ]
    assert slots.run("run", "--key", "R-2", "--key", "R-3").code == 0
    assert len(slots.events()) == 2
    assert "R-2" in slots.run("explain", "--key", "R-2").out
    wrong = slots.run("run", "--row", "R-1")
    assert wrong.code == 2
    assert "by its key it is --key R-1" in wrong.err
    assert "there is no row R-9" in slots.run("run", "--key", "R-9").err
