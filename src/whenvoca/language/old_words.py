"""Words of the language that have a new name. For one version the old one is still read: `check` names the new one, and
`tidy` writes it."""

from __future__ import annotations

from collections.abc import Container

from whenvoca.language.faults import FaultList, Spot
from whenvoca.language.names import fold_name
from whenvoca.language.tree import Field, Name
from whenvoca.language.types import Type

SENTENCES = {("send", "letter", "to"): ("send", "email", "to")}  # how a step began, and how it begins now
DATED = ("event", "task")  # what has the fields below
FIELDS = {"alarm": "reminder"}
BRAKED = {"letter": "email"}  # what a brake counts


def new_sentence(words: list[str]) -> list[str]:
    """The words of a step as they are now; the same list where nothing in them is old."""
    for old, new in SENTENCES.items():
        if tuple(word.lower() for word in words[: len(old)]) == old:
            return [*new, *words[len(old) :]]
    return words


def new_field(word: str, known: Container[str]) -> str:
    """The field that the word means now, where ``known`` has that one and not the word itself;
    else empty."""
    new = FIELDS.get(word, "")
    return new if new and word not in known and new in known else ""


def renewed(node: Name | Field, owner: Type, faults: FaultList) -> str:
    """The field of its owner that a word of a value stands for, by its name of today; an old one is recorded."""
    word = fold_name(node.word)
    new = new_field(word, owner.fields) if owner.said in DATED else ""
    if new:
        begin = node.spot.column + node.spot.length - len(node.as_written)
        faults.add_old(Spot(node.spot.line, begin, len(node.as_written)), node.as_written, new)
    return new or word
