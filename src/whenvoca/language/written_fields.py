"""Fields whose values are written in a form of their own: two times of day, days of the week, places."""

from __future__ import annotations

from whenvoca.language import tree
from whenvoca.language.days import NoDays, parse_days

WRITTEN = ("between", "weekdays", "calendars", "choices")


def ends_of(node: tree.Node) -> tuple[tree.Node, tree.Node] | None:
    """The two values of `20:00 and 05:00`; None where there are not two."""
    if isinstance(node, tree.Several) and node.joined_by == "and" and len(node.conditions) == 2:
        return node.conditions[0], node.conditions[1]
    return None


def words_of(node: tree.Node) -> list[tuple[str, tree.Node]] | None:
    """The words of a list of names, or of texts, each with its node; None where anything else stands there."""
    found = []
    for each in node.items if isinstance(node, tree.ListOf) else (node,):
        word = each.as_written if isinstance(each, tree.Name) else tree.plain_text(each)
        if not word:
            return None
        found.append((word, each))
    return found


def weekdays_of(node: tree.Node) -> tuple[int, ...] | None:
    """The days of the week that are named, 0 is Monday; None where something else is."""
    words = words_of(node)
    if words is None:
        return None
    try:
        days = parse_days(", ".join(word for word, _ in words), node.spot)
    except NoDays:
        return None
    return None if days.days or days.nths else days.weekdays
