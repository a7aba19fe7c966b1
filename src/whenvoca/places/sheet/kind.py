"""The kind of place "sheet": one tab of a workbook or a CSV file."""

from __future__ import annotations

import os
from pathlib import Path

from msgspec.structs import replace

from whenvoca.engine.seeing.sources import SheetSource
from whenvoca.errors import SettingsFault
from whenvoca.language.definitions import column_word
from whenvoca.language.faults import nearest
from whenvoca.language.names import fold_name
from whenvoca.places.place_kind import Access, PlaceContext, PlaceKind
from whenvoca.places.settings import PlaceSettings
from whenvoca.places.sheet.backings import make_backing
from whenvoca.places.sheet.memory import SheetMemory
from whenvoca.places.sheet.open_file import OpenFile
from whenvoca.places.sheet.place import SheetPlace
from whenvoca.places.sheet.table import SheetSettings, to_hint_settings
from whenvoca.values.kinds import Kind

_TOTALS = "last row"  # the only place of a line of totals


def _open(settings: PlaceSettings, context: PlaceContext) -> SheetPlace:
    if not settings.text("file"):
        raise settings.refuse("", SHEET.missing, SHEET.example)
    read = _read_settings(settings, context)
    path = context.path(settings, "file")
    if sample := context.instead.get(settings.name.lower()):
        path = sample
        read = replace(read, file=str(sample), tab=None, header=None, encoding="", delimiter="", create=False)
    place = SheetPlace(settings.name, read, context.zone_of(settings), _open_file(settings, context, read, path))
    words = context.written.get(settings.name.lower(), ())
    place.wanted_headings = [word.replace("-", " ") if word == column_word(word) else word for word in words]
    place.written_words = frozenset(fold_name(word) for word in words)
    if not context.is_rehearsal:
        place.memory = SheetMemory.of(context.shared, context.workspace.state_folder)
    return place


def _open_file(settings: PlaceSettings, context: PlaceContext, read: SheetSettings, path: Path) -> OpenFile:
    """The file, which sheets on several tabs of it share."""
    real = Path(os.path.realpath(path))  # a link to itself stays what it is
    files: dict[Path, OpenFile] = context.shared.setdefault(OpenFile, {})
    if real not in files:
        backing = make_backing(
            path,
            encoding=read.encoding,
            delimiter=read.delimiter,
            decimal=read.decimal,
            dates=read.dates,
            refuse=settings,
        )
        files[real] = OpenFile(real, backing, context.clock, is_rehearsal=context.is_rehearsal)
    return files[real]


def _read_settings(settings: PlaceSettings, context: PlaceContext) -> SheetSettings:
    try:
        dates, decimal = to_hint_settings(settings.text("dates") or None, settings.text("decimal") or None)
    except SettingsFault as fault:
        raise settings.refuse("dates" if "dates" in fault.message else "decimal", fault.message) from fault
    if (totals := settings.text("totals")) not in ("", _TOTALS):
        raise settings.refuse("totals", f'totals = "{totals}" is not known', f'written: totals = "{_TOTALS}"')
    return SheetSettings(
        file=settings.text("file"),
        tab=settings.text("tab") or None,
        header=settings.number("header"),
        key=settings.texts("key"),
        dates=dates,
        decimal=decimal,
        kinds=_kinds(settings),
        encoding=settings.text("encoding"),
        delimiter=settings.text("delimiter"),
        create=settings.yes_no("create"),
        readonly=settings.yes_no("readonly"),
        totals=bool(totals),
        patience=context.workspace.patience,
        people=context.workspace.people_names,
    )


def _kinds(settings: PlaceSettings) -> dict[str, Kind]:
    found = {}
    for column, kind in settings.table("kinds").items():
        if kind not in set(Kind):
            fix = nearest(str(kind), list(Kind)) or f"one of: {', '.join(Kind)}"
            raise settings.refuse("kinds", f'there is no kind of column "{kind}"', fix)
        found[column] = Kind(kind)
    return found


SHEET = PlaceKind(
    name="sheet",
    settings="tab header key dates decimal kinds encoding delimiter create readonly totals",
    accesses=(Access(key="file", open=_open),),
    missing="the file is missing",
    example='such as file = "requests.xlsx"',
    source=SheetSource,
    pends=True,
)
