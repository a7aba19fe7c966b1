"""A sheet as it stands in its file: headings, rows with their cells, and how each column is read."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from itertools import zip_longest
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.engine.place_protocols import RowState
from whenvoca.errors import RowFault, SettingsFault
from whenvoca.language.definitions import ColumnInfo, column_word
from whenvoca.language.names import fold_name
from whenvoca.places.sheet.grid import Grid, cell_name
from whenvoca.places.sheet.headings import Heading, find_header, find_twice, read_headings
from whenvoca.places.sheet.rowkeys import find_booking_column
from whenvoca.values.columns import ColumnHints, ColumnReading, Unread, read_column
from whenvoca.values.dates import parse_order
from whenvoca.values.kinds import Kind, Raw, show_raw
from whenvoca.values.numbers import COMMA, POINT
from whenvoca.values.zones import to_moment

_MOST_KEPT = 10_000  # readings of a column


class SheetSettings(Struct, frozen=True, kw_only=True):
    """A sheet place's settings. ``header`` counts from 1, None: it is looked for."""

    file: str
    tab: str | None = None
    header: int | None = None
    key: tuple[str, ...] = ()
    dates: str | None = None
    decimal: str | None = None
    kinds: Mapping[str, Kind] = field(default_factory=dict)
    encoding: str = ""
    delimiter: str = ""
    create: bool = False
    readonly: bool = False
    totals: bool = False
    people: frozenset[str] = frozenset()  # names that may stand where addresses do
    patience: float = 5.0  # seconds to wait for a workbook that is open elsewhere


class Readings(dict[tuple[type, Raw], Any]):
    """What a column's cells come to, by their type and content: each that comes again is read once."""

    def __init__(self, read: Callable[[Raw], Any]) -> None:
        self._read = read

    def __missing__(self, cell: tuple[type, Raw]) -> Any:
        value = self._read(cell[1])
        if len(self) < _MOST_KEPT:
            self[cell] = value
        return value


def _to_readings(reading: ColumnReading) -> Readings | None:
    """None where cells are texts, and so what they come to."""
    return None if reading.kind is Kind.TEXT else Readings(reading.read)


class Table(Struct):
    """One tab read: ``rows`` are the numbers (from 0) and cells of the filled rows below the headings."""

    file: str
    grid: Grid
    header: int
    headings: list[Heading]
    readings: dict[str, ColumnReading]
    rows: list[tuple[int, list[Raw]]]
    twice: dict[str, str]
    totals_row: int = 0  # the number of the line of totals, 0 if there is none
    booking: str = ""  # the column that keeps the UID of what a row became
    names: list[str] = field(default_factory=list)  # of the columns from A on, empty where there is no heading
    by_word: dict[str, Heading] = field(default_factory=dict)
    fields: dict[str, tuple[str, Readings | None]] = field(default_factory=dict)  # word: name, what its cells come to

    def where(self, row: int | None, column: int) -> str:
        """A cell as messages name it: requests.xlsx, Slots!C7."""
        name = cell_name(row, column) if row is not None else f"column {cell_name(0, column)[:-1]}"
        return f"{self.file}, {self.grid.tab}!{name}" if self.grid.tab else f"{self.file}, {name}"

    def state_of(self, cells: list[Raw]) -> dict[str, Raw]:
        """A row's filled cells by column name."""
        return {name: cell for name, cell in zip(self.names, cells, strict=False) if cell is not None and name}

    def only_type(self, name: str) -> type | None:
        """The one type of a column's cells; None where there are several, or another column has the same name."""
        reading = self.readings.get(name)
        return reading.only if reading is not None and self.names.count(name) == 1 else None

    def read_again(self, names: Iterable[str]) -> None:
        """Reads these columns anew, after cells in them were written."""
        for heading in self.headings:
            if heading.name in names:
                index = heading.index
                cells = [row[index] if index < len(row) else None for _, row in self.rows]
                self.readings[heading.name] = read_column(heading.name, cells, self.readings[heading.name].hints)
        self.fields = {word: (each.name, _to_readings(self.readings[each.name])) for word, each in self.by_word.items()}

    @property
    def last_row(self) -> int:
        """The number of the last filled row, or of the headings."""
        return self.rows[-1][0] if self.rows else self.header


def read_table(file: str, grid: Grid, settings: SheetSettings, where: str) -> Table:
    """The table of a grid. Raises SourceFault if there are no headings, SettingsFault if a setting names no column."""
    header = settings.header - 1 if settings.header else find_header(grid)
    headings = read_headings(grid, header, where)
    below = grid.rows[header + 1 :]
    blank = {width: [None] * width for width in set(map(len, below))}
    rows = list(enumerate(below, header + 1))
    if any(each in below for each in blank.values()):
        rows = [(number, row) for number, row in rows if row != blank[len(row)]]
    totals_row = rows[-1][0] if settings.totals and rows else 0
    if totals_row:
        rows = rows[:-1]
    kinds = _declared_kinds(settings, headings, where)
    readings = {}
    if grid.columns and len(rows) == len(below):
        columns = [column[header + 1 :] for column in grid.columns]
    else:
        columns = list(zip_longest(*(row for _, row in rows)))
    grid.columns = []
    for heading in headings:
        hints = ColumnHints(
            kind=kinds.get(heading.name),
            dates=settings.dates,
            decimal=settings.decimal,
            epoch_1904=grid.epoch_1904,
            names=settings.people,
        )
        cells = columns[heading.index] if heading.index < len(columns) else ()
        readings[heading.name] = read_column(heading.name, cells, hints)
    table = Table(file, grid, header, headings, readings, rows, find_twice(headings, header), totals_row=totals_row)
    by_index = {heading.index: heading.name for heading in headings}
    table.names = [by_index.get(index, "") for index in range(max(by_index, default=-1) + 1)]
    table.by_word = {fold_name(column_word(heading.name)): heading for heading in reversed(headings)}
    table.read_again(())
    table.booking = find_booking_column([heading.name for heading in headings])
    return table


def _declared_kinds(settings: SheetSettings, headings: list[Heading], where: str) -> dict[str, Kind]:
    by_word = {fold_name(column_word(heading.name)): heading.name for heading in headings}
    found = {}
    for name, kind in settings.kinds.items():
        column = by_word.get(fold_name(column_word(name)))
        if column is None:
            raise SettingsFault(f'kinds names a column "{name}" that is not there', where=where)
        found[column] = kind
    return found


def to_hint_settings(dates: str | None, decimal: str | None) -> tuple[str | None, str | None]:
    """The settings `dates` and `decimal` in the words of the columns. Raises SettingsFault for other words."""
    order = parse_order(dates) if dates else None
    if dates and order is None:
        raise SettingsFault(f'dates = "{dates}" is none of: day first, month first, year first')
    sign = {",": COMMA, ".": POINT, None: None}.get(decimal, "?")
    if sign == "?":
        raise SettingsFault(f'decimal = "{decimal}" is neither "," nor "."')
    return order, sign


class Row:
    """A row as workflows see it: typed fields by the word of their column."""

    __slots__ = ("_number", "_state", "_table", "_zone", "key", "place")

    def __init__(
        self, table: Table, key: str, state: RowState, number: int | None, zone: ZoneInfo, place: str = ""
    ) -> None:
        self.place = place
        self._table = table
        self._state = state
        self._number = number
        self._zone = zone
        self.key = key

    @property
    def booking(self) -> str:
        """The UID that the row keeps of what became of it, empty if it keeps none."""
        value = self._state.get(self._table.booking) if self._table.booking else None
        return value if isinstance(value, str) else ""

    @property
    def state(self) -> RowState:
        """The raw cells."""
        return self._state

    def value_of(self, word: str) -> Any:
        """The field's value, Unread where its cell gives none. Raises RowFault if the column is gone."""
        field = self._table.fields.get(word)
        if field is None:
            raise RowFault(f'the column "{word}" is no longer there', where=self._table.file)
        name, readings = field
        raw = self._state.get(name)
        if raw is None:
            return None
        if readings is None:
            return raw if raw.__class__ is str else show_raw(raw)
        value = readings[raw.__class__, raw]
        if value.__class__ is datetime and value.tzinfo is None:
            try:
                return to_moment(value, self._zone)
            except RowFault as fault:
                return Unread(str(value), fault.message, fault.fix)
        return value

    def where_is_row(self) -> str:
        """The row, for messages that list several."""
        return f"row {self._number + 1}" if self._number is not None else f'"{self.key}"'

    def where_is(self, word: str) -> str:
        """The field's cell."""
        return self._table.where(self._number, self._table.by_word[word].index)


def column_infos(table: Table, settings: SheetSettings) -> tuple[ColumnInfo, ...]:
    """The columns as the checker sees them."""
    declared = {fold_name(column_word(name)) for name in settings.kinds}
    infos = []
    for heading in table.headings:
        reading = table.readings[heading.name]
        doubt, fix = _doubt_of(table, heading, reading)
        infos.append(
            ColumnInfo(
                name=heading.name,
                letter=heading.letter,
                kind=reading.kind,
                filled=reading.filled,
                declared=fold_name(column_word(heading.name)) in declared,
                status=reading.status,
                doubt=doubt,
                fix=fix,
                sample=_sample_of(table, heading),
            )
        )
    return tuple(infos)


def _doubt_of(table: Table, heading: Heading, reading: ColumnReading) -> tuple[str, str]:
    if reading.status == "ok":
        return "", ""
    for number, cells in table.rows:
        value = reading.read(cells[heading.index] if heading.index < len(cells) else None)
        if isinstance(value, Unread) and value.waits:
            return f"{table.where(number, heading.index)}: {value.fault}", value.fix
    forms = " or ".join(f'dates = "{form}"' for form in reading.formats)
    return (
        f"its cells fit no one reading ({', '.join(reading.formats)})",
        f"say which at the place in whenvoca.toml: {forms}",
    )


def _sample_of(table: Table, heading: Heading) -> str:
    index = heading.index
    if not table.readings[heading.name].has_texts:
        return ""
    for number, cells in table.rows:
        if index < len(cells) and cells[index].__class__ is str:
            return f'{cell_name(number, index)} is "{str(cells[index])[:40]}"'
    return ""
