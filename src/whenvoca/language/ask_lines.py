"""The line `ask`: an input of a workflow that somebody starts."""

from __future__ import annotations

import re
from collections.abc import Callable

from whenvoca.language import tree
from whenvoca.language.expressions import read_value
from whenvoca.language.faults import FaultList, Spot, nearest
from whenvoca.language.lines import Line
from whenvoca.language.settings_lines import value_pieces
from whenvoca.language.tokens import Piece

ASK_KINDS = ("text", "list", "number", "yes/no", "date", "time", "moment", "duration")


def read_ask(line: Line, faults: FaultList, check_name: Callable[[str, Spot], None]) -> tree.Statement | None:
    """An ask line with its settings; None after a fault."""
    found = re.match(r"ask\s+(?P<name>[^\s\"“„]+)\s+(?P<question>[\"“„].*)", line.code, re.IGNORECASE)
    if not found:
        faults.add(line.spot, "this ask is not understood", 'written: ask NAME "the question"')
        return None
    name = found["name"]
    check_name(name, Spot(line.number, line.indent + found.start("name") + 1, len(name)))
    offset = found.start("question")
    question = read_value([Piece(line.code[offset:], line.number, line.indent + offset + 1)], faults)
    kind = "text"
    default: tree.Node | None = None
    choices: tuple[tree.Node, ...] = ()
    for child in line.children:
        word = child.code.split()[0].lower()
        pieces, _ = value_pieces(child, len(word))
        if word not in ("kind", "default", "choices"):
            fix = nearest(word, ("kind", "default", "choices"))
            faults.add(Spot(child.number, child.indent + 1, len(word)), f'ask has no setting "{word}"', fix)
        elif not pieces:
            faults.add(child.spot, f"{word} has no value")
        elif word == "kind":
            kind = pieces[0].text.strip().lower()
            if kind not in ASK_KINDS:
                faults.add(child.spot, f'there is no kind "{kind}"', f"one of: {', '.join(ASK_KINDS)}")
                kind = "text"
        elif node := read_value(pieces, faults):
            if word == "default":
                default = node
            else:
                choices = node.items if isinstance(node, tree.ListOf) else (node,)
    return None if question is None else tree.Ask(line.spot, name.lower(), question, kind, default, choices)
