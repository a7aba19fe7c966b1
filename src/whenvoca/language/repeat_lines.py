"""A repetition as a field has it: `every week on monday until 2027-06-30`."""

from __future__ import annotations

import re

from whenvoca.language import tree
from whenvoca.language.expressions import read_condition
from whenvoca.language.faults import FaultList, Spot
from whenvoca.language.repeats import NoRepeat, parse_repeat, split_until
from whenvoca.language.tokens import Piece


def read_repeat(pieces: list[Piece], faults: FaultList) -> tree.Node | None:
    """A phrase such as every week on monday until DATE, or N times; None after a fault."""
    text = " ".join(piece.text.strip() for piece in pieces)
    spot = Spot(pieces[0].line, pieces[0].column, len(text))
    phrase, start, until = split_until(text)
    try:
        parts = parse_repeat(phrase)
    except NoRepeat as error:
        faults.add(spot, str(error))
        return None
    end: tree.Node | None = None
    if times := re.search(r",?\s*(\d+)\s+times\s*\Z", until, re.IGNORECASE):
        until = until[: times.start()]
        parts["COUNT"] = times[1]
    if until:
        end = read_condition([Piece(until, pieces[0].line, pieces[0].column + start)], faults)
        if "COUNT" in parts:
            faults.add(spot, "until and times do not go together", "leave one of them")
    return tree.Repeat(spot, parts, end)
