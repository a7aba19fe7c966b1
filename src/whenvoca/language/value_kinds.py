"""The kinds that stand below `read fields`: Day date, Pupils number or empty."""

from __future__ import annotations

from whenvoca.language import tree
from whenvoca.language.types import DATE, DURATION, MOMENT, NUMBER, TEXT, TIME, YES_NO, Type, list_of, thing

VALUE_KINDS = {
    "text": TEXT,
    "list": list_of(TEXT),
    "number": NUMBER,
    "yes/no": YES_NO,
    "date": DATE,
    "time": TIME,
    "moment": MOMENT,
    "duration": DURATION,
    "address": TEXT,
    "addresses": list_of(TEXT),
}


def kind_in(node: tree.Node) -> tuple[str, bool] | None:
    """The kind that a line names, and whether the field may be missing; None where it names none."""
    may_miss = False
    if isinstance(node, tree.Several) and node.joined_by == "or" and len(node.conditions) == 2:
        node, second = node.conditions
        may_miss = isinstance(second, tree.Literal) and second.value is None
        if not may_miss:
            return None
    if isinstance(node, tree.Name):
        word = node.word.lower()
    elif isinstance(node, tree.Sum):  # yes/no, which reads as a division
        word = "yes/no" if _is_yes_no(node) else ""
    else:
        word = ""
    return (word, may_miss) if word in VALUE_KINDS else None


def _is_yes_no(node: tree.Sum) -> bool:
    parts = (node.left, node.right)
    values = [each.value for each in parts if isinstance(each, tree.Literal)]
    return node.sign == "/" and values == [True, False]


def read_type(step: tree.Step) -> Type:
    """What a step gives below which names stand with their kinds."""
    kinds = ((line.as_written, kind_in(line.value)) for line in step.fields)
    return thing("what was read", {word: VALUE_KINDS[kind[0]] for word, kind in kinds if kind is not None})
