"""Each command, once rightly and with what programs rely on."""

from __future__ import annotations

import errno
import json
import os
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import REQUESTS, SETTINGS, WORKFLOW, Desk, ids
from tests.places.workbooks import plain_workbook
from whenvoca.cli.main import COMMANDS, run_command

R1 = ",,R-1,M 42,17.03.2027,21:30,02:00"
READ = [
    (
        "dates",
        [["Day"], ["17/03/2027"], ["03/04/2027"], ["31/02/2027"]],
        ("date", "ok", "day first"),
        ["2027-03-17", "2027-04-03", None],
    ),
    ("times", [["Begin"], ["9:30 pm"], ["noon"]], ("time", "ok", "12-hour"), ["21:30", "12:00"]),
    ("moments", [["When"], ["17.03.2027 21:30"]], ("moment", "ok", "day first"), ["2027-03-17T21:30:00"]),
    ("offset", [["When"], ["2027-03-17T21:30+01:00"]], ("moment", "ok", "year first"), ["2027-03-17T21:30:00+01:00"]),
    ("numbers", [["N"], ["1,5"], ["-2"]], ("number", "ok", "decimal comma"), [1.5, -2]),
    ("ticks", [["Online"], ["x"], ["x"]], ("yes-no", "ok", None), [True, True]),
    (
        "people",
        [["Who"], ["a@example.org; b@example.org"]],
        ("addresses", "ok", None),
        [["a@example.org", "b@example.org"]],
    ),
    ("words", [["T"], ["M 42"]], ("text", "ok", None), ["M 42"]),
]


@pytest.mark.parametrize(("name", "rows", "expected", "values"), READ, ids=ids(READ))
def test_read_sheet_tells_programs_how_a_column_is_read(
    desk: Desk, name: str, rows: list[list[str]], expected: tuple[str, ...], values: list[object]
) -> None:
    desk.write(
        "s.xlsx", plain_workbook([["Some title"], *([f"R-{n}" if n else "No", *row] for n, row in enumerate(rows))])
    )
    result = desk.drive("read", "sheet", "s.xlsx", "--json")
    assert result.code == 0
    document = result.json
    assert (document["file"], document["tab"], document["header_row"]) == ("s.xlsx", "Slots", 2)
    _, column = document["columns"]
    assert (column["kind"], column["status"], column["format"]) == expected
    assert [cell["value"] for cell in column["cells"]] == values
    assert [cell["cell"] for cell in column["cells"]] == [f"B{row}" for row in range(3, 3 + len(values))]


def test_read_sheet_tells_both_readings_of_an_open_column(desk: Desk) -> None:
    desk.write("s.csv", "No,Day\n1,03/04/2027\n2,05/06/2027\n")
    column = desk.drive("read", "sheet", "s.csv", "--json").json["columns"][1]
    assert column["status"] == "ambiguous"
    assert column["readings"] == {
        "day first": ["2027-04-03", "2027-06-05"],
        "month first": ["2027-03-04", "2027-05-06"],
    }
    assert all(cell["value"] is None and cell["fault"] for cell in column["cells"])
    shown = desk.drive("read", "sheet", "s.csv")
    assert "B2: 03/04/2027 can be 2027-04-03 (day first)" in shown.out
    assert 'dates = "day first" at the place' in shown.err
    assert desk.drive("read", "sheet", "s.csv", "--dates", "month first", "--json").json["columns"][1]["status"] == "ok"


def test_read_sheet_of_a_place_uses_its_settings(slots: Desk) -> None:
    slots.rows(R1.replace("17.03", "03.04"))
    assert slots.drive("read", "sheet", "requests", "--json").json["columns"][4]["format"] == "day first"
    assert slots.drive("read", "sheet", "requests.csv", "--json").json["columns"][4]["status"] == "ambiguous"
    for name in ("requests.csv", "other.csv"):
        slots.write(name, "No,Day\nR-1,17.03.2027\n")
    ends = [
        slots.drive("read", "sheet", each).err.splitlines()[-1] for each in ("requests.csv", "requests", "other.csv")
    ]
    assert ends == [
        "next: with the settings of the place requests: whenvoca read sheet requests",
        "next: whenvoca check",
        "next: name it in whenvoca.toml and write a workflow, such as: whenvoca new DIR",
    ]


def test_new_workspace_passes_check_and_runs(desk: Desk) -> None:
    made = desk.drive("new", "fresh", "--zone", "Europe/Lisbon")
    assert made.code == 0
    desk.folder = desk.folder / "fresh"
    check = desk.drive("check")
    assert (check.code, check.out) == (0, "ok      requests: would run for nothing\n")
    assert desk.drive("tidy", "--check").code == 0
    desk.write("requests.csv", desk.read() + ",,1,Roof check,2027-05-04,10:00,11:00,\r\n")
    assert desk.drive("run").code == 0
    assert len(desk.events("calendars/bookings")) == 1
    desk.folder = desk.folder.parent
    assert desk.drive("new", "fresh").code == 2


def test_demo_plays_its_tour_to_the_end(desk: Desk) -> None:
    result = desk.drive("demo", "larkmoor")
    assert result.code == 0
    for told in (
        "E8: 31.02.2027 is no date",
        "16 runs done, 2 failed",
        "nothing new",
        "2 rows done, 1 failed",
        "ines shows dnd",
        "23:30–04:15 · NGC 4565 with spectrograph [domes]",
        "activity filled with 2 rows",
        "200: The small telescope is yours for these days. Day Friday 2 Apr 2027 to Monday 5 Apr 2027",
        "422: The small telescope cannot go out then",
        '200: {"number":1,"state":"done"',
        "63.4 hours in 28 events",
        "That was the tour",
    ):
        assert told in result.out + result.err
    assert "unforeseen" not in result.err
    assert desk.drive("demo", "larkmoor").code == 2
    assert desk.drive("demo", "still", "--keep-still").code == 0
    assert desk.drive("check", "--workspace", "still").code == 0


def test_json_is_one_document_on_stdout_and_nothing_else(slots: Desk) -> None:
    slots.rows(R1)
    for command in (["check"], ["run"], ["runs"], ["places"], ["agenda", "--from", "2027-03-15"], ["tidy"], ["claim"]):
        result = slots.run(*command, "--json")
        assert result.code == 0, command
        assert isinstance(result.json, dict)
    assert run_command(["words", "--json"]) == 0


def test_run_tells_programs_each_effect(slots: Desk) -> None:
    slots.rows(R1)
    (run,) = slots.run("run", "--json").json["runs"]
    assert (run["workflow"], run["subject"], run["outcome"]) == ("slots", "R-1", "done")
    event, row = run["effects"]
    assert (event["verb"], event["place"], event["before"]) == ("create event", "domes", None)
    assert event["after"]["start"] == "2027-03-17T21:30:00-01:00"
    assert event["notes"] == ["02:00 is the next day"]
    assert (row["verb"], row["target"], row["before"]) == ("change row", "R-1", {"Booking": None, "Answer": None})


def test_agenda_as_list_grid_page_and_picture(slots: Desk) -> None:
    slots.rows(R1, ",,R-2,<b>&,18.03.2027,10:00,11:00")
    slots.run("run")
    listed = slots.run("agenda", "--from", "2027-03-15")
    assert "Wed 17 Mar 2027  21:30–02:00  M 42" in listed.out
    assert slots.run("agenda", "--from", "2026-01-01").out == ""
    grid = slots.run("agenda", "--from", "2027-03-17", "--week").out
    assert all(len(line) <= 100 for line in grid.splitlines())
    assert "▌M 42" in grid
    page, picture = slots.folder / "week.html", slots.folder / "week.png"
    assert slots.run("agenda", "--from", "2027-03-17", "--html", str(page), "--png", str(picture)).code == 0
    assert "&lt;b&gt;&amp;" in page.read_text()
    assert picture.read_bytes().startswith(b"\x89PNG")
    (first, second) = slots.run(
        "agenda", "domes", "--from", "2027-03-17", "--until", "2027-03-20", "--json", "--zone", "Europe/Lisbon"
    ).json["events"]
    assert (first["start"], first["zone"], second["title"]) == ("2027-03-17T22:30:00+00:00", "Atlantic/Azores", "<b>&")


def test_words_come_from_the_definitions(capsys: pytest.CaptureFixture[str]) -> None:
    assert run_command(["words", "create", "event"]) == 0
    told = capsys.readouterr().out
    assert "create event in CALENDAR as NAME   (step)" in told
    assert "meeting-link" in told
    assert run_command(["words", "clash"]) == 0
    assert "create event" in capsys.readouterr().out
    assert run_command(["words", "crate", "event"]) == 2


def test_language_page_is_current() -> None:
    from whenvoca.language.reference import render_page
    from whenvoca.open_workspace import VOCABULARY

    assert Path("docs/language.md").read_text(encoding="utf-8") == render_page(VOCABULARY), (
        "make docs/language.md anew: make reference"
    )


def test_tidy_shows_writes_and_checks(slots: Desk) -> None:
    slots.workflow(WORKFLOW.replace("  title  Title", "  title Title"))
    assert slots.run("tidy", "--check").code == 1
    assert "+  title  Title" in slots.run("tidy", "--diff").out
    assert slots.run("tidy").code == 0
    assert slots.run("tidy", "--check").err == "all tidy\n"


def test_places_tell_what_they_hold_and_what_is_wrong(slots: Desk) -> None:
    slots.rows(R1)
    report = {place["name"]: place for place in slots.run("places", "--json").json["places"]}
    assert report["requests"]["holds"] == "1 row, headings in row 1"
    assert report["domes"]["holds"] == "0 events, made when it is written"
    assert report["log"]["holds"] == "not there yet, made when it is written"
    slots.settings(
        SETTINGS, REQUESTS, '[places.post]\nkind = "mailbox"\n[places.gone]\nkind = "sheet"\nfile = "gone.csv"\n'
    )
    report = {place["name"]: place for place in slots.run("places", "--json").json["places"]}
    assert report["post"]["trouble"] == "post: a mailbox has a folder, a file or a server"
    assert report["gone"]["answers"] is False


def test_check_tells_what_would_be_taken_up_and_changes_nothing(slots: Desk) -> None:
    slots.rows(R1, R1.replace("R-1", "R-2"))
    before = sorted(path.name for path in slots.folder.rglob("*"))
    assert slots.run("check", "--json").json["workflows"][0]["would_run_for"] == ["R-1", "R-2"]
    assert sorted(path.name for path in slots.folder.rglob("*")) == before
    slots.run("run")
    assert slots.run("check", "--json").json["workflows"][0]["would_run_for"] == []


def test_headings_only_sheet_with_declared_kinds(slots: Desk) -> None:
    slots.settings(
        SETTINGS, REQUESTS + '[places.list]\nkind = "sheet"\nfile = "list.csv"\nkinds = { Day = "date" }\n'
    ).rows(R1)
    slots.write("list.csv", "What,Day\n")
    slots.workflow(WORKFLOW + "", "slots").workflow(
        "when list gains a row\ncreate event in domes\n  title  What\n  start  Day\n", "list"
    )
    assert slots.run("check", "list").code == 0
    slots.workflow('when requests gains a row\nadd row to list\n  What  Title\n  Day   "soon"\n', "bad")
    assert 'the column "Day" holds dates, and this is a text' in slots.run("check", "bad").out


def test_paused_workflow_is_left_out(slots: Desk) -> None:
    slots.workflow("paused yes\n" + WORKFLOW).rows(R1)
    assert slots.run("run").code == 0
    assert slots.events() == []


def test_now_rules_the_moment_of_the_occurrence(slots: Desk) -> None:
    slots.workflow('when requests gains a row\nadd row to log\n  What  "{now}, {today as "EEEE"}"\n').rows(R1)
    slots.run("run", "--now", "2027-03-17 16:20")
    assert slots.read("log.csv") == 'What\n"17 Mar 16:20, Wednesday"\n'


@pytest.mark.parametrize("name", COMMANDS)
def test_every_command_has_help_with_an_example(name: str, capsys: pytest.CaptureFixture[str]) -> None:
    arguments = [name, "sheet", "-h"] if name == "read" else [name, "-h"]
    assert run_command(arguments) == 0
    told = capsys.readouterr().out
    assert "Example: whenvoca" in told.replace("\n  ", " ")


def test_overview_imports_no_command() -> None:
    import subprocess
    import sys

    code = (
        "import sys; from whenvoca.cli.main import run_command; run_command(['--help']); run_command(['--version']); "
    )
    code += (
        "print([m for m in sys.modules if m.split('.')[0] in "
        "('rich','lxml','icalendar','python_calamine','babel','matplotlib') or m.startswith('whenvoca.places')])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"
    assert "whenvoca 0." in done.stdout


def test_documented_json_names_every_command_with_json() -> None:
    text = Path("docs/json.md").read_text(encoding="utf-8")
    assert all(
        f"`{name}`" in text
        for name in ("check", "run", "runs", "agenda", "places", "words", "tidy", "read sheet", "new", "claim")
    )
    for block in text.split("```json\n")[1:]:
        json.loads(block.split("```")[0])


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["requests", "--dates", "month first"], "requests is a place, which is read by its settings in whenvoca.toml"),
        (
            ["request"],
            'there is no file "request", and no sheet of that name in whenvoca.toml\n  did you mean requests',
        ),
        (["none.csv"], "none.csv: there is no such file"),
    ],
)
def test_read_sheet_says_what_it_cannot_read(slots: Desk, arguments: list[str], told: str) -> None:
    slots.rows(",,R-1,M 1,11.03.2027,20:00,22:00")
    result = slots.run("read", "sheet", *arguments)
    assert (result.code, told in result.err) == (2, True), result.err
    (slots.folder / "whenvoca.toml").write_text("[workspace")
    assert slots.run("read", "sheet", "requests").err.count("is no TOML") == 1


def test_read_sheet_of_several_tabs_looks_at_the_first_and_names_the_others(desk: Desk) -> None:
    from tests.places.workbooks import rich_workbook

    desk.write("s.xlsx", rich_workbook())
    document = desk.run_anywhere("read", "sheet", str(desk.folder / "s.xlsx"), "--json").json
    assert document["tab"] == "Slots"
    assert document["notes"] == ["there are other tabs, which --tab shows: Counts, Hidden"]
    assert (
        desk.run_anywhere("read", "sheet", str(desk.folder / "s.xlsx"), "--tab", "counts", "--json").json["tab"]
        == "Counts"
    )


def test_sheet_that_stands_unchanged_is_not_parsed_again_in_another_process(
    slots: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    slots.rows(R1)
    slots.drive("run")

    def read(*_: object) -> None:
        raise AssertionError("the sheet was parsed")

    monkeypatch.setattr("whenvoca.places.sheet.csv_file.CsvFile.load", read)
    assert slots.run("run").code == 0
    monkeypatch.undo()
    slots.write("requests.csv", slots.read() + ",,R-2,M 13,18.03.2027,20:00,22:00\n")
    assert slots.run("run").code == 0
    assert len(slots.events()) == 2


@pytest.mark.parametrize("options", [(), ("--quiet",), ("--verbose",)])
def test_all_rows_are_counted_however_few_are_shown(slots: Desk, options: tuple[str, ...]) -> None:
    good = [f",,R-{number:03d},Title {number},2027-03-{number % 28 + 1:02d},21:30,22:30" for number in range(60)]
    slots.rows(*good, ",,R-900,No day,,21:30,22:30", ",,R-901,No time,2027-03-01,,")
    told = slots.run("run", *options)
    assert told.code == 1
    assert "60 rows done, 2 failed" in told.err
    assert len(slots.events()) == 60
    assert slots.run("run", *options).err.startswith("nothing new")


@pytest.mark.parametrize(
    "fault",
    ["mkdir", "write", "link"],
    ids=["no folder can be made", "disk full at the second half", "no name can be given"],
)
def test_a_large_group_that_cannot_be_written_is_written_later_and_once(
    slots: Desk, fault: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    slots.rows(*[f",,R-{number:03d},Title {number},2027-03-{number % 28 + 1:02d},21:30,22:30" for number in range(250)])
    real_open, real_link = os.open, os.link

    def full(path: Any, *more: Any, **named: Any) -> int:
        if "whenvoca-tmp" in str(path) and str(path).endswith(("7.ics.whenvoca-tmp", "b.ics.whenvoca-tmp")):
            raise OSError(errno.ENOSPC, "No space left on device")
        return real_open(path, *more, **named)

    def refused(source: Any, target: Any, **named: Any) -> None:
        if str(target).endswith("7.ics"):
            raise PermissionError(errno.EACCES, "Permission denied")
        real_link(source, target, **named)

    with monkeypatch.context() as patched:
        if fault == "mkdir":
            slots.write("domes", "a file stands there")
        elif fault == "write":
            patched.setattr(os, "open", full)
        else:
            patched.setattr(os, "link", refused)
            patched.setattr(
                os, "replace", lambda source, target: (_ for _ in ()).throw(PermissionError(errno.EACCES, "no"))
            )
        told = slots.run("run", "--quiet")
    assert told.code != 0
    if fault == "mkdir":
        (slots.folder / "domes").unlink()
    assert slots.run("run", "--quiet").code == 0
    assert len(slots.events()) == 250
    assert not list((slots.folder / "domes").glob(".*tmp"))
    assert sum("granted" in line for line in slots.read().splitlines()) == 250


def test_check_tells_rows_that_cannot_be_taken_up(slots: Desk) -> None:
    slots.rows(
        ",,R-1,A,11.03.2027,20:00,22:00", ",,R-1,B,12.03.2027,20:00,22:00", ",,,C,12.03.2027,20:00,22:00", ",,R-2,D,,,"
    )
    before = slots.snapshot()
    checked = slots.run("check")
    assert checked.code == 0
    assert 'cannot run: requests.csv, C2: No "R-1" stands in row 3 too' in checked.err
    assert "ok      slots: would run for R-2" in checked.out
    told = slots.run("check", "--json").json
    assert (len(told["cannot_run"]), told["warnings"]) == (3, [])
    assert slots.snapshot() == before


@pytest.mark.parametrize("command", ["explain --key R-99", "run --key R-99", "rehearse --key R-99"])
def test_a_key_that_no_row_has_is_refused_with_the_nearest(slots: Desk, command: str) -> None:
    slots.rows(",,R-9,A,11.03.2027,20:00,22:00", ",,R-1,B,12.03.2027,20:00,22:00")
    assert slots.run("run").code == 0
    told = slots.run(*command.split())
    assert (told.code, "R-99" in told.err, "did you mean R-9" in told.err) == (2, True, True)


def test_each_command_ends_its_connections(slots: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    """One that is handed over to watch runs in its process, which goes on."""
    slots.rows(R1)
    closed: list[object] = []
    monkeypatch.setattr("whenvoca.places.open_places.OpenPlaces.close", lambda places: closed.append(places))
    for number, command in enumerate((["run"], ["places"], ["check"], ["undo", "1", "--yes"]), 1):
        assert slots.run(*command).code == 0
        assert len(closed) == number


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("2027-02-30", "there is no day 30 in February 2027, which has 28 days"),
        ("2028-02-30 10:00", "there is no day 30 in February 2028, which has 29 days"),
        ("2027-04-31", "which has 30 days"),
        ("2027-13-01", "is no moment that can be read in one way"),
        ("0000-02-30", "is no moment that can be read in one way"),
    ],
)
def test_day_that_there_is_not_is_named(slots: Desk, text: str, said: str) -> None:
    result = slots.run("agenda", "--from", text)
    assert (result.code, said in " ".join(result.err.split())) == (2, True)
