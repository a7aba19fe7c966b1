"""`whenvoca new DIR`: an empty workspace with one commented workflow that passes `check`."""

from __future__ import annotations

import os
from pathlib import Path
from zoneinfo import ZoneInfo

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import say, say_next, show_json
from whenvoca.engine.lineage import new_root
from whenvoca.errors import PlaceTrouble, RequestFault
from whenvoca.values.zones import load_zone

_SETTINGS = """\
# A Whenvoca workspace. One table a place: [places.NAME]; NAME is the word a workflow uses for it.

[workspace]
name = "{name}"
root = "{root}"   # the root of all identities; never changed, not shared by two workspaces
zone = "{zone}"   # the zone of every place that names none

[places.requests]                 # a sheet: .xlsx, .xlsm or .csv
kind = "sheet"
file = "requests.csv"             # relative to this file
key  = "Request no"               # what makes a row the same row after sorting
# tab    = "Sheet1"               # of a workbook with several tabs
# header = 4                      # row of the headings; without it they are looked for
# dates  = "day first"            # decides texts such as 03/04/2027

[places.bookings]                 # a calendar: a folder with one .ics a file for each event
kind   = "calendar"
folder = "calendars/bookings"
"""

_WORKFLOW = """\
# Each row that nobody has answered yet becomes one event; the sheet says so, or says why not.
# Check it: whenvoca check          Run it: whenvoca run          Look up a word: whenvoca words create event
title "Requests become bookings"

when requests gains a row                     # "requests" is a place of whenvoca.toml
  where  Answer is empty                      # columns by their heading, blanks as hyphens

create event in bookings as booking
  title      Title
  start      Date at Begin                    # the column "Date", joined with the time in "Begin"
  end        Date at End                      # the next day by itself when End is earlier
  attendees  People                           # "ines@example.org, tomas@example.org"

change row
  Booking  booking.uid
  Answer   "granted"

if anything fails
  change row
    Answer  "not granted: {reason}"
"""

_SHEET = "Answer,Booking,Request no,Title,Date,Begin,End,People\r\n"


@click.command("new")
@click.argument("folder_path", metavar="DIR", type=click.Path(path_type=Path))
@common_options
def command(common: Common, folder_path: Path) -> int:
    """Make a workspace in DIR: settings, a sheet with headings, and one commented workflow that passes check.

    Example: whenvoca new bookings --zone Europe/Lisbon
    """
    if (folder_path / "whenvoca.toml").exists():
        raise RequestFault("there is a workspace already", where=str(folder_path), fix="choose another folder")
    zone = load_zone(common.zone).key if common.zone else _machine_zone()
    files = {
        "whenvoca.toml": _SETTINGS.format(
            name=folder_path.resolve().name.replace('"', "'"), root=new_root(), zone=zone
        ),
        "workflows/requests.voca": _WORKFLOW,
        "requests.csv": _SHEET,
    }
    standing = [name for name in files if (folder_path / name).exists()]
    if standing:
        raise RequestFault(f"there is already a {standing[0]}", where=str(folder_path), fix="choose an empty folder")
    try:
        for name, text in files.items():
            path = folder_path / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(text.encode())
    except OSError as error:
        raise PlaceTrouble(f"cannot be written: {error.strerror}", where=str(folder_path)) from error
    if common.as_json:
        show_json({"folder": str(folder_path), "files": sorted(files), "zone": zone})
    else:
        say(f"made {folder_path}: {', '.join(files)}; its zone is {zone}")
        say_next(
            f"write a row into {folder_path}/requests.csv, then: cd {folder_path} && whenvoca check", quiet=common.quiet
        )
    return 0


def _machine_zone() -> str:
    """The machine's own zone, UTC if it does not tell."""
    name = os.environ.get("TZ", "").lstrip(":")
    if not name:
        link = Path("/etc/localtime")
        if link.is_symlink():
            _, _, name = os.path.realpath(link).partition("zoneinfo/")
    try:
        return ZoneInfo(name).key if name else "UTC"
    except (ValueError, OSError):
        return "UTC"
