"""What stands behind a list in a value: how it is sorted, cut and grouped."""

from __future__ import annotations

from whenvoca.language.tree import Node


class Sorted(Node, frozen=True):
    """LIST sort by KEY [falling] [then …]"""

    source: Node
    keys: tuple[tuple[Node, bool], ...]


class Top(Node, frozen=True):
    """LIST top COUNT"""

    source: Node
    count: Node


class Unique(Node, frozen=True):
    """LIST unique"""

    source: Node


class Grouped(Node, frozen=True):
    """group LIST by KEY"""

    source: Node
    key: Node


ListNode = Sorted | Top | Unique | Grouped
