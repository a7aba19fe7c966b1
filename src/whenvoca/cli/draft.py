"""`whenvoca draft`: a first workflow for a strange spreadsheet; or the other way, a sheet filled from a calendar."""

from __future__ import annotations

from datetime import date, datetime, time
from pathlib import Path
from typing import Any

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import console, say, say_next, show_json
from whenvoca.engine.clock import RealClock
from whenvoca.engine.workspace.settings import add_place
from whenvoca.errors import RequestFault
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.files import replace_file
from whenvoca.places.sheet.backings import make_backing
from whenvoca.places.sheet.drafting import Draft, draft_workflow, place_word
from whenvoca.places.sheet.grid import TabWrites
from whenvoca.places.sheet.open_file import OpenFile
from whenvoca.places.sheet.table import SheetSettings, Table, read_table
from whenvoca.places.sheet.tabs import first_tab

_VALIDATED_BELOW = 500  # empty rows below the data that take dates only, too


@click.command("draft")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False), metavar="[FILE]", required=False)
@click.option(
    "--from-mail",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="From an example email (.eml) instead: --from-mail request.eml --into outreach.",
)
@click.option(
    "--into", default="", metavar="CALENDAR", help="The calendar that its rows are to stand in: --into domes."
)
@click.option(
    "--out-of", default="", metavar="CALENDAR", help="The other way: fill FILE with the events of that calendar."
)
@click.option("--name", default="", metavar="NAME", help="What place and workflow are called; else after the file.")
@click.option("--tab", default="", metavar="NAME", help="The tab: --tab Slots.")
@click.option("--dates", default="", metavar="ORDER", help='How 03/04 is read: --dates "day first".')
@click.option("--prepare", is_flag=True, help="Add the outcome columns to the sheet, and date validation to its dates.")
@common_options
def command(
    common: Common,
    file: Path | None,
    from_mail: Path | None,
    into: str,
    out_of: str,
    name: str,
    tab: str,
    dates: str,
    prepare: bool,
) -> int:
    """Look at a spreadsheet, or an example email, and write a first workflow, with the place in whenvoca.toml.

    Headings are found, columns matched to the fields of an event by name and by content; what is a guess is marked
    "unsure" in the file. With --out-of it goes the other way: the events of a calendar are filled into a new FILE, and
    a mirror is written that adopts them by their UIDs, so that they can be edited in the sheet.

    Example: whenvoca draft requests.xlsx --into domes --prepare
    """
    if bool(into) == bool(out_of):
        raise RequestFault("say the calendar: --into CALENDAR, or --out-of CALENDAR")
    if (file is None) == (from_mail is None) or (from_mail is not None and not into):
        raise RequestFault(
            "say one file", fix="whenvoca draft FILE, or: whenvoca draft --from-mail FILE --into CALENDAR"
        )
    opened = common.open(with_root=True)
    calendar = _calendar_named(opened, into or out_of)
    if from_mail is not None:
        from whenvoca.cli.draft_from_mail import draft_from_mail

        return draft_from_mail(common, opened, from_mail, calendar, name)
    assert file is not None
    word = place_word(name or file.stem)
    workflow = opened.workspace.folder / f"workflows/{word}.voca"
    if word in {each.lower() for each in opened.places.names()}:
        raise RequestFault(f'there is a place "{word}" already', fix="name another one: --name NAME")
    if workflow.exists():
        raise RequestFault("is there already", where=str(workflow), fix="name another one: --name NAME")
    if out_of:
        draft, settings, count = _fill(opened, file, word, calendar)
    else:
        draft, settings = _look(opened, file, word, calendar, tab, dates, prepare=prepare)
        count = 0
    add_place(opened.workspace, word, settings, [f"unsure: {each}" for each in draft.unsure])
    workflow.parent.mkdir(exist_ok=True)
    replace_file(workflow, draft.workflow.encode())
    if common.as_json:
        show_json(
            {
                "place": word,
                "workflow": f"workflows/{word}.voca",
                "unsure": draft.unsure,
                "settings": settings,
                "filled": count,
                "text": draft.workflow,
            }
        )
        return 0
    if count:
        say(f"{count} events are filled into {file}")
    console().print(draft.workflow.rstrip(), soft_wrap=True, highlight=False, markup=False)
    say(f"written: workflows/{word}.voca, and the place {word} into whenvoca.toml")
    for each in draft.unsure:
        say(f"unsure: {each}", style="yellow")
    if draft.missing_outcomes and not prepare and not out_of:
        say(
            f"the sheet has no column {' or '.join(draft.missing_outcomes)} to answer into; --prepare adds them",
            style="yellow",
        )
    if count:
        say_next(
            f"whenvoca run {word} takes the events over as they are; what is edited then follows", quiet=common.quiet
        )
    else:
        say_next(f"whenvoca check {word}, then whenvoca rehearse {word}", quiet=common.quiet)
    return 0


def _calendar_named(opened: OpenWorkspace, name: str) -> str:
    names = [each for each in opened.places.names() if opened.places.kind_of(each) == "calendar"]
    found = next((each for each in names if each.lower() == name.lower()), None)
    if found is None:
        raise RequestFault(f'there is no calendar "{name}" in whenvoca.toml', fix=nearest(name, names))
    return found


def _look(
    opened: OpenWorkspace, file: Path, word: str, calendar: str, tab: str, dates: str, *, prepare: bool
) -> tuple[Draft, dict[str, Any]]:
    open_file = OpenFile(file, make_backing(file), RealClock())
    if prepare and open_file.backing.unwritable:
        raise RequestFault(f"cannot be prepared: {open_file.backing.unwritable}", where=str(file))
    order = dates or opened.workspace.dates
    first, others = ("", []) if tab else first_tab(open_file.backing, open_file.data)
    tab = first if others else tab
    read = SheetSettings(file=file.name, tab=tab or None, dates=None, people=opened.workspace.people_names)
    table = read_table(file.name, open_file.backing.load(open_file.data, tab or None), read, file.name)
    draft = draft_workflow(table, word, calendar, day_order=order)
    if prepare and draft.missing_outcomes:
        _prepare(open_file, table, draft)
        table = read_table(file.name, open_file.backing.load(open_file.load(), tab or None), read, file.name)
        draft = draft_workflow(table, word, calendar, day_order=order)
    elif prepare:
        _prepare(open_file, table, draft)
    if others:
        draft.unsure.append(f"the tab {tab} was taken; there are also {', '.join(others)}")
    settings: dict[str, Any] = {"kind": "sheet", "file": _relative(opened, file)}
    if tab:
        settings["tab"] = tab
    if table.header:
        settings["header"] = table.header + 1
    return draft, {**settings, **draft.settings}


def _relative(opened: OpenWorkspace, file: Path) -> str:
    try:
        return file.resolve().relative_to(opened.workspace.folder.resolve()).as_posix()
    except ValueError:
        return str(file.resolve())


def _prepare(open_file: OpenFile, table: Table, draft: Draft) -> None:
    """Adds the outcome columns behind the others, and date validation; the file is replaced once."""
    used = max((heading.index for heading in table.headings), default=-1)
    cells = {(table.header, used + 1 + n): name for n, name in enumerate(draft.missing_outcomes)}
    data = open_file.data
    if cells:
        data = open_file.backing.patch(data, {table.grid.tab: TabWrites(cells=dict(cells))})
    columns = [heading.index for heading in table.headings if heading.name in draft.date_columns]
    if columns and open_file.path.suffix.lower() in (".xlsx", ".xlsm"):
        from whenvoca.places.sheet.xlsx_validation import add_date_validation

        last = draft.totals_row - 2 if draft.totals_row else table.last_row + _VALIDATED_BELOW
        data = add_date_validation(data, table.grid.tab, columns, table.header + 1, last)
    replace_file(open_file.path, data)


# --- the other way

_HEADINGS = ("Booking", "Title", "Day", "From", "Last day", "To", "Location", "Details", "People", "Optional")
_MIRROR = """\
# Filled from the calendar {calendar}: edit the rows, look with whenvoca rehearse {name}, then whenvoca run {name}.
# The events are adopted by the UID in Booking; a new row makes a new one, a deleted row takes its event away.
title "The calendar {calendar} follows its sheet"
brake 3 deletions

when {name} gains, changes or loses a row
  where  Title is filled

let whole = if From is empty then Day

mirror event in {calendar}
  uid        Booking
  title      Title
  start      Day at From
  end        Last-day at To
  first-day  whole
  last-day   if From is empty then Last-day
  location   Location
  details    Details
  attendees  People
  optional   Optional
"""


def _fill(opened: OpenWorkspace, file: Path, word: str, calendar: str) -> tuple[Draft, dict[str, Any], int]:
    if file.exists():
        raise RequestFault("is there already", where=str(file), fix="name a new file")
    found: Any = opened.places.open_named(calendar)
    events = sorted(found.all_events(), key=lambda event: event.span(found.zone)[0])
    single = [event for event in events if not (event.is_series or event.occurrence)]
    rows = [_row_of(event, found.zone) for event in single]
    draft = Draft(workflow=_MIRROR.format(calendar=calendar, name=word))
    series = len({event.uid for event in events if event.is_series})
    if series:
        left_out = "one repeating event was" if series == 1 else f"{series} repeating events were"
        draft.unsure.append(f"{left_out} left out: a row stands for one event")
    backing = make_backing(file)
    cells = {
        (n, column): value for n, row in enumerate(rows, 1) for column, value in enumerate(row) if value is not None
    }
    tab = backing.new_tab
    replace_file(file, backing.patch(None, {tab: TabWrites(cells=cells, headings=list(_HEADINGS))}))
    kinds = {"Day": "date", "Last day": "date", "From": "time", "To": "time"}
    kinds |= {"People": "addresses", "Optional": "addresses"}
    settings = {"kind": "sheet", "file": _relative(opened, file), "kinds": kinds}
    return draft, settings, len(rows)


def _row_of(event: Any, zone: Any) -> list[Any]:
    needed, optional = (
        ", ".join(each.address for each in event.attendees if each.optional is is_optional) or None
        for is_optional in (False, True)
    )
    texts = [event.location or None, event.details or None, needed, optional]
    if event.is_whole_day:
        return [event.uid, event.title or "(no title)", event.start, None, event.last_day, None, *texts]
    start, end = (each.astimezone(zone) for each in event.span(zone))
    return [event.uid, event.title or "(no title)", _day(start), _clock(start), _day(end), _clock(end), *texts]


def _day(moment: datetime) -> date:
    return moment.date()


def _clock(moment: datetime) -> time:
    return moment.time().replace(microsecond=0)
