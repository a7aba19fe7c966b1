"""What all commands share: their common options, and the workspace that these name."""

from __future__ import annotations

import functools
import re
from calendar import monthrange
from collections.abc import Callable
from datetime import date, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click
from msgspec import Struct

from whenvoca.engine.clock import Clock, PlayedClock, RealClock
from whenvoca.engine.workspace.settings import find_workspace, load_workspace
from whenvoca.errors import RequestFault, RowFault, SettingsFault
from whenvoca.open_workspace import OpenWorkspace, open_workspace
from whenvoca.values.times import shape_moment
from whenvoca.values.usable import refuse_unusable
from whenvoca.values.zones import load_zone, to_moment


class Common(Struct, frozen=True):
    """The common options of one command."""

    folder: Path | None = None
    as_json: bool = False
    now: str = ""
    zone: str = ""
    verbose: bool = False
    quiet: bool = False

    def clock(self, zone: ZoneInfo) -> Clock:
        """The machine's clock, or one that stands at ``--now``. Raises RequestFault if that is no moment."""
        return PlayedClock(parse_moment(self.now, zone, "--now")) if self.now else RealClock()

    def open(self, *, with_root: bool = False) -> OpenWorkspace:
        """The workspace with its places."""
        zone = load_zone(self.zone) if self.zone else self._workspace_zone()
        opened = open_workspace(self.folder, self.clock(zone), zone=self.zone, with_root=with_root)
        if (context := click.get_current_context(silent=True)) is not None:
            context.call_on_close(opened.places.close)  # a command may be one of many in a process that goes on
            connected = context.find_root().obj
            if isinstance(connected, OpenWorkspace) and connected.workspace.folder.samefile(opened.workspace.folder):
                opened.places.borrow(connected.places)
        return opened

    def open_again(self, opened: OpenWorkspace) -> OpenWorkspace:
        """The same workspace as its files stand now, with the same clock."""
        return open_workspace(opened.workspace.folder, opened.clock, zone=self.zone)

    def _workspace_zone(self) -> ZoneInfo:
        if not self.now:
            return ZoneInfo("UTC")  # the real clock needs none
        return load_workspace(self.folder or find_workspace()).zone


def parse_moment(text: str, zone: ZoneInfo, option: str) -> datetime:
    """A moment given on the command line, in ``zone`` unless it carries an offset. Raises RequestFault."""
    found = _parse_moment(text, zone, option)
    try:
        refuse_unusable(found, "moment")
    except RowFault as fault:
        raise RequestFault(f"{option}: {fault.message}", fix='such as "2027-03-17 16:20"') from fault
    return found


def _parse_moment(text: str, zone: ZoneInfo, option: str) -> datetime:
    shaped = shape_moment(text)
    if shaped is None or not shaped.is_settled:
        from whenvoca.values.dates import shape_date

        day = shape_date(text)
        if day is not None and day.is_settled:
            return datetime(day.fits[""].year, day.fits[""].month, day.fits[""].day, tzinfo=zone)
        why = _no_such_day(text) or f'"{text}" is no moment that can be read in one way'
        raise RequestFault(f"{option}: {why}", fix='such as "2027-03-17 16:20"')
    wall: datetime = shaped.fits[""]
    try:
        return wall if wall.tzinfo else to_moment(wall, zone)
    except RowFault as fault:
        raise RequestFault(f"{option}: {fault.message}", fix=fault.fix) from fault


def _no_such_day(text: str) -> str:
    """Why a day that is written as one is none: how long its month is."""
    found = re.match(r"(\d{4})-(\d{2})-(\d{2})\b", text, re.ASCII)
    if not found or not (1 <= int(found[2]) <= 12 and int(found[1])):
        return ""
    days = monthrange(int(found[1]), int(found[2]))[1]
    if 1 <= int(found[3]) <= days:
        return ""
    return f"there is no day {found[3]} in {date(int(found[1]), int(found[2]), 1):%B %Y}, which has {days} days"


def common_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Adds the options that all commands have, and hands them over as ``common``."""

    @click.option(
        "--workspace",
        "folder",
        type=click.Path(file_okay=False, path_type=Path),
        metavar="DIR",
        help="The workspace; otherwise the nearest folder upwards with a whenvoca.toml.",
    )
    @click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output; see docs/json.md.")
    @click.option("--now", default="", metavar="MOMENT", help='Do as if it were then: --now "2027-03-17 16:20".')
    @click.option("--zone", default="", metavar="ZONE", help="Instead of the workspace's zone: --zone Europe/Lisbon.")
    @click.option("--verbose", is_flag=True, help="Say more.")
    @click.option("--quiet", is_flag=True, help="Say only what was asked for.")
    @functools.wraps(function)
    def wrapped(
        *args: Any, folder: Path | None, as_json: bool, now: str, zone: str, verbose: bool, quiet: bool, **more: Any
    ) -> Any:
        if folder is not None and not folder.is_dir():
            raise SettingsFault("there is no such folder", where=str(folder))
        return function(*args, common=Common(folder, as_json, now, zone, verbose, quiet), **more)

    return wrapped
