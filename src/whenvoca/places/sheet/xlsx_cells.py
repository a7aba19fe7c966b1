"""Changes within the XML of one worksheet: the cells that change are written anew, every other byte stays."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date, datetime, time
from decimal import Decimal
from types import NoneType
from typing import Any

from msgspec import Struct

from whenvoca.places.fork_map import fork_map
from whenvoca.places.sheet.grid import cell_name, column_of, letter_of
from whenvoca.places.sheet.xlsx_row_looks import RowLook, look_of, masters_of
from whenvoca.values.dates import to_serial
from whenvoca.values.durations import Duration
from whenvoca.values.texts import show_value

_ATTRIBUTE = re.compile(rb"""([\w:.-]+)\s*=\s*("[^"]*"|'[^']*')""")
_NUMBER_OF_ROW = re.compile(rb"""(?<![\w:.-])r\s*=\s*["'](\d+)["']""")
_COLUMN_OF_CELL = re.compile(rb"""(?<![\w:.-])r\s*=\s*["']([A-Z]+)\d+["']""")
_STYLE = re.compile(rb"""(?<![\w:.-])s\s*=\s*["'](\d+)["']""")
_SPANS = re.compile(rb"""\s+spans="[^"]*\"""")
_ILLEGAL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")
_SPECIAL = re.compile("[&<>\r\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]|_x")
_ESCAPE_LOOK = re.compile(r"_(?=x[0-9A-Fa-f]{4}_)")

# Given the style that the cell has and the kind of date, the style to write: see xlsx_styles.
StyleOf = Callable[[int, str], int]
Chunk = bytes | memoryview


class _Cell(Struct, frozen=True):
    begin: int
    end: int
    column: int
    style: int
    body: bytes

    @property
    def has_formula(self) -> bool:
        return b"<f" in self.body and bool(re.search(rb"<(?:\w+:)?f[\s/>]", self.body))


class SheetXml:
    """The XML of one worksheet part."""

    def __init__(self, xml: bytes) -> None:
        self.xml = xml if b"<!--" not in xml and b"<![CDATA[" not in xml else _plain(xml)
        root = re.search(rb"<(?:(\w+):)?worksheet\b", self.xml)
        self.prefix = (root[1] + b":") if root and root[1] else b""
        prefix = re.escape(self.prefix)
        self._row = re.compile(rb"<" + prefix + rb"""row\b((?:\s+r=["'](\d+)["'])?[^>]*?)(/?)>""")
        self._row_end = b"</" + self.prefix + b"row>"
        self._cell = re.compile(rb"<" + prefix + rb"c\b([^>]*?)(?:/>|>(.*?)</" + prefix + rb"c>)", re.DOTALL)
        self._column_styles = self._read_column_styles()

    def _read_column_styles(self) -> dict[int, int]:
        styles: dict[int, int] = {}
        for found in re.finditer(rb"<" + re.escape(self.prefix) + rb"col\b([^>]*?)/?>", self.xml[:200_000]):
            attributes = _attributes(found[1])
            if b"style" in attributes:
                low, high = int(attributes[b"min"]), int(attributes[b"max"])
                styles |= dict.fromkeys(range(low - 1, min(high, 512)), int(attributes[b"style"]))
        return styles

    def iter_rows(self) -> Iterator[tuple[int, int, int, bytes, int]]:
        """Each row: number from 0, begin, end, its attributes, and where its body begins (its end if it has none)."""
        number, position = -1, 0
        while found := self._row.search(self.xml, position):
            if found[2]:
                number = int(found[2]) - 1
            else:
                explicit = _NUMBER_OF_ROW.search(found[1])
                number = int(explicit[1]) - 1 if explicit else number + 1
            if found[3]:
                position = found.end()
                yield number, found.start(), position, found[1], position
            else:
                close = self.xml.index(self._row_end, found.end())
                position = close + len(self._row_end)
                yield number, found.start(), position, found[1], found.end()

    def _cells(self, begin: int, end: int) -> Iterator[_Cell]:
        column = -1
        for found in self._cell.finditer(self.xml, begin, end):
            name = _COLUMN_OF_CELL.search(found[1])
            column = column_of(name[1].decode()) if name else column + 1
            yield _Cell(found.start(), found.end(), column, _style_in(found[1]), found[2] or b"")

    def find_formulas(self) -> Iterator[tuple[int, int]]:
        """The cells that hold a formula."""
        for number, _, end, _, body in self.iter_rows():
            yield from ((number, cell.column) for cell in self._cells(body, end) if cell.has_formula)

    def find_errors(self) -> dict[tuple[int, int], str]:
        """Cells that hold an error value such as #REF!, which a plain reading takes for empty."""
        errors: dict[tuple[int, int], str] = {}
        if b't="e"' not in self.xml and b"t='e'" not in self.xml:
            return errors
        for number, begin, end, _, body in self.iter_rows():
            if b'"e"' in self.xml[begin:end] or b"'e'" in self.xml[begin:end]:
                for found in self._cell.finditer(self.xml, body, end):
                    if _attributes(found[1]).get(b"t") == b"e" and (
                        shown := re.search(rb"<(?:\w+:)?v>([^<]*)<", found[2] or b"")
                    ):
                        name = _attributes(found[1]).get(b"r", b"").decode()
                        errors[number, column_of(name.rstrip("0123456789"))] = shown[1].decode()
        return errors

    def write(
        self,
        cells: Mapping[tuple[int, int], Any],
        style_of: StyleOf,
        *,
        epoch_1904: bool,
        formats_from: Mapping[int, int],
    ) -> list[Chunk]:
        """The XML with these cells written, in chunks; what stays is a view of what stood there, not a copy.

        ``formats_from`` names for a new row the row whose look it takes, and whose formulas.
        """
        writer = _Writer(self.prefix, style_of, epoch_1904)
        by_row: dict[int, dict[int, Any]] = {}
        for (row, column), value in cells.items():
            by_row.setdefault(row, {})[column] = value
        looks = self._row_looks(set(formats_from.values())) if formats_from else {}
        self._open_data_element()
        view = memoryview(self.xml)
        pieces: list[Chunk] = []
        changed: list[tuple[int, tuple[int, bytes, int, int]]] = []  # where in the pieces, and the row
        position, todo = 0, sorted(by_row, reverse=True)
        for number, begin, end, attributes, body in self.iter_rows():
            while todo and todo[-1] < number:
                pieces += [view[position:begin], self._new_row(todo.pop(), by_row, looks, formats_from, writer)]
                position = begin
            if todo and todo[-1] == number:
                pieces += [view[position:begin], b""]
                changed.append((len(pieces) - 1, (number, attributes, body, end)))
                position = end
                todo.pop()
            if not todo:
                break

        def write_rows(numbers: Sequence[int]) -> list[bytes]:
            return [self._changed_row(*changed[each][1], by_row[changed[each][1][0]], writer) for each in numbers]

        needs_no_style = {str, bool, NoneType}.issuperset(map(type, cells.values()))  # which would be known here only
        rows = fork_map(write_rows, len(changed)) if needs_no_style else write_rows(range(len(changed)))
        for (place, _), text in zip(changed, rows, strict=True):
            pieces[place] = text
        if todo:
            at_data_end = self.xml.rfind(b"</" + self.prefix + b"sheetData>")
            pieces.append(view[position:at_data_end])
            position = at_data_end
            pieces += [self._new_row(number, by_row, looks, formats_from, writer) for number in reversed(todo)]
        pieces.append(view[position:])
        return self._with_dimension(pieces, cells)

    def _open_data_element(self) -> None:
        """An empty <sheetData/> is opened up, so that rows can be put into it."""
        opened, closed = b"<" + self.prefix + b"sheetData>", b"</" + self.prefix + b"sheetData>"
        self.xml = re.sub(rb"<" + re.escape(self.prefix) + rb"sheetData\s*/>", opened + closed, self.xml, count=1)

    def _with_dimension(self, pieces: list[Chunk], cells: Mapping[tuple[int, int], Any]) -> list[Chunk]:
        head = bytes(pieces[0][:20_000])
        found = re.search(rb"<" + re.escape(self.prefix) + rb'dimension ref="([A-Z]+)(\d+)(?::([A-Z]+)(\d+))?"', head)
        if not found or not cells:
            return pieces
        left, top = column_of(found[1].decode()), int(found[2]) - 1
        right = column_of(found[3].decode()) if found[3] else left
        bottom = int(found[4]) - 1 if found[4] else top
        rows, columns = [row for row, _ in cells], [column for _, column in cells]
        box = (min(left, *columns), min(top, *rows), max(right, *columns), max(bottom, *rows))
        if box == (left, top, right, bottom):
            return pieces
        ref = f"{cell_name(box[1], box[0])}:{cell_name(box[3], box[2])}".encode()
        return [head[: found.start(1)], ref, pieces[0][found.end() - 1 :], *pieces[1:]]

    def _row_looks(self, wanted: set[int]) -> dict[int, RowLook]:
        masters = masters_of(self.xml)
        return {
            number: look_of(number, ((cell.column, cell.style, cell.body) for cell in self._cells(body, end)), masters)
            for number, _, end, _, body in self.iter_rows()
            if number in wanted
        }

    def _new_row(
        self,
        number: int,
        by_row: Mapping[int, dict[int, Any]],
        looks: Mapping[int, RowLook],
        formats_from: Mapping[int, int],
        writer: _Writer,
    ) -> bytes:
        above = formats_from.get(number, -1)
        look = looks.get(above, RowLook())
        values, formulas = by_row[number], look.formulas_in(number - above)
        cells = []
        for column in sorted(values.keys() | look.styles.keys() | formulas.keys()):
            style = look.styles.get(column, self._column_styles.get(column, 0))
            if column in formulas and column not in values:
                cells.append(writer.formula(number, column, formulas[column], style))
            else:
                cells.append(writer.cell(number, column, values.get(column), style))
        return b'<%srow r="%d">%s</%srow>' % (self.prefix, number + 1, b"".join(cells), self.prefix)

    def _changed_row(
        self, number: int, attributes: bytes, body: int, end: int, values: dict[int, Any], writer: _Writer
    ) -> bytes:
        pieces: list[bytes] = []
        todo = sorted(values)
        row_style = _style_in(attributes)
        inserted = False
        position = body
        for cell in self._cells(body, end):
            if not todo:
                break
            while todo and todo[0] < cell.column:
                column = todo.pop(0)
                style = row_style or self._column_styles.get(column, 0)
                pieces += [self.xml[position : cell.begin], writer.cell(number, column, values[column], style)]
                position = cell.begin
                inserted = True
            if todo and todo[0] == cell.column:
                column = todo.pop(0)
                pieces += [self.xml[position : cell.begin], writer.cell(number, column, values[column], cell.style)]
                position = cell.end
        close = max(body, end - len(self._row_end)) if body != end else end
        pieces.append(self.xml[position:close] if body != end else b"")
        for column in todo:
            pieces.append(writer.cell(number, column, values[column], row_style or self._column_styles.get(column, 0)))
            inserted = True
        kept = _SPANS.sub(b"", attributes) if inserted else attributes
        if not _NUMBER_OF_ROW.search(kept):
            kept = b' r="%d"' % (number + 1) + kept
        return b"<" + self.prefix + b"row" + kept + b">" + b"".join(pieces) + self._row_end


class _Writer:
    """Writes single cells."""

    def __init__(self, prefix: bytes, style_of: StyleOf, epoch_1904: bool) -> None:
        self._prefix = prefix.decode()
        self._style_of = style_of
        self._epoch_1904 = epoch_1904

    def cell(self, row: int, column: int, value: Any, style: int) -> bytes:
        """The <c> element of a value; an empty one keeps only its style."""
        p = self._prefix
        kind, content, form = self._content(value)
        if form:
            style = self._style_of(style, form)
        head = f'<{p}c r="{letter_of(column)}{row + 1}"' + (f' s="{style}"' if style else "")
        if kind == "":
            return (f"{head}/>" if style else "").encode()
        if kind == "inlineStr":
            return f'{head} t="inlineStr"><{p}is><{p}t xml:space="preserve">{content}</{p}t></{p}is></{p}c>'.encode()
        typed = f' t="{kind}"' if kind != "n" else ""
        return f"{head}{typed}><{p}v>{content}</{p}v></{p}c>".encode()

    def formula(self, row: int, column: int, text: str, style: int) -> bytes:
        """The <c> element of a formula, whose result the spreadsheet program reckons when it opens the file."""
        p = self._prefix
        head = f'<{p}c r="{letter_of(column)}{row + 1}"' + (f' s="{style}"' if style else "")
        return f"{head}><{p}f>{escape_xml(text)}</{p}f></{p}c>".encode()

    def _content(self, value: Any) -> tuple[str, str, str]:
        if value.__class__ is str and value:
            return "inlineStr", escape_xml(value), ""
        match value:
            case None | "":
                return "", "", ""
            case bool():
                return "b", "1" if value else "0", ""
            case int() | Decimal() | float():
                return "n", str(value) if not isinstance(value, Decimal) else repr(float(value)), "number"
            case datetime():
                return self._serial(value.replace(tzinfo=None), "moment")
            case date():
                return self._serial(datetime.combine(value, time()), "date")
            case time():
                fraction = (value.hour * 3600 + value.minute * 60 + value.second) / 86400
                return "n", repr(fraction), "time"
            case Duration() if not value.months:
                return "n", repr(value.to_seconds() / 86400), "duration"
        return "inlineStr", escape_xml(show_value(value)), ""

    def _serial(self, wall: datetime, form: str) -> tuple[str, str, str]:
        if wall.year < (1905 if self._epoch_1904 else 1901):
            return "inlineStr", f"{wall:%Y-%m-%d %H:%M}" if form == "moment" else f"{wall:%Y-%m-%d}", ""
        serial = to_serial(wall, epoch_1904=self._epoch_1904)
        return "n", repr(serial if serial % 1 else int(serial)), form


def escape_xml(text: str) -> str:
    """The text as XML, signs that XML has no place for in the _xHHHH_ form of the format."""
    if not _SPECIAL.search(text):
        return text
    text = _ESCAPE_LOOK.sub("_x005F_", text.replace("\r\n", "\n"))
    text = text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace("\r", "_x000D_")
    return _ILLEGAL.sub(lambda found: f"_x{ord(found[0]):04X}_", text)


def _style_in(attributes: bytes) -> int:
    found = _STYLE.search(attributes)
    return int(found[1]) if found else 0


def _attributes(source: bytes) -> dict[bytes, bytes]:
    return {name: value[1:-1] for name, value in _ATTRIBUTE.findall(source)}


def _plain(xml: bytes) -> bytes:
    """The same XML without comments and CDATA sections, which the search for cells could trip over."""
    from lxml import etree

    parser = etree.XMLParser(remove_comments=True, strip_cdata=True, resolve_entities=False, huge_tree=True)
    return etree.tostring(etree.fromstring(xml, parser), xml_declaration=True, encoding="UTF-8", standalone=True)
