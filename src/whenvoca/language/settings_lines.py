"""The lines above a workflow's trigger: its settings."""

from __future__ import annotations

import re
from typing import Any

from whenvoca.language import tree
from whenvoca.language.expressions import read_value
from whenvoca.language.faults import FaultList, Spot
from whenvoca.language.lines import Line
from whenvoca.language.old_words import BRAKED
from whenvoca.language.tokens import Piece

SETTINGS = ("title", "about", "zone", "brake", "tries", "missed", "formerly", "paused", "private")
PRIVATE_WORDS = ("shown", "hidden")  # whether titles of private events may be told to others
_BRAKED = "deletions?|changes?|emails?|letters?|messages?|calls?"


def value_pieces(line: Line, offset: int) -> tuple[list[Piece], list[str] | None]:
    """The source of a value that begins at ``offset`` in the line's code and goes on in deeper lines."""
    pieces = [Piece(line.code[offset:], line.number, line.indent + offset + 1)] if line.code[offset:].strip() else []
    block = line.block
    for child in line.children:
        for each in child.walk():
            pieces.append(Piece(each.code, each.number, each.indent + 1))
            block = each.block if each.block is not None else block
    return pieces, block


def read_setting(line: Line, word: str, settings: dict[str, Any], faults: FaultList) -> None:
    """Enters one setting into those read so far."""
    if word in settings and word != "brake":
        faults.add(line.spot, f"{word} stands twice", "leave one of them")
    if word == "brake":
        _read_brake(line, settings, faults)
        return
    pieces, block = value_pieces(line, len(word))
    if not pieces:
        faults.add(line.spot, f"{word} has no value")
        return
    node = read_value(pieces, faults, block)
    if node is None:
        return
    value = constant_of(node)
    if word == "private" and isinstance(node, tree.Name) and node.word in PRIVATE_WORDS:
        value = node.word
    wanted = {"tries": int, "missed": tuple, "paused": bool}.get(word, str)
    if word == "missed" and isinstance(node, tree.Span):
        value = ()
        settings[word] = node
    elif (
        not isinstance(value, wanted)
        or (wanted is int and isinstance(value, bool))
        or (word == "private" and value not in PRIVATE_WORDS)
    ):
        said = {
            "tries": "a whole number",
            "missed": "a duration such as 3 hours",
            "paused": "yes or no",
            "private": "shown or hidden",
        }
        fix = f'written: {word} "{node.word}"' if wanted is str and isinstance(node, tree.Name) else ""
        faults.add(node.spot, f"{word} takes {said.get(word, 'a text in quotes')}", fix)
    else:
        settings[word] = value


def constant_of(node: tree.Node) -> Any:
    """The value of a node that is written out, None where it is not."""
    if isinstance(node, tree.Text) and all(isinstance(part, str) for line in node.lines for part in line):
        return "\n".join("".join(str(part) for part in line) for line in node.lines).strip("\n")
    return node.value if isinstance(node, tree.Literal) else None


def _read_brake(line: Line, settings: dict[str, Any], faults: FaultList) -> None:
    found = re.fullmatch(rf"brake\s+(\d+)\s+({_BRAKED})", line.code, re.IGNORECASE)
    if not found:
        faults.add(line.spot, "this brake is not understood", "written: brake 20 deletions")
        return
    what = found[2].lower().removesuffix("s")
    if new := BRAKED.get(what):
        spot = Spot(line.number, line.indent + found.start(2) + 1, len(found[2]))
        faults.add_old(spot, found[2], new + "s" * found[2].lower().endswith("s"))
    settings.setdefault("brake", []).append(tree.Brake(int(found[1]), BRAKED.get(what, what)))


def to_settings(found: dict[str, Any]) -> tree.Settings:
    """The settings, of what was read."""
    brakes = tuple(found.pop("brake", ()))
    tries = found.pop("tries", 3)
    return tree.Settings(brakes=brakes, tries=tries, **found)
