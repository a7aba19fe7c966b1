"""The words behind a list: `sort by`, `top`, `unique`; and `group … by`. How they are read is in ``expressions``."""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any

from msgspec.structs import replace

from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.language.list_nodes import Grouped, Sorted, Top, Unique
from whenvoca.language.names import fold_name
from whenvoca.language.operations import to_list
from whenvoca.values.durations import Duration
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value

_LATE = 9  # rank of what is of no kind that has an order


class GroupThing:
    """The elements of a list that have one value in common: `name`, and the elements as `items`."""

    def __init__(self, name: Any, items: list[Any]) -> None:
        self.name, self.items = name, items

    @property
    def key(self) -> str:
        """What makes it the same group."""
        return show_value(self.name)

    def where_is(self, word: str) -> str:
        """Which group."""
        return f'the group "{show_value(self.name)}"'

    def value_of(self, word: str) -> Any:
        """name or items. Raises KeyError for anything else."""
        return {"name": self.name, "items": list(self.items)}[word]


class ListWords:
    """What the compiler makes of them; ``columns`` and ``value`` are the compiler's."""

    columns: frozenset[str]

    def value(self, node: tree.Node) -> Callable[[Any], Any]:
        """The function that gives a node's value."""
        raise NotImplementedError

    def _build_sorted(self, node: Sorted) -> Callable[[Any], Any]:
        source = self.value(node.source)
        keys = [(self._of_element(key), falls) for key, falls in node.keys]

        def in_order(scope: Any) -> list[Any]:
            found = to_list(source(scope))
            for key, falls in reversed(keys):  # each sort keeps the order of what is equal
                ranked = [(rank(key(scope, each)), each) for each in found]
                filled = sorted((each for each in ranked if each[0]), key=_by_rank, reverse=falls)
                found = [each for _, each in filled] + [each for value, each in ranked if not value]
            return found

        return in_order

    def _build_top(self, node: Top) -> Callable[[Any], Any]:
        source, count = self.value(node.source), self.value(node.count)

        def cut(scope: Any) -> list[Any]:
            number = count(scope)
            if not isinstance(number, int) or isinstance(number, bool) or number < 0:
                raise RowFault(f"top {show_value(number)}: here stands a whole number")
            return to_list(source(scope))[:number]

        return cut

    def _build_unique(self, node: Unique) -> Callable[[Any], Any]:
        source = self.value(node.source)

        def once(scope: Any) -> list[Any]:
            found: dict[Any, Any] = {}
            for each in to_list(source(scope)):
                found.setdefault(_identity(each), each)
            return list(found.values())

        return once

    def _build_grouped(self, node: Grouped) -> Callable[[Any], Any]:
        source, key = self.value(node.source), self._of_element(node.key)

        def grouped(scope: Any) -> list[GroupThing]:
            found: dict[Any, GroupThing] = {}
            for each in to_list(source(scope)):
                value = key(scope, each)
                value = None if is_empty(value) else value
                found.setdefault(_identity(value), GroupThing(value, [])).items.append(each)
            return list(found.values())

        return grouped

    def _of_element(self, node: tree.Node) -> Callable[[Any, Any], Any]:
        """The value of a node in which bare names are fields of the element, as are those behind its own name."""
        among = copy(self)
        among.columns = frozenset(fold_name(word) for word in tree.words_in(node))
        own = among.value(node)
        owners = owners_in(node)

        def of(scope: Any, element: Any) -> Any:
            names = {**dict.fromkeys(owners, element), **scope.names}
            return own(replace(scope, subject=element, subject_word="", names=names))

        return of


def _by_rank(ranked: tuple[tuple[int, Any] | None, Any]) -> tuple[int, Any]:
    return ranked[0] or (_LATE, "")


def owners_in(node: tree.Node) -> set[str]:
    """The names that stand before a dot."""
    fields = [each for each in tree.leaves_of(node) if isinstance(each, tree.Field)]
    return {fold_name(each.of.word) for each in fields if isinstance(each.of, tree.Name)}


def rank(value: Any) -> tuple[int, Any] | None:
    """What values are ordered by, whatever they are; None for an empty one."""
    if is_empty(value):
        return None
    match value:
        case bool():
            return 0, value
        case int() | float() | Decimal():
            return 1, value
        case Duration():
            return 2, value.to_seconds()
        case datetime():
            return 3, value.astimezone(UTC).isoformat()
        case date():
            return 3, value.isoformat()
        case time():
            return 4, value.isoformat()
        case str():
            return 5, value.casefold()
    return _LATE, show_value(value).casefold()


def _identity(value: Any) -> Any:
    """What makes an element the same as another one."""
    own = getattr(value, "key", None)
    if isinstance(own, str):
        return own, type(value).__name__
    return rank(value)
