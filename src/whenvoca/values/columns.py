"""A column of cells read as a whole: which kind it holds, in which format, and where that stays open.

If the cells fit one reading it is taken; if they fit two, nothing is guessed: the cells in doubt come out as
``Unread`` with the setting that decides.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from types import NoneType
from typing import Any, Literal

from msgspec import Struct, field

from whenvoca.values.addresses import shape_addresses, split_addresses
from whenvoca.values.blanks import plain_signs
from whenvoca.values.dates import ORDERS, SERIAL_1900, SERIAL_1904, TYPED, Shaped, shape_date
from whenvoca.values.durations import Duration, parse_clock_duration, parse_duration
from whenvoca.values.kinds import Kind, Raw, serial_value, show_raw
from whenvoca.values.numbers import COMMA, POINT, shape_number, shape_yes_no, tidy_number
from whenvoca.values.times import HALF_DAY, WHOLE_DAY, is_of_24_hours, shape_moment, shape_time

Status = Literal["ok", "ambiguous", "contradictory"]
_SAMPLE = 1000  # cells looked at to tell a column's kind; its format is told from all of them
_FIRST_LOOK = 60  # of these, here and there: where all are plain texts, so is the column
_SCATTER = 7919  # a prime, so that what repeats among the rows does not fall together with where is looked
_DATE_HEADING = re.compile(
    r"\b(date|dates|day|night|when|due|begins?|starts?|ends?|from|to|until|on|born|opened|closed)\b", re.IGNORECASE
)
_TIME_HEADING = re.compile(r"\b(time|hour|begins?|starts?|ends?|finish|from|to|until|at)\b", re.IGNORECASE)


class Unread(Struct, frozen=True):
    """A cell that is not empty and yet gives no value: why, and how to mend it.

    ``waits`` tells that a setting would decide it, so the row is held rather than failed.
    """

    text: str
    fault: str
    fix: str = ""
    waits: bool = False


class ColumnHints(Struct, frozen=True, kw_only=True):
    """What the place's settings say about how its columns are read."""

    kind: Kind | None = None
    dates: str | None = None  # one of ORDERS
    decimal: str | None = None  # POINT or COMMA
    epoch_1904: bool = False
    names: frozenset[str] = frozenset()  # people, who may stand where addresses do; in lower case


_KIND_OF_TYPE = {date: Kind.DATE, time: Kind.TIME, bool: Kind.YES_NO}  # of columns whose cells are all of that type


class ColumnReading(Struct, frozen=True, kw_only=True):
    """How one column is read."""

    name: str
    kind: Kind
    hints: ColumnHints
    status: Status = "ok"
    format: str = ""
    formats: tuple[str, ...] = ()  # the readings that are open; one where it is settled
    filled: int = 0
    has_texts: bool = False  # whether a cell of it is a text
    only: type | None = None  # of which type all its cells are, the empty ones too; None where there are several
    readings: Mapping[str, Sequence[Any]] = field(default_factory=dict)

    def read(self, raw: Raw) -> Any:
        """The cell's value, None for an empty one, or Unread."""
        if raw is None:
            return None
        if self.kind is Kind.TEXT:
            return raw if isinstance(raw, str) else show_raw(raw)
        typed = _typed_value(raw, self.kind, self.hints)
        if typed is not None:
            return typed
        if not isinstance(raw, str):
            return Unread(show_raw(raw), f"{show_raw(raw)} is no {_said(self.kind)}")
        return self._read_text(raw)

    def _read_text(self, text: str) -> Any:
        shaped = (shape_addresses(text, self.hints.names) if self.kind is Kind.ADDRESSES else None) or _shape(
            text, self.kind, eager=True
        )
        if shaped is None:
            return Unread(text, f'"{text}" is no {_said(self.kind)}')
        if shaped.fault:
            return Unread(text, shaped.fault)
        if shaped.is_settled:
            return shaped.fits[""]
        if self.kind is Kind.TIME:
            return self._read_time(text, shaped)
        fitting = {form: value for form, value in shaped.fits.items() if form in self.formats}
        if not fitting:
            only = " or ".join(shaped.fits)
            return Unread(text, f"{text} is no {_said(self.kind)} read {self.format}, only read {only}")
        values = list(fitting.values())
        if all(value == values[0] for value in values):
            return values[0]
        return Unread(text, _doubt(text, fitting), _deciding(self.kind, fitting), waits=True)

    def _read_time(self, text: str, shaped: Shaped) -> Any:
        if HALF_DAY in shaped.fits:
            return shaped.fits[HALF_DAY]
        clock: time = shaped.fits[WHOLE_DAY]
        if HALF_DAY in self.formats and 1 <= clock.hour <= 12 and not is_of_24_hours(text):
            return Unread(
                text,
                f"{text} says neither am nor pm, and other cells of the column do",
                f'write "{text} am" or "{text} pm"',
            )
        return clock


def read_column(name: str, cells: Sequence[Raw], hints: ColumnHints | None = None) -> ColumnReading:
    """The reading of a whole column. ``cells`` are raw and tidy; empty ones are passed over."""
    hints = hints or ColumnHints()
    types = set(map(type, cells))
    only = next(iter(types)) if len(types) == 1 else None
    filled = [cell for cell in cells if cell is not None] if NoneType in types else cells
    types.discard(NoneType)
    kind = hints.kind or (_KIND_OF_TYPE.get(next(iter(types))) if len(types) == 1 else None) or _tell_kind(name, filled)
    common: Any = {
        "name": name,
        "kind": kind,
        "hints": hints,
        "filled": len(filled),
        "has_texts": str in types,
        "only": only,
    }
    if kind is Kind.TEXT or not filled:
        return ColumnReading(**common, format=_declared(kind, hints), formats=_open_formats(kind, hints))
    texts = [cell for cell in filled if isinstance(cell, str)] if str in types else []
    status, form, formats = _settle(kind, texts, filled, hints)
    draft = ColumnReading(**common, status=status, format=form, formats=formats)
    if status == "ok":
        return draft
    readings = {each: [_value_in(draft, each, cell) for cell in filled] for each in formats}
    return ColumnReading(**common, status=status, format=form, formats=formats, readings=readings)


def _settle(
    kind: Kind, texts: Iterable[str], filled: Sequence[Raw], hints: ColumnHints
) -> tuple[Status, str, tuple[str, ...]]:
    """Status, format to tell, and the formats still open."""
    open_forms: set[str] | None = None
    seen: set[str] = set()
    named: Counter[str] = Counter()
    differing = False
    for text, number in Counter(texts).items():
        shaped = _shape(text, kind, eager=True)
        if shaped is None or not shaped.fits:
            continue
        if shaped.is_settled:
            named[shaped.format] += number
            continue
        forms = set(shaped.fits)
        seen |= forms
        open_forms = forms if open_forms is None else open_forms & forms
    if kind is Kind.TIME:
        form = HALF_DAY if HALF_DAY in seen else WHOLE_DAY
        return "ok", form if seen or named else _typed_format(filled, kind, hints), tuple(seen or {WHOLE_DAY})
    declared = _declared(kind, hints)
    if declared:
        return "ok", declared, (declared,)
    if open_forms is None:
        form = named.most_common(1)[0][0] if named else _typed_format(filled, kind, hints)
        return "ok", form, tuple(ORDERS) if kind in (Kind.DATE, Kind.MOMENT) else (POINT, COMMA)
    if not open_forms:
        return "contradictory", "", tuple(form for form in (*ORDERS, POINT, COMMA) if form in seen)
    formats = tuple(form for form in (*ORDERS, POINT, COMMA) if form in open_forms)
    if len(formats) > 1:
        for text in texts:
            shaped = _shape(text, kind, eager=True)
            if shaped and shaped.fits and not shaped.is_settled and len({shaped.fits[form] for form in formats}) > 1:
                differing = True
                break
    return ("ambiguous", "", formats) if differing else ("ok", formats[0], formats)


def _declared(kind: Kind, hints: ColumnHints) -> str:
    if kind in (Kind.DATE, Kind.MOMENT):
        return hints.dates or ""
    return (hints.decimal or "") if kind is Kind.NUMBER else ""


def _open_formats(kind: Kind, hints: ColumnHints) -> tuple[str, ...]:
    declared = _declared(kind, hints)
    return (declared,) if declared else ORDERS if kind in (Kind.DATE, Kind.MOMENT) else (POINT, COMMA)


def _value_in(reading: ColumnReading, form: str, raw: Raw) -> Any:
    """The cell's value if ``form`` were the column's format, None where it does not fit."""
    typed = _typed_value(raw, reading.kind, reading.hints)
    if typed is not None or not isinstance(raw, str):
        return typed
    shaped = _shape(raw, reading.kind, eager=True)
    return None if shaped is None else shaped.fits.get("", shaped.fits.get(form))


def _typed_format(filled: Sequence[Raw], kind: Kind, hints: ColumnHints) -> str:
    if kind in (Kind.DATE, Kind.MOMENT) and all(isinstance(cell, int | Decimal | str) for cell in filled):
        return SERIAL_1904 if hints.epoch_1904 else SERIAL_1900
    return TYPED if any(not isinstance(cell, str) for cell in filled) else ""


def _typed_value(raw: Raw, kind: Kind, hints: ColumnHints) -> Any:
    """The value of a cell that is no text, as far as it is of the kind; None otherwise."""
    if isinstance(raw, str):
        number = _serial_text(raw) if kind in (Kind.DATE, Kind.MOMENT) else None
        return None if number is None else serial_value(number, kind, epoch_1904=hints.epoch_1904)
    match kind, raw:
        case Kind.YES_NO, bool():
            return raw
        case Kind.YES_NO, 0 | 1:
            return bool(raw)
        case _, bool():
            return None
        case Kind.NUMBER, int() | Decimal() | float():
            return tidy_number(raw)
        case Kind.DATE, datetime():
            return raw.date() if raw.time() == time() else None
        case Kind.DATE, date():
            return raw
        case Kind.MOMENT, datetime():
            return raw
        case Kind.MOMENT, date():
            return datetime.combine(raw, time())
        case Kind.TIME, time():
            return raw.replace(microsecond=0)
        case Kind.TIME, datetime() if raw.year <= 1904:
            return raw.time()
        case Kind.TIME, timedelta() if timedelta() <= raw < timedelta(days=1):
            return (datetime.min + raw).time()
        case Kind.DURATION, timedelta():
            return Duration(seconds=round(raw.total_seconds()))
        case Kind.DURATION, time():
            return Duration(seconds=raw.hour * 3600 + raw.minute * 60 + raw.second)
        case ((Kind.DATE | Kind.MOMENT | Kind.TIME), int() | Decimal() | float()):
            return serial_value(float(raw), kind, epoch_1904=hints.epoch_1904)
    return None


def _serial_text(text: str) -> float | None:
    bare = plain_signs(text)
    return float(bare) if re.fullmatch(r"[1-9]\d{4}(?:\.\d+)?", bare) else None


def _shape(text: str, kind: Kind, *, eager: bool) -> Shaped | None:
    match kind:
        case Kind.DATE:
            return shape_date(text) or _with_time_too(text)
        case Kind.MOMENT:
            return shape_moment(text) or _first_instant(shape_date(text))
        case Kind.TIME:
            return shape_time(text, eager=eager)
        case Kind.NUMBER:
            return shape_number(text)
        case Kind.YES_NO:
            return shape_yes_no(text)
        case Kind.ADDRESSES:
            return shape_addresses(text) or Shaped(fault=f'"{split_addresses(text)[0]}" is not an email address')
        case Kind.DURATION:
            span = parse_duration(text) or (parse_clock_duration(text) if eager else None)
            return Shaped({"": span}) if span is not None else None
    return None


def _with_time_too(text: str) -> Shaped | None:
    moment = shape_moment(text)
    if moment is None:
        return None
    if moment.fits and all(value.time() == time() for value in moment.fits.values()):
        return Shaped({form: value.date() for form, value in moment.fits.items()}, format=moment.format)
    return Shaped(fault=moment.fault or f"{text} has a time as well, and the column holds dates")


def _first_instant(shaped: Shaped | None) -> Shaped | None:
    if shaped is None or shaped.fault:
        return shaped
    return Shaped({form: datetime.combine(day, time()) for form, day in shaped.fits.items()}, format=shaped.format)


_TELLING: tuple[tuple[Kind, Callable[[str], Any]], ...] = (
    (Kind.MOMENT, shape_moment),
    (Kind.DATE, shape_date),
    (Kind.TIME, shape_time),
    (Kind.NUMBER, shape_number),
    (Kind.ADDRESSES, shape_addresses),
    (Kind.YES_NO, shape_yes_no),
    (Kind.DURATION, parse_duration),
)
_WORTH_A_LOOK = re.compile(
    r"[\d@０-９]|\A\W*(?:y|n|x|yes|no|true|false|noon|midday|midnight|✓|✔|☑|☐|✗)\W*\Z", re.IGNORECASE
)


def _kind_of_cell(raw: Raw) -> Kind:
    match raw:
        case str():
            if (len(raw) > 60 and "@" not in raw) or not _WORTH_A_LOOK.search(raw):
                return Kind.TEXT
            return next((kind for kind, shape in _TELLING if shape(raw) is not None), Kind.TEXT)
        case bool():
            return Kind.YES_NO
        case datetime():
            return Kind.MOMENT if raw.time() != time() else Kind.DATE
        case date():
            return Kind.DATE
        case time():
            return Kind.TIME
        case timedelta():
            return Kind.DURATION
    return Kind.NUMBER


def _count_kinds(sample: Sequence[Raw]) -> Counter[Kind]:
    counts: Counter[Kind] = Counter()
    cells = Counter(zip(map(type, sample), sample, strict=True))  # True is 1, and yet no number
    for (_, each), number in cells.items():
        counts[_kind_of_cell(each)] += number
    return counts


def _tell_kind(name: str, filled: Sequence[Raw]) -> Kind:
    if not filled:
        return Kind.TEXT
    sample = filled[:: max(1, len(filled) // _SAMPLE)]
    if len(sample) > 2 * _FIRST_LOOK:
        glance = _count_kinds([sample[number * _SCATTER % len(sample)] for number in range(_FIRST_LOOK)])
        if glance[Kind.TEXT] == _FIRST_LOOK:
            return Kind.TEXT  # another kind takes half of the cells
    counts, total = _count_kinds(sample), len(sample)
    days, moments, numbers = counts[Kind.DATE], counts[Kind.MOMENT], counts[Kind.NUMBER]
    serials = sum(1 for cell in sample if _is_serial(cell)) if numbers else 0
    if days + moments and 2 * (days + moments + serials) >= total:
        return Kind.MOMENT if moments >= days else Kind.DATE
    if serials == total and _DATE_HEADING.search(name):
        whole = all(isinstance(cell, int) or (isinstance(cell, str) and "." not in cell) for cell in sample)
        return Kind.DATE if whole else Kind.MOMENT
    fractions = sum(1 for cell in sample if cell.__class__ in (int, Decimal) and 0 <= cell < 1) if numbers else 0
    if counts[Kind.TIME] and 2 * (counts[Kind.TIME] + fractions) >= total:
        return Kind.TIME
    if numbers and _TIME_HEADING.search(name) and _all_clock_numbers(sample):
        return Kind.TIME
    if counts[Kind.YES_NO] == total:
        return Kind.YES_NO
    for kind in (Kind.ADDRESSES, Kind.NUMBER, Kind.DURATION):
        if 2 * counts[kind] > total or (kind is Kind.ADDRESSES and 2 * counts[kind] == total):
            return kind
    return Kind.TEXT


def _is_serial(cell: Raw) -> bool:
    if isinstance(cell, str):
        cell = _serial_text(cell)
    return isinstance(cell, int | float | Decimal) and not isinstance(cell, bool) and 25_569 <= cell < 73_415


def _all_clock_numbers(sample: Sequence[Raw]) -> bool:
    """Whether bare numbers under a heading of times are all day fractions, or texts such as 9.30 and 10.15."""

    def is_clock(cell: Raw) -> bool:
        if isinstance(cell, str):
            return (
                bool(re.fullmatch(r"\d{1,2}\.[0-5]\d", plain_signs(cell))) and shape_time(cell, eager=True) is not None
            )
        return isinstance(cell, Decimal) and 0 < cell < 1

    return all(is_clock(cell) for cell in sample)


def _said(kind: Kind) -> str:
    return {Kind.YES_NO: "yes or no", Kind.ADDRESSES: "list of e-mail addresses"}.get(kind, kind.value)


def _doubt(text: str, fitting: Mapping[str, Any]) -> str:
    shown = " or ".join(f"{_show_value(value)} ({form})" for form, value in fitting.items())
    return f"{text} can be {shown}, and no other cell of the column decides"


def _deciding(kind: Kind, fitting: Mapping[str, Any]) -> str:
    if kind is Kind.NUMBER:
        return 'say which at the place in whenvoca.toml: decimal = "," or decimal = "."'
    choice = " or ".join(f'dates = "{form}"' for form in fitting)
    return f"say which at the place in whenvoca.toml: {choice}"


def _show_value(value: Any) -> str:
    if isinstance(value, datetime):
        return f"{value:%Y-%m-%d %H:%M}"
    return value.isoformat() if isinstance(value, date) else show_raw(value)


def shape_is_value(text: str) -> bool:
    """Whether a text looks like a date, time, moment or number, and so not like a name."""
    return _kind_of_cell(text) in (Kind.DATE, Kind.TIME, Kind.MOMENT, Kind.NUMBER)
