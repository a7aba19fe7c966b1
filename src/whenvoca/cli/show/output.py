"""How things are shown: tables that fit, JSON, what to do next. Data goes to stdout, talk to stderr."""

from __future__ import annotations

import json
import os
import re
import sys
from collections.abc import Iterable, Iterator, Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import click
import msgspec
from msgspec import Struct

from whenvoca.cli.show.escapes import escape, escape_styled
from whenvoca.values.durations import Duration

if TYPE_CHECKING:
    from rich.console import Console

WIDEST = 100
_LONG = 1000  # rows, from which a table is laid out more simply
_AT_ONCE = 500  # rows that are printed together
_WEIGHTS = ("bold", "dim", "italic")
OUTCOME_STYLES = {
    "done": "green",
    "failed": "bold red",
    "waiting": "yellow",
    "begun": "yellow",
    "dropped": "dim",
    "not taken up": "yellow",
    "missed": "yellow",
}


class Column(Struct, frozen=True):
    """A column of a table. ``drop``: the higher, the sooner it is left out where the table does not fit."""

    title: str
    drop: int = 0
    align: str = "left"
    wraps: bool = False


def _width() -> int:
    """Of the terminal, or what COLUMNS says."""
    from shutil import get_terminal_size

    return max(40, get_terminal_size((WIDEST, 40)).columns)


def console(*, err: bool = False) -> Console:
    """A rich console for stdout or stderr, which knows of NO_COLOR, COLUMNS and pipes."""
    from rich.console import Console

    class SafeConsole(Console):
        """One on which nothing that is shown steers the terminal."""

        def print(self, *objects: Any, **more: Any) -> None:
            super().print(*(_escaped(each) for each in objects), **more)

    stream = sys.stderr if err else sys.stdout
    return SafeConsole(file=stream, width=_width(), highlight=False, soft_wrap=False, emoji=False, markup=False)


def _escaped(shown: Any) -> Any:
    from rich.text import Text

    if isinstance(shown, str):
        return Text(escape(shown))
    return escape_styled(shown) if isinstance(shown, Text) else shown


def show_table(columns: Sequence[Column], rows: Iterable[Sequence[Any]]) -> None:
    """A table no wider than the terminal or 100 columns; a value is never broken but between words."""
    from rich.table import Table
    from rich.text import Text

    out = console()
    cells = [[_escaped(cell if isinstance(cell, Text) else str(cell)) for cell in row] for row in rows]
    kept = _fitting(columns, cells, min(out.width, WIDEST))
    if len(cells) > _LONG:
        _show_long(out, [columns[index] for index in kept], [[row[index] for index in kept] for row in cells])
        return
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", width=None)
    for index in kept:
        column = columns[index]
        table.add_column(
            column.title,
            justify="right" if column.align == "right" else "left",
            no_wrap=not column.wraps,
            overflow="fold",
        )
    for row in cells:
        table.add_row(*(row[index] for index in kept))
    out.print(table, width=min(out.width, WIDEST) if any(columns[i].wraps for i in kept) else None)


def _show_long(out: Console, columns: list[Column], rows: list[list[Any]]) -> None:
    """The same table line by line, for rich takes a minute for 100,000 rows."""
    from rich.text import Text

    width = min(out.width, WIDEST)
    widths = [max(len(column.title), *(row[i].cell_len for row in rows)) for i, column in enumerate(columns)]
    for index in [index for index, column in enumerate(columns) if column.wraps]:
        others = sum(widths) - widths[index] + 2 * (len(widths) - 1)
        widths[index] = max(8, min(widths[index], width - others))
    shown = [[Text(column.title, "bold") for column in columns], *rows]
    for begin in range(0, len(shown), _AT_ONCE):
        lines = [line for row in shown[begin : begin + _AT_ONCE] for line in _lines_of(row, columns, widths, out)]
        out.print(Text("\n").join(lines), soft_wrap=True)


def _lines_of(row: list[Any], columns: list[Column], widths: list[int], out: Console) -> Iterator[Any]:
    """The lines of one row; a cell that is wider than its column is broken between words."""
    from rich.text import Text

    pieces = [
        list(cell.wrap(out, width)) if column.wraps and cell.cell_len > width else [cell]
        for cell, column, width in zip(row, columns, widths, strict=True)
    ]
    for number in range(max(map(len, pieces))):
        line = Text()
        for cell, column, width in zip(pieces, columns, widths, strict=True):
            piece = cell[number] if number < len(cell) else Text()
            gap = " " * (width - piece.cell_len)
            line.append(gap if column.align == "right" else "")
            line.append_text(piece)
            line.append(("" if column.align == "right" else gap) + "  ")
        line.rstrip()
        yield line


def _fitting(columns: Sequence[Column], rows: list[list[Any]], width: int) -> list[int]:
    """The columns that fit: the least telling are left out first, those that wrap may shrink."""
    kept = list(range(len(columns)))
    while len(kept) > 1:
        need = 0
        for index in kept:
            longest = max([len(columns[index].title), *(row[index].cell_len for row in rows)])
            need += 2 + (min(longest, 24) if columns[index].wraps else longest)
        droppable = [index for index in kept if columns[index].drop]
        if need <= width + 2 or not droppable:
            break
        kept.remove(max(droppable, key=lambda index: columns[index].drop))
    return kept


def show_json(document: Any, *, lines: bool = False) -> None:
    """One JSON document on stdout; with ``lines`` as one line of several."""
    plain = to_json(document)
    try:
        written = msgspec.json.encode(plain).decode()
    except UnicodeEncodeError:  # a name of a file that is not UTF-8
        written = json.dumps(plain)
    click.echo(written if lines else msgspec.json.format(written, indent=2))


def to_json(value: Any) -> Any:
    """Values as JSON has them: moments RFC 3339 with offset, dates and times ISO 8601, durations as ISO durations."""
    match value:
        case dict():
            return {str(key): to_json(item) for key, item in value.items()}
        case list() | tuple() | set() | frozenset():
            return [to_json(item) for item in value]
        case Decimal():
            return float(value)
        case datetime() | date():
            return value.isoformat()
        case time():
            return value.isoformat("seconds" if value.second else "minutes")
        case timedelta():
            return iso_duration(Duration(seconds=round(value.total_seconds())))
        case Duration():
            return iso_duration(value)
    return value


def iso_duration(span: Duration) -> str:
    """An ISO 8601 duration, months, days and seconds apart."""
    sign = "-" if min(span.months, span.days, span.seconds) < 0 else ""
    hours, rest = divmod(abs(span.seconds), 3600)
    days = "".join(f"{n}{unit}" for n, unit in ((abs(span.months), "M"), (abs(span.days), "D")) if n)
    clock = "".join(f"{n}{unit}" for n, unit in ((hours, "H"), (rest // 60, "M"), (rest % 60, "S")) if n)
    return f"{sign}P{days}{'T' + clock if clock else ''}" if days or clock else "PT0S"


def styled(text: str, style: str) -> Any:
    """A piece of text with a style, for a table's cell."""
    from rich.text import Text

    return Text(escape(text), style=style)


StyledText = str | tuple[str, str]  # a text, or one with its style


def show_line(*pieces: StyledText, err: bool = False, wraps: bool = True) -> None:
    """A line without rich, which takes longer to load than most commands: coloured and wrapped on a terminal only."""
    stream = sys.stderr if err else sys.stdout
    parts = [(escape(each), "") if isinstance(each, str) else (escape(each[0]), each[1]) for each in pieces]
    if not stream.isatty():
        click.echo("".join(text for text, _ in parts), err=err)
        return
    if wraps:
        parts = _wrapped(parts, _width())
    plain = bool(os.environ.get("NO_COLOR"))
    click.echo("".join(text if plain else _coloured(text, style) for text, style in parts), err=err)


def _wrapped(parts: Iterable[tuple[str, str]], width: int) -> list[tuple[str, str]]:
    """The same with line breaks between words, so that no line is longer than the terminal is wide."""
    found: list[tuple[str, str]] = []
    column = 0
    for text, style in parts:
        said = ""
        for blank, word in re.findall(r"(\s*)(\S*)", text):
            if "\n" in blank:
                column = len(blank.rpartition("\n")[2])
            elif column and word and column + len(blank) + len(word) > width:
                blank, column = "\n", 0
            else:
                column += len(blank)
            said += blank + word
            column += len(word)
        found.append((said, style))
    return found


def _coloured(text: str, style: str) -> str:
    words = style.split()
    colour = next((word for word in words if word not in _WEIGHTS), None)
    return click.style(text, fg=colour, **{word: True for word in words if word in _WEIGHTS}) if words else text


def say(text: str, *, style: str = "") -> None:
    """A line for people, on stderr."""
    show_line((text, style), err=True)


def say_next(text: str, *, quiet: bool = False) -> None:
    """What a person would do next."""
    if not quiet:
        say(f"next: {text}")


def count_of(number: int, noun: str) -> str:
    """ "1 fault", "2 faults"."""
    return f"{number} {noun}{'s' * (number != 1)}"
