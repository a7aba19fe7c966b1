"""Bad input: a clear message, the right exit status, nothing half written."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import HEAD, REQUESTS, SETTINGS, WORKFLOW, Desk, ids
from tests.places.test_sheets import BROKEN
from tests.places.workbooks import plain_workbook

R1 = ",,R-1,M 42,17.03.2027,21:30,02:00"
XLSX = REQUESTS.replace("requests.csv", "requests.xlsx")


def toml(old: str, new: str) -> Callable[[Desk], object]:
    return lambda desk: desk.settings((SETTINGS + REQUESTS).replace(old, new))


def sheet(text: str | bytes) -> Callable[[Desk], object]:
    return lambda desk: desk.write("requests.csv", text)


def flow(old: str, new: str) -> Callable[[Desk], object]:
    return lambda desk: desk.workflow(WORKFLOW.replace(old, new))


# name, what is broken, exit status of run, what is told
CASES: list[tuple[str, Callable[[Desk], object], int, str]] = [
    ("missing sheet", lambda d: (d.folder / "requests.csv").unlink(), 2, "requests cannot be read:"),
    (
        "sheet is a folder",
        lambda d: [(d.folder / "requests.csv").unlink(), (d.folder / "requests.csv").mkdir()],
        2,
        "is a folder, and a file is wanted here",
    ),
    ("empty sheet", sheet(""), 2, "is empty: there is not even a row of headings"),
    ("no text", sheet(b"\x00\x01\x02"), 2, "is no text"),
    (
        "another encoding",
        sheet(HEAD.encode() + ",,R-1,\xe9,17.03.2027,21:30,22:00\n".encode("cp1252")),
        2,
        'declare the encoding at the place, such as encoding = "windows-1252"',
    ),
    ("open quote", sheet(HEAD + ',,R-1,"M,17.03.2027,21:30,22:00\n'), 2, "a quote opened on line 2 is never closed"),
    (
        "two columns of one name",
        sheet(HEAD.replace("To\n", "To,From\n") + R1 + "\n"),
        2,
        'two columns of requests stand for "From": F1 and H1',
    ),
    (
        "key column gone",
        sheet(HEAD.replace("No", "Nr") + R1 + "\n"),
        2,
        'its key names a column "No" that is not there',
    ),
    ("zone missing", toml('zone = "Atlantic/Azores"\n', ""), 2, "whenvoca.toml:2: the workspace has no zone"),
    ("zone unknown", toml("Atlantic/Azores", "Atlantic/Azore"), 2, 'there is no zone "Atlantic/Azore"'),
    ("no TOML", toml("[workspace]", "[workspace"), 2, "is no TOML"),
    ("unknown setting", toml("key =", "keys ="), 2, 'requests: there is no setting "keys" of a sheet'),
    ("unknown kind", toml('"calendar"', '"calender"'), 2, 'there is no kind of place "calender"'),
    ("header no number", toml("key =", 'header = "x"\nkey ='), 2, "header is no whole number from 1 on"),
    ("header beyond", toml("key =", "header = 40\nkey ="), 2, "row 40 holds no headings: it is empty"),
    ("header on values", toml("key =", "header = 2\nkey ="), 2, "row 2 holds no headings"),
    ("dates", toml("day first", "any"), 2, 'dates = "any" is none of: day first, month first, year first'),
    ("totals", toml("key =", 'totals = "last"\nkey ='), 2, 'totals = "last" is not known'),
    ("kinds", toml("key =", 'kinds = { Day = "dat" }\nkey ='), 2, 'there is no kind of column "dat"'),
    (
        "two places of one name",
        toml("[places.domes]", "[places.Requests]\nkind='sheet'\nfile='x.csv'\n[places.domes]"),
        2,
        'two places are called "Requests"',
    ),
    ("calendar without folder", toml('folder = "domes"', ""), 2, "a calendar has either a folder, a file or a server"),
    ("strange ending", toml("requests.csv", "requests.doc"), 2, "sheets are read from .xlsx, .xlsm, .ods and .csv"),
    ("read-only sheet", toml("key =", "readonly = true\nkey ="), 2, "requests is read-only"),
    ("mail", toml("ines@example.org", "ines"), 2, 'whenvoca.toml:8: "ines" is not an email address'),
    ("faulty workflow", flow("Day at From", "Dai at From"), 2, 'there is no column or name "Dai" in requests'),
    (
        "binary workflow",
        lambda d: (d.folder / "workflows/slots.voca").write_bytes(b"\xff\xfe\x00"),
        2,
        "is no UTF-8 text",
    ),
    ("workflow of nothing", flow(WORKFLOW, ""), 2, "there is no trigger"),
    ("broken ics", lambda d: d.write("domes/x.ics", "BEGIN:VCALENDAR"), 0, ""),
    ("folder calendar is a file", lambda d: d.write("domes", "x"), 2, "is a file, and a folder is wanted here"),
]


@pytest.mark.parametrize(("name", "breaking", "code", "told"), CASES, ids=ids(CASES))
def test_bad_input_is_told_and_nothing_is_half_done(
    slots: Desk, name: str, breaking: Callable[[Desk], object], code: int, told: str
) -> None:
    slots.rows(R1)
    breaking(slots)
    before = slots.snapshot()
    result = slots.run("run")
    assert result.code == code, result
    assert told in result.err
    assert "unforeseen" not in result.err
    if code:
        assert slots.snapshot() == before
        assert slots.run("check").code in (1, 2)


@pytest.mark.parametrize(
    ("name", "data", "fault"),
    [case for case in BROKEN if case[0] != "cut"],
    ids=[case[0] for case in BROKEN if case[0] != "cut"],
)
def test_broken_workbook_is_told(slots: Desk, name: str, data: bytes, fault: str) -> None:
    slots.settings(SETTINGS, XLSX).write("requests.xlsx", data)
    result = slots.run("run")
    assert result.code == 2
    assert fault.split("|")[0] in result.err


def test_tab_that_is_not_there_is_told_with_those_that_are(slots: Desk) -> None:
    slots.settings(SETTINGS, XLSX.replace("key =", 'tab = "Slot"\nkey =')).write(
        "requests.xlsx", plain_workbook([HEAD.strip().split(",")])
    )
    result = slots.run("run")
    assert result.code == 2
    assert 'there is no tab "Slot"' in result.err
    assert "there are: Slots" in result.err


@pytest.mark.skipif(
    os.geteuid() == 0 and not os.path.exists("/usr/bin/setpriv"),
    reason="root may read everything and setpriv is not there",
)
def test_no_permission_is_told_with_status_3(slots: Desk, tmp_path: Path) -> None:
    import subprocess

    from tests.conftest import WHENVOCA

    path = slots.rows(R1)
    path.chmod(0)
    command = [WHENVOCA, "run", "--workspace", str(slots.folder)]
    if os.geteuid() == 0:  # root may read everything, so it gives that up for this command
        command = ["setpriv", "--bounding-set=-all", "--inh-caps=-all", "--ambient-caps=-all", *command]
        command = [
            "setpriv",
            "--clear-groups",
            "--bounding-set",
            "-dac_override,-dac_read_search",
            "--inh-caps",
            "-all",
            *command[4:],
        ]
    done = subprocess.run(command, capture_output=True, text=True, timeout=60)
    assert done.returncode == 3, done
    assert "cannot be read: no permission" in done.stderr


def test_zip_bomb_is_not_unpacked(slots: Desk) -> None:
    slots.settings(SETTINGS, XLSX).write("requests.xlsx", next(data for name, data, _ in BROKEN if name == "bomb"))
    assert "unpacks to an absurd size" in slots.run("run").err


def test_broken_event_file_is_told_by_agenda_and_hides_nothing_else(slots: Desk) -> None:
    slots.rows(R1)
    slots.run("run")
    whole = slots.events()[0].read_bytes()
    slots.write("domes/x.ics", whole[:-20])
    slots.write("domes/y.ics", whole.replace(b"UID:", b"X-UID:").replace(b"SUMMARY:M 42", b"SUMMARY:M 43"))
    result = slots.run("agenda", "--from", "2027-03-15")
    assert result.code == 2
    assert "not shown: domes/x.ics: is cut in the middle" in result.err
    assert "M 42" in result.out
    assert "M 43" in result.out  # its UID has gone, and it is there all the same
    told = slots.run("agenda", "--from", "2027-03-15", "--json")
    assert (told.code, len(told.json["unread"]), [each["title"] for each in told.json["events"]]) == (
        2,
        1,
        ["M 42", "M 43"],
    )


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["runn"], 'there is no command "runn"; did you mean run'),
        (["run", "slot"], 'there is no workflow "slot"; did you mean slots?'),
        (["agenda", "dome"], 'there is no calendar "dome"'),
        (["run", "--now", "soon"], '--now: "soon" is no moment'),
        (["run", "--now", "2027-03-28 00:30"], "does not exist in Atlantic/Azores"),
        (["agenda", "--from", "2027-03-15", "--until", "2027-03-14"], "--until is not later"),
        (["run", "--zone", "Moon/Base"], 'there is no zone "Moon/Base"'),
        (["check", "workflows/none.voca"], "there is no such file"),
        (["read", "sheet", "nothing.xlsx"], "there is no such file"),
        (["read", "sheet", "x.doc"], "sheets are read from .xlsx, .xlsm, .ods and .csv"),
        (["runs", "--since", "x"], '--since: "x" is no moment'),
    ],
)
def test_wrong_words_are_told_with_the_nearest_right_ones(slots: Desk, arguments: list[str], told: str) -> None:
    slots.rows(R1)
    result = slots.run(*arguments)
    assert result.code in (1, 2)
    assert told in result.err.replace("\n  ", "; ") + result.out


def test_no_workspace_is_told(desk: Desk) -> None:
    result = desk.drive("check")
    assert result.code == 2
    assert "there is no whenvoca.toml here or above" in result.err
    assert "whenvoca new DIR" in result.err


def test_unforeseen_error_is_one_line_and_a_report(slots: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object) -> None:
        raise ZeroDivisionError("odd")

    monkeypatch.setattr("whenvoca.cli.run.run_workflows", broken)
    slots.rows(R1)
    result = slots.run("run")
    assert result.code == 70
    assert len(result.err.splitlines()) == 1
    report = Path(result.err.split("the report is in ")[1].split(". Nothing")[0])
    assert "ZeroDivisionError" in report.read_text()
    report.unlink()


def test_closed_pipe_is_no_error(slots: Desk) -> None:
    import subprocess

    from tests.conftest import WHENVOCA

    done = subprocess.run(
        f"{WHENVOCA} words --all | head -1", shell=True, capture_output=True, text=True, timeout=60, cwd=slots.folder
    )
    assert done.stderr == ""
