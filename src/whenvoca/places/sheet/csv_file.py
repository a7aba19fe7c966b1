"""CSV files: any delimiter, UTF-8 with or without BOM, older encodings when declared; written back field by field.

Untouched records stay byte for byte. A text that a spreadsheet program would take for a formula is written with an
apostrophe before it, which reading takes away again.
"""

from __future__ import annotations

import codecs
import csv
import io
import itertools
import re
from collections.abc import Mapping
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

from msgspec import Struct

from whenvoca.errors import RowFault, SourceFault
from whenvoca.places.sheet.grid import Grid, TabWrites
from whenvoca.values.durations import Duration, show_duration
from whenvoca.values.kinds import Raw, tidy_raw
from whenvoca.values.numbers import show_number
from whenvoca.values.texts import show_value

_DELIMITERS = ",;\t|"
_FORMULA = re.compile(r"'*[=+\-@\t\r]")
_GUARDED = re.compile(r"'+[=+\-@\t\r]")
_PLAIN_NUMBER = re.compile(r"[+-]?\d+(?:[.,]\d+)*\Z")
_BOMS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))
csv.field_size_limit(10_000_000)


class CsvFile(Struct, frozen=True):
    """The CSV backing. ``decimal`` is the sign that numbers are written with."""

    encoding: str = ""
    delimiter: str = ""
    decimal: str = "."
    day_format: str = ""  # how dates are written: "day first", "month first", else year first

    unwritable = ""

    @property
    def new_tab(self) -> str:
        """A CSV file's tab has no name."""
        return ""

    def tabs(self, data: bytes) -> list[str]:
        """A CSV file has one tab without a name."""
        return [""]

    def load(self, data: bytes, tab: str | None) -> Grid:
        """The cells; every filled one is a text. Raises SourceFault where the file is no such text."""
        if tab:
            raise SourceFault(f'a CSV file has no tab "{tab}"', fix="take the tab setting away")
        text, _, _ = self._decode(data)
        return Grid("", [[_take_guard(cell) for cell in row] for row in self._records(text)])

    def _records(self, text: str) -> list[list[str]]:
        delimiter = self.delimiter or tell_delimiter(text)
        try:
            return list(csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True))
        except csv.Error as error:
            line = _open_quote_line(text)
            fix = f"a quote opened on line {line} is never closed" if line else "look at the quotes"
            raise SourceFault(f"is no CSV that can be read: {error}", fix=fix) from error

    def _decode(self, data: bytes) -> tuple[str, str, bytes]:
        """The text, its encoding, and the byte order mark before it."""
        for bom, encoding in _BOMS:
            if data.startswith(bom):
                return data[len(bom) :].decode(encoding, "strict"), encoding, bom
        encoding = self.encoding or "utf-8"
        if b"\x00" in data[:4096]:
            raise SourceFault(
                "is no text: it holds bytes that no CSV has", fix="save it as CSV, or name the right file"
            )
        try:
            return data.decode(encoding), encoding, b""
        except LookupError as error:
            raise SourceFault(f'there is no encoding "{encoding}"', fix='such as encoding = "windows-1252"') from error
        except UnicodeDecodeError as error:
            line = data[: error.start].count(b"\n") + 1
            fix = 'declare the encoding at the place, such as encoding = "windows-1252"'
            raise SourceFault(f"is not written in {encoding} (line {line})", fix=fix) from error

    # --- writing

    def find_formulas(self, data: bytes, tab: str) -> set[tuple[int, int]]:
        """A CSV file holds none."""
        return set()

    def to_raw(self, value: Any) -> Raw:
        """The text that will stand in the cell."""
        return tidy_raw(_take_guard(self._to_text(value)))

    def _to_text(self, value: Any) -> str:
        match value:
            case bool():
                return "yes" if value else "no"
            case int() | Decimal():
                return show_number(value).replace(".", self.decimal)
            case datetime():
                return f"{self._day(value)} {value:%H:%M}" + (f":{value:%S}" if value.second else "")
            case date():
                return self._day(value)
            case time():
                return f"{value:%H:%M:%S}" if value.second else f"{value:%H:%M}"
            case Duration():
                return show_duration(value)
        return show_value(value).replace("\x00", "")  # which no CSV can hold

    def _day(self, day: date) -> str:
        form = {"day first": "%d/%m/%Y", "month first": "%m/%d/%Y"}.get(self.day_format, "%Y-%m-%d")
        return day.strftime(form)

    def _to_field(self, value: Any, delimiter: str, *, was_quoted: bool) -> str:
        text = self._to_text(value)
        if isinstance(value, str) and _FORMULA.match(text) and not _PLAIN_NUMBER.match(text):
            text = "'" + text
        if was_quoted or any(sign in text for sign in (delimiter, '"', "\n", "\r")) or text != text.strip():
            return '"' + text.replace('"', '""') + '"'
        return text

    def patch(self, data: bytes | None, writes: Mapping[str, TabWrites]) -> bytes:
        """The file with only these cells changed. Raises RowFault where a text does not fit the file's encoding."""
        write = writes[""]
        if data is None:
            delimiter = self.delimiter or ","
            heading = delimiter.join(self._to_field(each, delimiter, was_quoted=False) for each in write.headings)
            data = (heading + "\r\n").encode(self.encoding or "utf-8")
        text, encoding, bom = self._decode(data)
        patched = self._patch_text(text, write.cells)
        try:
            return bom + patched.encode(encoding)
        except UnicodeEncodeError as error:
            sign = patched[error.start]
            raise RowFault(
                f'the sign "{sign}" cannot be written in {encoding}',
                fix="save the file as UTF-8 and take encoding away",
            ) from error

    def shift_rows(self, data: bytes, tab: str, write: TabWrites) -> bytes:
        """The file with records taken out, or put in. Raises RowFault where a text does not fit the file's encoding."""
        text, encoding, bom = self._decode(data)
        delimiter = self.delimiter or tell_delimiter(text)
        line_end = _line_end(text)
        begins = [begin for begin, _ in _record_spans(text)] + [len(text)]
        records = [text[begin:end] for begin, end in itertools.pairwise(begins)]
        if records and not records[-1].endswith(("\n", "\r")):
            records[-1] += line_end
        records = [record for number, record in enumerate(records) if number not in write.removed]
        width = len(_field_spans(records[0].rstrip("\r\n"), delimiter)) if records else 1
        for row in sorted(write.inserted, reverse=True):
            cells = write.inserted[row]
            fields = [
                self._to_field(cells.get(i), delimiter, was_quoted=False)
                for i in range(max([width, *(c + 1 for c in cells)]))
            ]
            records.insert(min(row, len(records)), delimiter.join(fields) + line_end)
        return bom + "".join(records).encode(encoding)

    def _patch_text(self, text: str, cells: Mapping[tuple[int, int], Any]) -> str:
        delimiter = self.delimiter or tell_delimiter(text)
        line_end = _line_end(text)
        spans = _record_spans(text)
        by_row: dict[int, dict[int, Any]] = {}
        for (row, column), value in cells.items():
            by_row.setdefault(row, {})[column] = value
        pieces, position = [], 0
        for row in sorted(row for row in by_row if row < len(spans)):
            begin, end = spans[row]
            pieces += [text[position:begin], self._patch_record(text[begin:end], by_row[row], delimiter)]
            position = end
        pieces.append(text[position:])
        last = "".join(pieces)
        above = len(_field_spans(text[slice(*spans[-1])], delimiter)) if spans else 0
        width = max([above, *(column + 1 for _, column in cells)])  # records are of one length (RFC 4180)
        for row in range(len(spans), max(by_row, default=-1) + 1):
            if last and not last.endswith(("\n", "\r")):
                last += line_end
            fields = by_row.get(row, {})
            record = [self._to_field(fields.get(i), delimiter, was_quoted=False) for i in range(width)]
            last += delimiter.join(record) + line_end
        return last

    def _patch_record(self, record: str, fields: Mapping[int, Any], delimiter: str) -> str:
        old = _field_spans(record, delimiter)
        pieces, position = [], 0
        for column in sorted(column for column in fields if column < len(old)):
            begin, end = old[column]
            was_quoted = record[begin : begin + 1] == '"'
            pieces += [record[position:begin], self._to_field(fields[column], delimiter, was_quoted=was_quoted)]
            position = end
        pieces.append(record[position:])
        width = len(old)
        for column in sorted(column for column in fields if column >= len(old)):
            pieces.append(
                delimiter * (column - width + 1) + self._to_field(fields[column], delimiter, was_quoted=False)
            )
            width = column + 1
        return "".join(pieces)


def _line_end(text: str) -> str:
    return "\r\n" if "\r\n" in text else "\r" if "\r" in text and "\n" not in text else "\n"


def _take_guard(cell: str) -> Raw:
    return tidy_raw(cell[1:] if _GUARDED.match(cell) else cell)


def tell_delimiter(text: str) -> str:
    """The delimiter that parts most lines into the same number of fields, a comma if none does."""
    sample = []
    for begin, end in _record_spans(text[:65536])[:50]:
        bare = re.sub(r'"(?:[^"]|"")*"', "", text[begin:end])
        if bare.strip():
            sample.append(bare)
    best, best_score = ",", 0.0
    for sign in _DELIMITERS:
        counts = [line.count(sign) for line in sample]
        filled = [count for count in counts if count]
        if len(filled) * 2 <= len(sample):
            continue
        common = max(set(filled), key=filled.count)
        score = filled.count(common) / len(sample) * (1 + min(common, 20) / 10)
        if score > best_score:
            best, best_score = sign, score
    return best


def _record_spans(text: str) -> list[tuple[int, int]]:
    """Where each record stands, its line end left out; a record goes on over lines while a quote is open."""
    spans, begin, open_quotes = [], 0, False
    for found in re.finditer(r"[^\r\n]*(\r\n|\n|\r|\Z)", text):
        line_begin, line_end = found.start(), found.start(1)
        if line_begin == len(text) and not open_quotes:
            break
        if text.count('"', line_begin, line_end) % 2:
            open_quotes = not open_quotes
        if not open_quotes:
            spans.append((begin, line_end))
            begin = found.end()
        if found.end() == len(text):
            break
    if open_quotes:
        spans.append((begin, len(text)))
    return spans


def _field_spans(record: str, delimiter: str) -> list[tuple[int, int]]:
    spans, begin, quoted = [], 0, False
    for position, sign in enumerate(record):
        if sign == '"':
            quoted = not quoted
        elif sign == delimiter and not quoted:
            spans.append((begin, position))
            begin = position + 1
    spans.append((begin, len(record)))
    return spans


def _open_quote_line(text: str) -> int:
    open_since = 0
    for number, line in enumerate(text.splitlines(), 1):
        if line.count('"') % 2:
            open_since = 0 if open_since else number
    return open_since
