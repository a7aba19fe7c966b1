"""From a value's tree to a function that gives the value: compiled once a workflow, called once a run.

Empty values spread as language.md says: empty in a text is nothing; in `at`, `+`, `-` it gives empty.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Mapping
from datetime import date, datetime, time, timedelta
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.language.expressions import VALUE_WORDS
from whenvoca.language.list_words import ListWords
from whenvoca.language.names import fold_name
from whenvoca.language.operations import (
    FUNCTIONS,
    TEXT_RELATIONS,
    calculate,
    compare_order,
    is_same,
    to_instant,
    to_list,
)
from whenvoca.language.spans import SpanWords
from whenvoca.values.columns import Unread
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_pattern, show_value
from whenvoca.values.usable import refuse_unusable
from whenvoca.values.working_days import WEEKENDS
from whenvoca.values.zones import load_zone, to_moment


class Thing(Protocol):
    """Something with fields: a row, an event."""

    def value_of(self, word: str) -> Any:
        """The field's value, Unread where a cell gives none. ``word`` is folded. Raises KeyError."""

    def where_is(self, word: str) -> str:
        """The field's place for messages: its cell."""


class Scope(Struct):
    """What names stand for in one run: the subject, given names, the moment, the zone."""

    subject: Thing | None
    subject_word: str
    now: datetime
    zone: ZoneInfo
    names: dict[str, Any] = field(default_factory=dict)
    words: dict[str, Any] = field(default_factory=dict)
    told: ZoneInfo | None = None  # of whom it is told to: moments are shown in it
    hides: bool = False  # what private events are about is not told

    def in_zone(self, zone: ZoneInfo) -> Scope:
        """The same names, read in another zone."""
        return replace(self, zone=zone)

    def told_in(self, zone: ZoneInfo) -> Scope:
        """The same, told to somebody in that zone."""
        return replace(self, told=zone)

    def with_names(self, names: dict[str, Any]) -> Scope:
        """The same with these given names."""
        return replace(self, names=names)


Value = Callable[[Scope], Any]


class Compiler(ListWords, SpanWords):
    """Compiles values for one workflow; ``columns`` are the folded field names of its subject, ``days_off`` no working
    days."""

    def __init__(self, columns: frozenset[str], days_off: Container[date] = WEEKENDS) -> None:
        self.columns, self.days_off = columns, days_off

    def value(self, node: tree.Node) -> Value:
        """The function that gives the value. Unread cells raise RowFault when it is called."""
        if isinstance(node, tree.Name) and (node.is_column or fold_name(node.word) not in VALUE_WORDS):
            word = fold_name(node.word)
            if word in self.columns:

                def column(scope: Scope) -> Any:
                    subject: Any = scope.subject
                    value = _told(subject, word, scope) if scope.hides else subject.value_of(word)
                    if value.__class__ is Unread:
                        return _read(LocatedUnread.of(value, subject.where_is(word)))
                    return value

                return column
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
        return parts[0] if len(parts) == 1 else self._all_of(parts)

    @staticmethod
    def _all_of(parts: list[Callable[[Scope], bool]]) -> Callable[[Scope], bool]:
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
        if word in self.columns:
            return lambda scope: _located(scope.subject, word, scope)

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
        return lambda scope: None if (thing := owner(scope)) is None else _located(thing, word, scope)

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
                for element in to_list(source(scope)):
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
        function = FUNCTIONS[node.function]
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
            if day is None or clock is None:
                return None
            refuse_unusable(day, "day")
            return to_moment(datetime.combine(day, clock), scope.zone)

        return joined

    def at_parts(self, node: tree.At) -> Callable[[Scope], tuple[date | None, time | None]]:
        """The date and the time of `DATE at TIME`, apart. Raises RowFault where one of them cannot be read."""
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

    def _build_shown(self, node: tree.Shown) -> Value:
        value, form = self.value(node.value), node.form

        def shown(scope: Scope) -> Any:
            given = value(scope)
            if is_empty(given):
                return None
            if scope.told is not None and isinstance(given, datetime):
                given = given.astimezone(scope.told)
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
            return calculate(first, sign, second, scope.zone)

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
        if node.joined_by == "and":
            return self._all_of([self.condition(each) for each in node.conditions])
        parts = [self.value(each) for each in node.conditions]

        def first_filled(scope: Scope) -> Any:
            """The first that is neither empty nor no; so a condition holds, and a value has something in its place."""
            value = None
            for part in parts:
                value = part(scope)
                if not (value is False or is_empty(value)):
                    return value
            return value

        return first_filled

    def _build_isempty(self, node: tree.IsEmpty) -> Value:
        inner = self._build(node.value)
        return lambda scope: is_empty(inner(scope))

    def _build_isoneof(self, node: tree.IsOneOf) -> Value:
        value, items = self._loose(node.value), [self.value(item) for item in node.items]
        return lambda scope: (given := value(scope), any(is_same(given, item(scope), scope.zone) for item in items))[1]

    def _build_between(self, node: tree.Between) -> Value:
        value, low, high = self.value(node.value), self.value(node.low), self.value(node.high)

        def between(scope: Scope) -> bool:
            given = value(scope)
            return compare_order(low(scope), "<=", given, scope.zone) and compare_order(
                given, "<=", high(scope), scope.zone
            )

        return between

    def _build_compare(self, node: tree.Compare) -> Value:
        relation = node.relation
        if relation in ("is", "contains", "begins with", "ends with", "like"):
            left, right = self._loose(node.left), self._loose(node.right)
            compare = TEXT_RELATIONS[relation]
            return lambda scope: compare(left(scope), right(scope), scope.zone)
        first, second = self.value(node.left), self.value(node.right)
        sign = {"before": "<", "after": ">"}.get(relation, relation)
        return lambda scope: compare_order(first(scope), sign, second(scope), scope.zone)

    def _loose(self, node: tree.Node) -> Value:
        """The value, where a cell that cannot be read counts as its text."""
        inner = self._build(node)
        return lambda scope: value.text if isinstance(value := inner(scope), Unread) else value


_MISSING = object()
_PRIVATE = {"title": "private", "location": None, "details": None, "old": None, "new": None}  # what stands for it
_WORD_VALUES: Mapping[str, Value] = {
    "now": lambda scope: scope.now.astimezone(scope.zone),
    "today": lambda scope: scope.now.astimezone(scope.zone).date(),
    "tomorrow": lambda scope: scope.now.astimezone(scope.zone).date() + timedelta(days=1),
    "none": lambda scope: None,
}


def _told(thing: Any, word: str, scope: Scope) -> Any:
    """A field's value; of a private event, where it is told to others, no more than that it is private."""
    if scope.hides and word in _PRIVATE and getattr(thing, "is_private", False):
        return _PRIVATE[word]
    return thing.value_of(word)


def _located(thing: Any, word: str, scope: Scope) -> Any:
    value = _told(thing, word, scope) if scope.hides else thing.value_of(word)
    return LocatedUnread.of(value, thing.where_is(word)) if value.__class__ is Unread else value


class LocatedUnread(Unread, frozen=True):
    """An Unread that knows its cell."""

    where: str = ""

    @classmethod
    def of(cls, unread: Unread, where: str) -> LocatedUnread:
        """The same with its cell's name."""
        return cls(unread.text, unread.fault, unread.fix, unread.waits, where)


_UNREAD = (Unread, LocatedUnread)  # told by their class: isinstance takes thrice as long, for each cell of each row


class WaitingFault(RowFault):
    """A value that a setting would decide: the row is held, not failed."""


def _read(value: Any) -> Any:
    if value.__class__ in _UNREAD:
        kind = WaitingFault if value.waits else RowFault
        raise kind(value.fault, where=getattr(value, "where", ""), fix=value.fix)
    return value


def _show(value: Any, scope: Scope) -> str:
    if value.__class__ is str:
        return str(value)
    if scope.told is not None and isinstance(value, datetime):
        value = value.astimezone(scope.told)
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
