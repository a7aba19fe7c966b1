"""`whenvoca demo [DIR]`: writes the Larkmoor workspace and plays the tour."""

from __future__ import annotations

import html
import json
import re
import shlex
import sys
from collections.abc import Iterator
from importlib import resources
from importlib.util import find_spec
from pathlib import Path
from typing import Any

import click

from whenvoca.cli.show.output import console, styled
from whenvoca.demo.emails import deliver_emails
from whenvoca.demo.larkmoor import LATER, NOW, change_duties, change_requests, move_visit, write_workspace
from whenvoca.errors import RequestFault

_VISITORS = (
    "Others come by the web. watch serves forms and web calls, and answers with what was done. Here two people ask\n"
    "for the small telescope by the form, the second for days that are taken, and a school's page posts a teacher."
)

_EMAILS = (
    "And they write emails. Two schools ask for a visit, one of them without a day; an absence note comes in; and the\n"
    "teacher, who was invited when she joined, accepts."
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
    _play(folder, "before")
    _tell("The sheet as it is now: the first three columns were empty before.")
    _show_sheet(folder)
    _play(folder, "after")
    _tell("Somebody corrects the night of R-105 in the workbook and adds two rows, R-109 and R-110.")
    change_requests(folder / "requests.xlsx")
    _play(folder, "changed")
    _tell("Somebody moves a duty, withdraws one, deletes one and sorts the rota by person.")
    change_duties(folder / "duties.csv")
    _play(folder, "moved")
    _play(folder, "speaking")
    _tell("Somebody moves the visit of Sea School to the afternoon, in the calendar.")
    move_visit(folder / "calendars/outreach")
    _play(folder, "watched")
    _tell("What was said in the rooms, and what people show:")
    _show_chat(folder)
    _play(folder, "by hand", now=LATER)
    _tell(_VISITORS)
    _show_visits(folder)
    _play(folder, "visited", now=LATER)
    _tell(_EMAILS)
    deliver_emails(folder)
    _play(folder, "written", now=LATER)
    _tell(f"That was the tour. Go on by hand: cd {folder}, look into workflows/, change requests.xlsx, whenvoca run.")
    return 0


def _tell(text: str) -> None:
    sys.stderr.flush()
    console().print()
    for line in text.split("\n"):
        console().print(styled(line, "italic cyan"), soft_wrap=True)
    sys.stdout.flush()


def _stops(part: str) -> Iterator[tuple[str, list[str]]]:
    """The stops of a part of the tour, as demo/tour.txt has them: what is told, then the commands to type."""
    tour = (resources.files("whenvoca.demo") / "tour.txt").read_text(encoding="utf-8")
    (said,) = [each for each in tour.split("\n= ") if each.removeprefix("= ").startswith(part + "\n")]
    for stop in said.partition("\n")[2].strip("\n").split("\n\n"):
        lines = stop.split("\n")
        yield (
            "\n".join(line for line in lines if not line.startswith("$ ")),
            [line.removeprefix("$ ") for line in lines if line.startswith("$ ")],
        )


def _play(folder: Path, part: str, now: str = NOW) -> None:
    from whenvoca.cli.main import run_command

    for text, commands in _stops(part):
        _tell(text)
        for written in commands:
            line = written.replace("{last}", str(_newest_run(folder))) if "{last}" in written else written
            console().print(styled(f"\n$ whenvoca {line}", "bold"), soft_wrap=True)
            sys.stdout.flush()
            words = [str(folder / word) if word.endswith((".png", ".eml")) else word for word in shlex.split(line)]
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


def _show_visits(folder: Path) -> None:
    """Somebody borrows the small telescope by the form, somebody else is too late, and a school's page posts."""
    if find_spec("uvicorn") is None or find_spec("httpx") is None:
        _tell("(This needs: pip install 'whenvoca[web,server]')")
        return
    from whenvoca.cli.demo_visitors import post_to_the_door
    from whenvoca.errors import PlaceTrouble

    loan = {"Address": "joana@example.org", "Out": "2027-04-02", "Back": "2027-04-05", "Purpose": "at school"}
    late = {"Address": "marta@example.org", "Out": "2027-04-04", "Back": "2027-04-07", "Purpose": "at home"}
    teacher = {"id": "post-1", "visit": "V-11", "teacher": {"name": "Joana", "mail": "joana@example.org"}}
    visits: list[tuple[str, dict[str, Any]]] = [
        ("lending", {"Name": "Joana", **loan}),
        ("lending", {"Name": "Marta", **late}),
        ("school-page", teacher),
    ]
    try:
        for url, given, answer in post_to_the_door(folder, LATER, visits):
            told = "; ".join(f"{name} {json.dumps(value)}" for name, value in given.items())
            console().print(styled(f"\nPOST {url}", "bold"), soft_wrap=True)
            console().print(f"  {told}", soft_wrap=True, highlight=False)
            said = answer.text if "json" in answer.headers["content-type"] else _first_words(answer.text)
            console().print(f"{answer.status_code}: {said}", soft_wrap=True, highlight=False)
    except PlaceTrouble as trouble:
        _tell(f"(The door cannot be opened now: {trouble.message})")


def _first_words(page: str) -> str:
    """What a page says first of all, and what was booked."""
    body = page.partition("<main")[2].partition("</h1>")[2].partition("<form")[0].partition('<p class="quiet"')[0]
    return " ".join(html.unescape(re.sub(r"<[^>]+>", " ", body)).split())


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
