"""The types of what stands behind a list: `sort by`, `top`, `unique`; and of `group … by`."""

from __future__ import annotations

from typing import Protocol

from msgspec.structs import replace

from whenvoca.language import tree
from whenvoca.language.faults import FaultList, with_article
from whenvoca.language.list_nodes import Grouped, ListNode, Sorted, Top
from whenvoca.language.list_words import owners_in
from whenvoca.language.names import Names
from whenvoca.language.types import ANY, NUMBER, Type, list_of, thing

_WORDS = {"Sorted": "sort by", "Top": "top", "Unique": "unique", "Grouped": "group"}


class Typing(Protocol):
    """What tells the types of values, and hears of faults."""

    faults: FaultList

    def type_of(self, node: tree.Node, names: Names, *, shown: bool = False) -> Type:
        """The type of a value."""

    def want(self, node: tree.Node, names: Names, wanted: Type, why: str) -> Type:
        """The type of a value that must be of a certain type."""


def type_of_list(typing: Typing, node: ListNode, names: Names) -> Type:
    """What a list becomes that is sorted, cut or grouped."""
    source = typing.type_of(node.source, names)
    if source.name not in ("list", "any", "empty"):
        said = f"{_WORDS[type(node).__name__]} takes a list, and this is {with_article(str(source))}"
        typing.faults.add(node.source.spot, said)
    item = source.item or ANY
    keys = [key for key, _ in node.keys] if isinstance(node, Sorted) else []
    keys += [node.key] if isinstance(node, Grouped) else []
    for key in keys:
        given = {**dict.fromkeys(owners_in(key), item), **names.given}
        subject = item if item.name == "thing" else ANY
        typing.type_of(key, replace(names, subject=subject, subject_word="", place=None, given=given, is_look_up=True))
    if isinstance(node, Top):
        typing.want(node.count, names, NUMBER, "behind top stands a number")
    return list_of(thing("group", {"name": ANY, "items": source})) if isinstance(node, Grouped) else source
