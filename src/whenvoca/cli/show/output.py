"""How things are shown: tables that fit, JSON, what to do next. Data goes to stdout, talk to stderr."""

from __future__ import annotations

import json
import os
import re
import sys
from collections.abc import Iterable, Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from itertools import zip_longest
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
_AT_ONCE = 5000  # lines that are printed together
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
    width = min(out.width, WIDEST)
    rows = list(rows)
    if len(rows) > _LONG:
        _show_long(columns, rows, width)
        return
    cells = [[_escaped(cell if isinstance(cell, Text) else str(cell)) for cell in row] for row in rows]
    longest = [max([len(each.title), *(row[i].cell_len for row in cells)]) for i, each in enumerate(columns)]
    kept = _fitting(columns, longest, width)
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
    out.print(table, width=width if any(columns[i].wraps for i in kept) else None)


def _show_long(columns: Sequence[Column], rows: Sequence[Sequence[Any]], width: int) -> None:
    """The same without styles, line by line: rich takes a minute for 100,000 rows."""
    from rich.text import Text

    cells = [[cell.plain if isinstance(cell, Text) else str(cell) for cell in row] for row in rows]
    shown: dict[str, tuple[str, int]] = {}
    for text in {cell for row in cells for cell in row}:
        line = Text(escape(text))
        shown[text] = (line.plain, line.cell_len)
    longest = [
        max(len(each.title), *(shown[text][1] for text in {row[i] for row in cells})) for i, each in enumerate(columns)
    ]
    kept = _fitting(columns, longest, width)
    for index in [index for index in kept if columns[index].wraps]:
        others = sum(longest[each] + 2 for each in kept if each != index)
        longest[index] = max(8, min(longest[index], width - others))
    lines = [[(columns[index].title, len(columns[index].title)) for index in kept]]
    for row in cells:
        pieces = [_broken(*shown[row[index]], longest[index]) for index in kept]
        lines += map(list, zip_longest(*pieces, fillvalue=("", 0)))
    places = [(longest[index], columns[index].align == "right") for index in kept]
    for begin in range(0, len(lines), _AT_ONCE):
        click.echo("\n".join(_aligned(line, places) for line in lines[begin : begin + _AT_ONCE]))


def _broken(text: str, length: int, width: int) -> list[tuple[str, int]]:
    """A cell in pieces no wider than that, each with its width."""
    if length <= width:
        return [(text, length)]
    from rich.text import Text

    return [(line.plain.rstrip(), Text(line.plain.rstrip()).cell_len) for line in Text(text).wrap(console(), width)]


def _aligned(line: Sequence[tuple[str, int]], places: Sequence[tuple[int, bool]]) -> str:
    pieces = []
    for (text, length), (width, is_right) in zip(line, places, strict=True):
        gap = " " * (width - length)
        pieces.append(gap + text if is_right else text + gap)
    return "  ".join(pieces).rstrip()


def _fitting(columns: Sequence[Column], longest: Sequence[int], width: int) -> list[int]:
    """The columns that fit: the least telling are left out first, those that wrap may shrink."""
    kept = list(range(len(columns)))
    while len(kept) > 1:
        need = sum(2 + (min(longest[index], 24) if columns[index].wraps else longest[index]) for index in kept)
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
