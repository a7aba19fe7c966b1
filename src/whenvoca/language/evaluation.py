"""From a value's tree to a function that gives the value: compiled once a workflow, called once a run.

Empty values spread as language.md says: empty in a text is nothing; in `at`, `+`, `-` it gives empty.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.language.expressions import VALUE_WORDS
from whenvoca.language.inference import fold_name
from whenvoca.values.columns import Unread
from whenvoca.values.durations import Duration, add_to_date, add_to_moment, sum_durations
from whenvoca.values.kinds import is_empty
from whenvoca.values.numbers import shape_number, split_addresses, tidy_number
from whenvoca.values.texts import show_pattern, show_value
from whenvoca.values.zones import first_moment, load_zone, to_moment


class Thing(Protocol):
    """Something with fields: a row, an event."""

    def value_of(self, word: str) -> Any:
        """The field's value, Unread where a cell gives none. ``word`` is folded. Raises KeyError."""

    def where_is(self, word: str) -> str:
        """The field's place for messages: its cell."""


@dataclass(slots=True)
class Scope:
    """What names stand for in one run: the subject, given names, the moment, the zone."""

    subject: Thing | None
    subject_word: str
    now: datetime
    zone: ZoneInfo
    names: dict[str, Any] = field(default_factory=dict)
    words: dict[str, Any] = field(default_factory=dict)

    def in_zone(self, zone: ZoneInfo) -> Scope:
        """The same names, read in another zone."""
        return Scope(self.subject, self.subject_word, self.now, zone, self.names, self.words)


Value = Callable[[Scope], Any]


class Compiler:
    """Compiles values for one workflow; ``columns`` are the folded field names of its subject."""

    def __init__(self, columns: frozenset[str]) -> None:
        self._columns = columns

    def value(self, node: tree.Node) -> Value:
        """The function that gives the value. Unread cells raise RowFault when it is called."""
        if isinstance(node, tree.Name) and (node.is_column or fold_name(node.word) not in VALUE_WORDS):
            word = fold_name(node.word)
            if word in self._columns:
                return lambda scope: _column_value(scope.subject, word)
        inner = self._build(node)
        if isinstance(node, tree.Name | tree.Field | tree.Choice):
            return lambda scope: _read(inner(scope))
        return inner

    def condition(self, node: tree.Node) -> Callable[[Scope], bool]:
        """The function that tells whether the condition holds."""
        inner = self.value(node)
        return lambda scope: bool(inner(scope))

    def conditions(self, nodes: tuple[tree.Node, ...]) -> Callable[[Scope], bool]:
        """The function that tells whether all of them hold."""
        parts = [self.condition(node) for node in nodes]
        return lambda scope: all(part(scope) for part in parts)

    def _build(self, node: tree.Node) -> Value:
        build: Callable[[Any], Value] = getattr(self, "_build_" + type(node).__name__.lower())
        return build(node)

    # --- names

    def _build_literal(self, node: tree.Literal) -> Value:
        value = node.value
        return lambda scope: value

    def _build_name(self, node: tree.Name) -> Value:
        word = fold_name(node.word)
        if word in VALUE_WORDS and not node.is_column:
            return _WORD_VALUES.get(word) or (lambda scope: scope.words.get(word))
        if word in self._columns:
            return lambda scope: _located(scope.subject, word)

        def named(scope: Scope) -> Any:
            if word in scope.names:
                return scope.names[word]
            if word == scope.subject_word:
                return scope.subject
            raise RowFault(f'"{node.as_written}" has no value here')

        return named

    def _build_field(self, node: tree.Field) -> Value:
        word = fold_name(node.word)
        owner: Value
        if isinstance(node.of, tree.Name):
            owner_word = fold_name(node.of.word)

            def named_owner(scope: Scope) -> Any:
                if owner_word in scope.names:
                    return scope.names[owner_word]
                if owner_word == scope.subject_word:
                    return scope.subject
                return scope.words.get(owner_word)

            owner = named_owner
        else:
            owner = self.value(node.of)
        return lambda scope: None if (thing := owner(scope)) is None else _located(thing, word)

    # --- texts and lists

    def _build_text(self, node: tree.Text) -> Value:
        if len(node.lines) == 1 and all(isinstance(part, str) for part in node.lines[0]):
            plain = "".join(str(part) for part in node.lines[0])
            return lambda scope: plain
        lines = [tuple(part if isinstance(part, str) else self._build(part) for part in line) for line in node.lines]
        if len(lines) == 1:
            only = lines[0]
            return lambda scope: "".join(
                [part if isinstance(part, str) else _show(part(scope), scope) for part in only]
            )
        return lambda scope: "\n".join(shown for line in lines for shown in _show_line(line, scope))

    def _build_listof(self, node: tree.ListOf) -> Value:
        items = [self.value(item) for item in node.items]

        def joined(scope: Scope) -> list[Any]:
            found: list[Any] = []
            for item in items:
                value = item(scope)
                if isinstance(value, list | tuple):
                    found += value
                elif not is_empty(value):
                    found.append(value)
            return found

        return joined

    def _build_each(self, node: tree.Each) -> Value:
        source, value = self.value(node.source), self.value(node.value)
        condition = self.condition(node.condition) if node.condition else None
        name = fold_name(node.name)

        def gone_through(scope: Scope) -> list[Any]:
            found = []
            outer = scope.names.get(name, _MISSING)
            try:
                for element in _as_list(source(scope)):
                    scope.names[name] = element
                    if condition is None or condition(scope):
                        found.append(value(scope))
            finally:
                scope.names.pop(name, None)
                if outer is not _MISSING:
                    scope.names[name] = outer
            return found

        return gone_through

    def _build_call(self, node: tree.Call) -> Value:
        function = _FUNCTIONS[node.function]
        arguments = [self.value(argument) for argument in node.arguments]
        return lambda scope: function(*(argument(scope) for argument in arguments))

    def _build_choice(self, node: tree.Choice) -> Value:
        condition, then = self.condition(node.condition), self._build(node.then)
        otherwise = self._build(node.otherwise) if node.otherwise else (lambda scope: None)
        return lambda scope: then(scope) if condition(scope) else otherwise(scope)

    # --- moments and durations

    def _build_at(self, node: tree.At) -> Value:
        parts = self.at_parts(node)

        def joined(scope: Scope) -> datetime | None:
            day, clock = parts(scope)
            return None if day is None or clock is None else to_moment(datetime.combine(day, clock), scope.zone)

        return joined

    def at_parts(self, node: tree.At) -> Callable[[Scope], tuple[date | None, time | None]]:
        """The date and the time of `DATE at TIME`, apart."""
        day, clock = self.value(node.day), self.value(node.clock)

        def parts(scope: Scope) -> tuple[date | None, time | None]:
            given_day, given_clock = day(scope), clock(scope)
            if isinstance(given_day, datetime):
                given_day = given_day.date()
            if isinstance(given_clock, datetime):
                given_clock = given_clock.timetz().replace(tzinfo=None)
            if not is_empty(given_day) and not isinstance(given_day, date):
                raise RowFault(f"{show_value(given_day)} is no date")
            if not is_empty(given_clock) and not isinstance(given_clock, time):
                raise RowFault(f"{show_value(given_clock)} is no time")
            return (None if is_empty(given_day) else given_day), (None if is_empty(given_clock) else given_clock)

        return parts

    def _build_span(self, node: tree.Span) -> Value:
        pieces = [(self.value(amount), unit) for amount, unit in node.pieces]

        def total(scope: Scope) -> Duration | None:
            amounts = [(amount(scope), unit) for amount, unit in pieces]
            if any(is_empty(amount) for amount, _ in amounts):
                return None
            for amount, unit in amounts:
                if not isinstance(amount, int | Decimal):
                    raise RowFault(f"{show_value(amount)} {unit}s is no duration")
            return sum_durations(Duration.of(amount, unit) for amount, unit in amounts)

        return total

    def _build_offset(self, node: tree.Offset) -> Value:
        span, before = self.value(node.span), node.before
        return lambda scope: None if (given := span(scope)) is None else (-given if before else given)

    def _build_shown(self, node: tree.Shown) -> Value:
        value, form = self.value(node.value), node.form

        def shown(scope: Scope) -> Any:
            given = value(scope)
            if is_empty(given):
                return None
            if form == "date":
                return given.date() if isinstance(given, datetime) else given
            if form == "time":
                return given.time().replace(microsecond=0) if isinstance(given, datetime) else given
            return show_pattern(given, form[1:])

        return shown

    def _build_inzone(self, node: tree.InZone) -> Value:
        value, zone = self.value(node.value), self.value(node.zone)

        def moved(scope: Scope) -> datetime | None:
            given = value(scope)
            if is_empty(given):
                return None
            return to_instant(given, scope.zone).astimezone(load_zone(str(zone(scope))))

        return moved

    def _build_sum(self, node: tree.Sum) -> Value:
        left, right, sign = self.value(node.left), self.value(node.right), node.sign

        def result(scope: Scope) -> Any:
            first, second = left(scope), right(scope)
            if is_empty(first) or is_empty(second):
                return None
            return _calculate(first, sign, second, scope)

        return result

    def _build_minus(self, node: tree.Minus) -> Value:
        value = self.value(node.value)
        return lambda scope: None if is_empty(given := value(scope)) else -given

    def _build_repeat(self, node: tree.Repeat) -> Value:
        parts = dict(node.parts)
        until = self.value(node.until) if node.until else None
        return lambda scope: (parts, until(scope) if until else None)

    # --- conditions

    def _build_not(self, node: tree.Not) -> Value:
        inner = self.condition(node.condition)
        return lambda scope: not inner(scope)

    def _build_several(self, node: tree.Several) -> Value:
        parts = [self.condition(each) for each in node.conditions]
        if node.joined_by == "and":
            return lambda scope: all(part(scope) for part in parts)
        return lambda scope: any(part(scope) for part in parts)

    def _build_isempty(self, node: tree.IsEmpty) -> Value:
        inner = self._build(node.value)
        return lambda scope: is_empty(inner(scope))

    def _build_isoneof(self, node: tree.IsOneOf) -> Value:
        value, items = self._loose(node.value), [self.value(item) for item in node.items]
        return lambda scope: (given := value(scope), any(_is_same(given, item(scope), scope) for item in items))[1]

    def _build_between(self, node: tree.Between) -> Value:
        value, low, high = self.value(node.value), self.value(node.low), self.value(node.high)

        def between(scope: Scope) -> bool:
            given = value(scope)
            return _compare_order(low(scope), "<=", given, scope) and _compare_order(given, "<=", high(scope), scope)

        return between

    def _build_compare(self, node: tree.Compare) -> Value:
        relation = node.relation
        if relation in ("is", "contains", "begins with", "ends with", "like"):
            left, right = self._loose(node.left), self._loose(node.right)
            compare = _TEXT_RELATIONS[relation]
            return lambda scope: compare(left(scope), right(scope), scope)
        first, second = self.value(node.left), self.value(node.right)
        sign = {"before": "<", "after": ">"}.get(relation, relation)
        return lambda scope: _compare_order(first(scope), sign, second(scope), scope)

    def _loose(self, node: tree.Node) -> Value:
        """The value, where a cell that cannot be read counts as its text."""
        inner = self._build(node)
        return lambda scope: value.text if isinstance(value := inner(scope), Unread) else value


_MISSING = object()
_WORD_VALUES: Mapping[str, Value] = {
    "now": lambda scope: scope.now.astimezone(scope.zone),
    "today": lambda scope: scope.now.astimezone(scope.zone).date(),
    "tomorrow": lambda scope: scope.now.astimezone(scope.zone).date() + timedelta(days=1),
    "none": lambda scope: None,
}


def _column_value(subject: Any, word: str) -> Any:
    value = subject.value_of(word)
    return _read(LocatedUnread.of(value, subject.where_is(word))) if isinstance(value, Unread) else value


def _located(thing: Any, word: str) -> Any:
    value = thing.value_of(word)
    return LocatedUnread.of(value, thing.where_is(word)) if isinstance(value, Unread) else value


class LocatedUnread(Unread):
    """An Unread that knows its cell."""

    __slots__ = ("where",)
    where: str

    @classmethod
    def of(cls, unread: Unread, where: str) -> LocatedUnread:
        """The same with its cell's name."""
        made = cls(unread.text, unread.fault, unread.mend, unread.waits)
        object.__setattr__(made, "where", where)
        return made


class WaitingFault(RowFault):
    """A value that a setting would decide: the row is held, not failed."""


def _read(value: Any) -> Any:
    if isinstance(value, Unread):
        kind = WaitingFault if value.waits else RowFault
        raise kind(value.fault, where=getattr(value, "where", ""), mend=value.mend)
    return value


def to_instant(value: Any, zone: ZoneInfo) -> datetime:
    """A moment, or a date's first moment. Raises RowFault for anything else."""
    if isinstance(value, datetime):
        return value
    if isinstance(value, date):
        return first_moment(value, zone)
    raise RowFault(f"{show_value(value)} is no moment", mend='join a date with a time: "Day at Begin"')


def _show(value: Any, scope: Scope) -> str:
    return value.text if isinstance(value, Unread) else show_value(value, year=scope.now.astimezone(scope.zone).year)


def _show_line(parts: tuple[Any, ...], scope: Scope) -> list[str]:
    """One line of a text block; a list alone on it repeats its indent, and an empty one takes the line away."""
    values = [part if isinstance(part, str) else part(scope) for part in parts]
    lists = [value for value in values if isinstance(value, list)]
    if len(lists) == 1 and all(
        isinstance(value, list) or (isinstance(value, str) and not value.strip()) for value in values
    ):
        lead = values[0] if isinstance(values[0], str) else ""
        return [lead + _show(item, scope) for item in lists[0]]
    return [
        "".join(
            part if isinstance(part, str) else _show(value, scope) for part, value in zip(parts, values, strict=True)
        )
    ]


def _as_list(value: Any) -> list[Any]:
    if is_empty(value):
        return []
    return list(value) if isinstance(value, list | tuple) else [value]


def _calculate(first: Any, sign: str, second: Any, scope: Scope) -> Any:
    match first, sign, second:
        case (int() | Decimal(), _, int() | Decimal()) if not isinstance(first, bool):
            return _reckon(Decimal(first), sign, Decimal(second))
        case datetime(), "+" | "-", Duration():
            return add_to_moment(first, second if sign == "+" else -second)
        case date(), "+" | "-", Duration():
            return add_to_date(first, second if sign == "+" else -second)
        case Duration(), "+", datetime():
            return add_to_moment(second, first)
        case Duration(), "+", date():
            return add_to_date(second, first)
        case Duration(), "+", Duration():
            return first + second
        case Duration(), "-", Duration():
            return first - second
        case Duration(), "/", Duration():
            return _reckon(Decimal(first.to_seconds()), "/", Decimal(second.to_seconds()))
        case Duration(), "*" | "/", int() | Decimal():
            return Duration(seconds=round(_exact(first.to_seconds(), sign, second)))
        case int() | Decimal(), "*", Duration():
            return Duration(seconds=round(_exact(second.to_seconds(), "*", first)))
        case time(), "-", time():
            return Duration(seconds=_clock_seconds(first) - _clock_seconds(second))
        case date(), "-", date() if not isinstance(first, datetime) and not isinstance(second, datetime):
            return Duration(days=(first - second).days)
        case date(), "-", date():
            return Duration.between(to_instant(second, scope.zone), to_instant(first, scope.zone))
    raise RowFault(f"{show_value(first)} {sign} {show_value(second)} cannot be reckoned")


def _exact(seconds: int, sign: str, factor: Decimal | int) -> Decimal:
    return Decimal(_reckon(Decimal(seconds), sign, Decimal(factor)))


def _clock_seconds(clock: time) -> int:
    return clock.hour * 3600 + clock.minute * 60 + clock.second


def _reckon(first: Decimal, sign: str, second: Decimal) -> int | Decimal:
    match sign:
        case "+":
            return tidy_number(first + second)
        case "-":
            return tidy_number(first - second)
        case "*":
            return tidy_number(first * second)
    if not second:
        raise RowFault(f"{first} cannot be divided by nothing")
    return tidy_number(first / second)


def _compare_order(first: Any, sign: str, second: Any, scope: Scope) -> bool:
    if is_empty(first) or is_empty(second):
        return False
    if (
        isinstance(first, datetime) != isinstance(second, datetime)
        and isinstance(first, date)
        and isinstance(second, date)
    ):
        first, second = to_instant(first, scope.zone), to_instant(second, scope.zone)
    if isinstance(first, Duration) and isinstance(second, Duration):
        first, second = first.to_seconds(), second.to_seconds()
    if isinstance(first, str) and isinstance(second, str):
        first, second = first.casefold(), second.casefold()
    try:
        match sign:
            case "<":
                return bool(first < second)
            case "<=":
                return bool(first <= second)
            case ">":
                return bool(first > second)
        return bool(first >= second)
    except TypeError as error:
        raise RowFault(f"{show_value(first)} and {show_value(second)} cannot be compared") from error


def _is_same(first: Any, second: Any, scope: Scope) -> bool:
    if is_empty(first) or is_empty(second):
        return is_empty(first) and is_empty(second)
    if isinstance(first, list | tuple) != isinstance(second, list | tuple):
        several, one = (first, second) if isinstance(first, list | tuple) else (second, first)
        return any(_is_same(item, one, scope) for item in several)
    if isinstance(first, str) != isinstance(second, str):
        return _fold(show_value(first)) == _fold(show_value(second))
    if isinstance(first, str):
        return _fold(first) == _fold(second)
    if (
        isinstance(first, datetime) != isinstance(second, datetime)
        and isinstance(first, date)
        and isinstance(second, date)
    ):
        return to_instant(first, scope.zone) == to_instant(second, scope.zone)
    if isinstance(first, bool) != isinstance(second, bool):
        return False
    if isinstance(first, list | tuple):
        return len(first) == len(second) and all(_is_same(a, b, scope) for a, b in zip(first, second, strict=True))
    return bool(first == second)


def _fold(text: str) -> str:
    return " ".join(text.casefold().split())


def _contains(first: Any, second: Any, scope: Scope) -> bool:
    if is_empty(first) or is_empty(second):
        return False
    if isinstance(first, list | tuple):
        return any(_is_same(item, second, scope) for item in first)
    return _fold(show_value(second)) in _fold(show_value(first))


def _any_text(test: Callable[[str, str], bool]) -> Callable[[Any, Any, Scope], bool]:
    def tell(first: Any, second: Any, _: Scope) -> bool:
        if is_empty(first) or is_empty(second):
            return False
        wanted = _fold(show_value(second))
        return any(test(_fold(show_value(item)), wanted) for item in _as_list(first))

    return tell


_TEXT_RELATIONS: Mapping[str, Callable[[Any, Any, Scope], bool]] = {
    "is": _is_same,
    "contains": _contains,
    "begins with": _any_text(str.startswith),
    "ends with": _any_text(str.endswith),
    "like": _any_text(fnmatch.fnmatchcase),
}


def _sum_all(items: Any) -> Any:
    found = [item for item in _as_list(items) if not is_empty(item)]
    if found and all(isinstance(item, Duration) for item in found):
        return sum_durations(found)
    if not all(isinstance(item, int | Decimal) for item in found):
        raise RowFault("sum adds numbers or durations")
    return tidy_number(sum((Decimal(item) for item in found), Decimal(0)))


def _to_number(value: Any) -> int | Decimal | None:
    if is_empty(value) or isinstance(value, int | Decimal):
        return None if is_empty(value) else tidy_number(value)
    shaped = shape_number(str(value))
    values = set(shaped.fits.values()) if shaped else set()
    if len(values) != 1:
        raise RowFault(
            f"{show_value(value)} is no number" if not values else f"{show_value(value)} can be read in two ways"
        )
    return tidy_number(values.pop())


def _split(value: Any, sign: Any = None) -> list[str]:
    if is_empty(value):
        return []
    text = show_value(value)
    return [piece.strip() for piece in text.split(str(sign)) if piece.strip()] if sign else split_addresses(text)


def _town(value: Any) -> str:
    """The town of an address line: its last part that is no number and no country code."""
    parts = [part.strip() for part in show_value(value).replace("\n", ",").split(",") if part.strip()]
    named = [part for part in parts if any(sign.isalpha() for sign in part)]
    return named[-1].lstrip("0123456789- ") if named else ""


_FUNCTIONS: Mapping[str, Callable[..., Any]] = {
    "count": lambda items: len(_as_list(items)),
    "sum": _sum_all,
    "first": lambda items: next(iter(_as_list(items)), None),
    "last": lambda items: next(iter(reversed(_as_list(items))), None),
    "join": lambda items, sign=", ": show_value(sign).join(show_value(item) for item in _as_list(items)),
    "split": _split,
    "lower": lambda value: show_value(value).lower(),
    "upper": lambda value: show_value(value).upper(),
    "round": lambda value, digits=0: None if is_empty(value) else tidy_number(round(Decimal(value), int(digits))),
    "number": _to_number,
    "town": _town,
}
