"""`whenvoca read`: how a source would be understood, with nothing done; here of a sheet."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click
from msgspec.structs import replace

from whenvoca.cli import reading, reading_mail, reading_samples
from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import Column, console, say, say_next, show_json, show_table, styled, to_json
from whenvoca.engine.clock import RealClock
from whenvoca.errors import RequestFault, SettingsFault, SourceFault, WhenvocaError
from whenvoca.language.faults import nearest
from whenvoca.places.sheet.backings import make_backing
from whenvoca.places.sheet.open_file import OpenFile
from whenvoca.places.sheet.place import SheetPlace
from whenvoca.places.sheet.reading import describe_table
from whenvoca.places.sheet.table import SheetSettings, to_hint_settings
from whenvoca.places.sheet.tabs import first_tab
from whenvoca.values.kinds import Kind

_MOST_DOUBTS = 12


@click.group("read")
def command() -> None:
    """Show how a source would be understood, before any workflow exists."""


command.add_command(reading.text)
command.add_command(reading_mail.mail)
command.add_command(reading_samples.entry)
command.add_command(reading_samples.call)


@command.command("sheet")
@click.argument("file", metavar="FILE|PLACE")
@click.option("--tab", default="", metavar="NAME", help="The tab: --tab Slots.")
@click.option("--header", type=click.IntRange(min=1), metavar="N", help="The row of the headings: --header 4.")
@click.option("--dates", default="", metavar="ORDER", help='How 03/04 is read: --dates "day first".')
@click.option("--decimal", default="", metavar="SIGN", help='The decimal sign: --decimal ",".')
@click.option("--kind", "kinds", multiple=True, metavar="COLUMN=KIND", help="What a column holds: --kind Month=text.")
@click.option("--encoding", default="", metavar="NAME", help="Of a CSV that is not UTF-8: --encoding windows-1252.")
@click.option("--delimiter", default="", metavar="SIGN", help='Of a CSV where it is not seen: --delimiter ";".')
@common_options
def sheet(
    common: Common,
    file: str,
    tab: str,
    header: int | None,
    dates: str,
    decimal: str,
    kinds: tuple[str, ...],
    encoding: str,
    delimiter: str,
) -> int:
    """Show the headings, columns, kinds and date formats of a sheet, and the cells in doubt.

    FILE is an .xlsx, .xlsm or .csv; the name of a sheet place of the workspace reads it with that place's settings.

    Example: whenvoca read sheet requests.xlsx --tab Slots
    """
    known = ""
    if not Path(file).exists() and (place := _named_place(common, file)) is not None:
        if tab or header or dates or decimal or kinds or encoding or delimiter:
            raise RequestFault(
                f"{place.name} is a place, which is read by its settings in whenvoca.toml",
                fix=f"change them there, or name the file: whenvoca read sheet {place.file}",
            )
        opened, others = place, []
        known = place.name
    else:
        order, sign = to_hint_settings(dates or None, decimal or None)
        settings = SheetSettings(
            file=Path(file).name, tab=tab or None, header=header, dates=order, decimal=sign, kinds=_kinds(kinds)
        )
        backing = make_backing(Path(file), encoding=encoding, delimiter=delimiter, decimal=sign, dates=order)
        opened = SheetPlace(Path(file).stem, settings, ZoneInfo("UTC"), OpenFile(Path(file), backing, RealClock()))
        others = _take_first_tab(opened)
    document = describe_table(opened.table(), str(opened.open_file.path) if common.verbose else opened.file)
    if others:
        document["notes"].append(f"there are other tabs, which --tab shows: {', '.join(others)}")
    if common.as_json:
        show_json(document)
    else:
        _show(to_json(document), common, known, _places_of(common, opened))
    return 0


def _take_first_tab(place: SheetPlace) -> list[str]:
    """Without a name the first tab that holds anything is looked at; answers the names of the others."""
    if place.settings.tab is not None:
        return []
    try:
        tab, others = first_tab(place.open_file.backing, place.open_file.data)
    except SourceFault as fault:
        raise SourceFault(fault.message, where=fault.where or place.file, fix=fault.fix) from fault
    if others:
        place.settings = replace(place.settings, tab=tab)
    return others


def _named_place(common: Common, name: str) -> SheetPlace | None:
    try:
        places = common.open().places
        found = places.open_named(name)
    except SettingsFault:
        if Path(name).suffix:
            return None
        raise  # a place is meant, and the workspace cannot be read
    if not isinstance(found, SheetPlace) and not Path(name).suffix:
        sheets = [each for each in places.names() if places.kind_of(each) == "sheet"]
        raise RequestFault(
            f'there is no file "{name}", and no sheet of that name in whenvoca.toml', fix=nearest(name, sheets)
        )
    return found if isinstance(found, SheetPlace) else None


def _places_of(common: Common, opened: SheetPlace) -> list[str]:
    """The places of the workspace at hand that are this very tab; none where there is no workspace."""
    try:
        places = common.open().places
        paths = places.watched_paths()
        found = [places.open_named(name) for name, files in paths.items() if opened.open_file.path.absolute() in files]
    except WhenvocaError:
        return []
    tab = opened.tab_name.casefold()
    return [
        each.name for each in found if isinstance(each, SheetPlace) and (each.settings.tab or tab).casefold() == tab
    ]


def _kinds(given: tuple[str, ...]) -> dict[str, Kind]:
    found = {}
    for each in given:
        column, _, kind = each.partition("=")
        if kind not in set(Kind):
            raise RequestFault(
                f'--kind: "{each}" is not understood', fix=f"such as Month=text; kinds: {', '.join(Kind)}"
            )
        found[column] = Kind(kind)
    return found


def _show(document: dict[str, Any], common: Common, shown_as: str, places: Sequence[str]) -> None:
    """``shown_as`` is the place that was asked for; ``places`` are those that the file is."""
    tab = f", tab {document['tab']}" if document["tab"] else ""
    console().print(
        f"{document['file']}{tab}: headings in row {document['header_row']}, {document['rows']} "
        f"row{'s' * (document['rows'] != 1)}",
        soft_wrap=True,
    )
    _show_columns(document["columns"])
    unread = [cell for column in document["columns"] for cell in column["cells"] if cell["fault"]]
    for cell in unread[:_MOST_DOUBTS]:
        console().print(styled(f"{cell['cell']}: {cell['fault']}", "yellow"), soft_wrap=True)
    if len(unread) > _MOST_DOUBTS:
        say(f"and {len(unread) - _MOST_DOUBTS} more cells in doubt: --json names them all")
    for note in document["notes"]:
        say(f"note: {note}")
    say_next(_next(document, shown_as, places), quiet=common.quiet)


def _show_columns(columns: Sequence[dict[str, Any]]) -> None:
    rows = []
    for column in columns:
        status = styled(column["status"], "" if column["status"] == "ok" else "yellow")
        sample = next((cell["text"] for cell in column["cells"] if not cell["fault"]), "")
        doubts = sum(1 for cell in column["cells"] if cell["fault"])
        rows.append(
            (
                column["letter"],
                column["name"],
                column["kind"],
                column["format"] or "",
                status,
                len(column["cells"]),
                doubts or "",
                sample.replace("\n", " ")[:28],
            )
        )
    show_table(
        [
            Column("", align="right"),
            Column("column"),
            Column("kind"),
            Column("format", drop=1),
            Column("read"),
            Column("filled", drop=2, align="right"),
            Column("in doubt", align="right"),
            Column("such as", drop=3),
        ],
        rows,
    )


def _next(document: dict[str, Any], shown_as: str, places: Sequence[str]) -> str:
    """What to do next with a file that was shown."""
    open_columns = [column for column in document["columns"] if column["status"] != "ok"]
    if open_columns:
        setting = "decimal" if open_columns[0]["kind"] == "number" else "dates"
        value = '","' if setting == "decimal" else f'"{next(iter(open_columns[0]["readings"]))}"'
        return f"say how they are meant: --{setting} {value} here, {setting} = {value} at the place"
    if shown_as:
        return "whenvoca check"
    if places:
        return f"with the settings of the place {places[0]}: whenvoca read sheet {places[0]}"
    return "name it in whenvoca.toml and write a workflow, such as: whenvoca new DIR"
