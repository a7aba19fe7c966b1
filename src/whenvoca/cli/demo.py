"""`whenvoca demo [DIR]`: writes the Larkmoor workspace and plays the tour."""

from __future__ import annotations

import shlex
import sys
from pathlib import Path

import click

from whenvoca.cli.show.output import console, styled
from whenvoca.demo.larkmoor import LATER, NOW, change_duties, change_requests, move_visit, write_workspace
from whenvoca.errors import RequestFault

# Each stop of the tour: what is told, then the commands that are run as a person would type them.
_BEFORE: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "Larkmoor is a made-up observatory. People ask for nights at a dome in a workbook; schools ask for visits in "
        "a CSV file.\n"
        "First look at the source. The headings stand on row 4; R-105 asks for a night that does not exist.",
        ("read sheet requests",),
    ),
    (
        "Workflows say what is to be done, in sentences. They are checked against the real sheets before they run.",
        ("check",),
    ),
    (
        "Before anything is turned on, look what it would do. Here for one row: the very same steps run, and nothing "
        "is written.",
        ("rehearse slot-requests --row 7",),
    ),
    ("Now run them. Each row is one run: a bad row is told in the sheet and never stops the others.", ("run",)),
    (
        "The bookings stand in the calendars. Nights pass midnight by themselves, and the log sheet was made on the "
        "way.",
        ("agenda --from 2027-03-15 --until 2027-04-15",),
    ),
)
_AFTER: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("A second run finds nothing new and writes nothing at all.", ("run",)),
)
_CHANGED: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "Only those rows run: R-105 because it was corrected, the two new ones because they are new. R-110 asks for "
        "half past\n"
        "midnight in the night of 28 March, an hour that the clocks skip at Larkmoor: that is said, not moved in "
        "silence.",
        ("run slot-requests",),
    ),
    (
        "What happened is written down, and why: each condition with its values, each field, each effect.",
        ("runs --limit 6", "explain --workflow slot-requests --row 10"),
    ),
    ("The week as a grid; --png and --html make a picture of it.", ("agenda domes outreach --from 2027-03-15 --week",)),
)


_MOVED: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "The staff calendar mirrors the rota: one event is changed and two are taken away; the rows that were only "
        "sorted are\n"
        "not touched.",
        ("run duties-mirror",),
    ),
    (
        "That was wrong? A run can be taken back: its events, rows and cells come back as they were. Here the last "
        "one.",
        ("undo {last} --yes",),
    ),
)


_SPEAKING: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "The other half: the calendar speaks. What would its workflows do from now to Wednesday morning? The clock is "
        "played.",
        ('rehearse evening-sheet observer-presence --from "2027-03-15 15:00" --until "2027-03-17 06:00"',),
    ),
)
_WATCHED: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "Now in earnest: watch takes up every change and moment by itself. Here two afternoons and a night of it, "
        "played in a second.",
        ('watch --until "2027-03-17 06:00"',),
    ),
)
_BY_HAND: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "Some workflows wait for a hand, or are started once by hand: somebody's quiet hour, and the sheet of the "
        "past weeks.",
        ("run quiet-hours --give who=tomas", "run past-weeks", "read sheet activity", "places"),
    ),
    (
        "The calendar can be asked in your own words: here, or by chat, where a workflow hears messages and answers "
        "them.",
        (
            'say "anything on thursday?"',
            'say "make lens test friday 14:20 for 50 min" --as ines --leave',
            'say "push it back by half an hour" --as ines --leave',
            "run calendar-desk",
        ),
    ),
    ("And the picture of the week.", ("agenda --from 2027-03-15 --png week.png",)),
)


@click.command("demo")
@click.argument("folder", metavar="[DIR]", required=False, type=click.Path(file_okay=False, path_type=Path))
@click.option("--keep-still", is_flag=True, help="Only write the workspace; play nothing.")
def command(folder: Path | None, keep_still: bool) -> int:
    """Write the Larkmoor workspace into DIR (larkmoor unless named) and play the tour.

    Example: whenvoca demo /tmp/larkmoor
    """
    folder = folder or Path("larkmoor")
    if folder.exists() and any(folder.iterdir()):
        raise RequestFault("is not empty", where=str(folder), fix="name another folder: whenvoca demo DIR")
    write_workspace(folder)
    if keep_still:
        click.echo(f"the Larkmoor workspace is in {folder}", err=True)
        click.echo(f"next: cd {folder} && whenvoca check", err=True)
        return 0
    _tell(f"The Larkmoor workspace is written into {folder}. Its clock stands at {NOW}.")
    _play(folder, _BEFORE)
    _tell("The sheet as it is now: the first three columns were empty before.")
    _show_sheet(folder)
    _play(folder, _AFTER)
    _tell("Somebody corrects the night of R-105 in the workbook and adds two rows, R-109 and R-110.")
    change_requests(folder / "requests.xlsx")
    _play(folder, _CHANGED)
    _tell("Somebody moves a duty, withdraws one, deletes one and sorts the rota by person.")
    change_duties(folder / "duties.csv")
    _play(folder, _MOVED)
    _play(folder, _SPEAKING)
    _tell("Somebody moves the visit of Sea School to the afternoon, in the calendar.")
    move_visit(folder / "calendars/outreach")
    _play(folder, _WATCHED)
    _tell("What was said in the rooms, and what people show:")
    _show_chat(folder)
    _play(folder, _BY_HAND, now=LATER)
    _tell(f"That was the tour. Go on by hand: cd {folder}, look into workflows/, change requests.xlsx, whenvoca run.")
    return 0


def _tell(text: str) -> None:
    sys.stderr.flush()
    console().print()
    for line in text.split("\n"):
        console().print(styled(line, "italic cyan"), soft_wrap=True)
    sys.stdout.flush()


def _play(folder: Path, stops: tuple[tuple[str, tuple[str, ...]], ...], now: str = NOW) -> None:
    from whenvoca.cli.main import run_command

    for text, commands in stops:
        _tell(text)
        for written in commands:
            line = written.replace("{last}", str(_newest_run(folder))) if "{last}" in written else written
            console().print(styled(f"\n$ whenvoca {line}", "bold"), soft_wrap=True)
            sys.stdout.flush()
            words = [str(folder / word) if word.endswith(".png") else word for word in shlex.split(line)]
            run_command([*words, "--workspace", str(folder), "--now", now])
            sys.stdout.flush()
            sys.stderr.flush()


def _newest_run(folder: Path) -> int:
    from whenvoca.engine.ledger.sqlite import SqliteLedger

    ledger = SqliteLedger.copy_of(folder / ".whenvoca/ledger.sqlite")
    try:
        return ledger.runs(workflow="duties-mirror", limit=1)[0].number
    finally:
        ledger.close()


def _show_chat(folder: Path) -> None:
    import json

    from whenvoca.cli.show.output import Column, show_table

    lines = []
    for path in sorted((folder / "chat/rooms").glob("*.jsonl")):
        for message in map(json.loads, path.read_text(encoding="utf-8").splitlines()):
            lines.append((f"{message['at'][8:10]} Mar {message['at'][11:16]}", path.stem, message["text"]))
    show_table([Column("when"), Column("room"), Column("said", wraps=True)], lines)


def _show_sheet(folder: Path) -> None:
    from whenvoca.cli.show.output import Column, show_table
    from whenvoca.places.sheet.xlsx_file import XlsxFile
    from whenvoca.values.kinds import show_raw

    grid = XlsxFile().load((folder / "requests.xlsx").read_bytes(), "Slots")
    rows = [[show_raw(cell) for cell in row] for row in grid.rows[4:]]
    show_table(
        [Column("Request no"), Column("Night of"), Column("Answer", wraps=True), Column("Booking")],
        [(row[3], row[4], row[0], (row[1][:13] + "…") if row[1] else "") for row in rows],
    )
