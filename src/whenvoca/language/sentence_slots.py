"""The slots of a trigger's or step's sentence, and what is said of a sentence that is none."""

from __future__ import annotations

from collections.abc import Callable
from difflib import SequenceMatcher

from whenvoca.language import tree
from whenvoca.language.days import NoDays, parse_days
from whenvoca.language.definitions import EVERY_PLACE, QUOTED_SLOTS, Match, is_slot, place_kind_of
from whenvoca.language.expressions import read_value
from whenvoca.language.faults import FaultList, Spot
from whenvoca.language.lines import Line
from whenvoca.language.tokens import Piece


def read_slots(
    line: Line, words: list[tuple[str, int]], match: Match, faults: FaultList, check_name: Callable[[str, Spot], None]
) -> tuple[tuple[str, ...], dict[str, tree.Node]]:
    """The places that a sentence names, and a node with its spot for every slot."""
    places: list[str] = []
    nodes: dict[str, tree.Node] = {}
    for slot, (begin, end) in match.slots.items():
        written = [word for word, _ in words[begin:end] if word != ","]
        first, (last, offset) = words[begin][1], words[end - 1]
        spot = Spot(line.number, line.indent + first + 1, offset + len(last) - first)
        if slot in QUOTED_SLOTS:
            nodes[slot] = tree.Text(spot, ((written[0][1:-1],),))
            continue
        code = line.code[first : offset + len(last)]
        if slot == "VALUE":
            piece = Piece(code, line.number, line.indent + first + 1)
            nodes[slot] = read_value([piece], faults) or tree.Literal(spot, None)
            continue
        if slot == "DAYS":
            nodes[slot] = _read_days(code, spot, faults)
            continue
        if slot == "EACH":
            check_name(written[0], spot)
        nodes[slot] = tree.Name(spot, written[0].lower(), written[0])
        if place_kind_of(slot):
            is_every = slot == "CALENDARS" and written[0].lower() in ("any", "all") and end - begin == 2
            places += [EVERY_PLACE] if is_every else written
    return tuple(places), nodes


def _read_days(text: str, spot: Spot, faults: FaultList) -> tree.Days:
    try:
        return parse_days(text, spot)
    except NoDays as error:
        fix = "such as weekdays; monday, friday; the 1st; the last day; the last friday"
        faults.add(spot, str(error), fix)
        return tree.Days(spot, weekdays=tuple(range(7)))


def refuse_sentence(
    faults: FaultList, line: Line, words: list[tuple[str, int]], shared: int, known: list[str], what: str
) -> None:
    """The fault of a sentence that is none: what is missing in it, or the nearest one, or how they begin."""
    said = " ".join(word for word, _ in words)
    first = words[0][0] if words else ""
    begin = line.indent + (words[0][1] if words else 0) + 1
    spot = Spot(line.number, begin, max(1, line.indent + len(line.code) - begin + 1))

    def likeness(sentence: str) -> float:
        pattern = " ".join(
            said.split()[i] if is_slot(p) and i < len(words) else p for i, p in enumerate(sentence.split())
        )
        return SequenceMatcher(None, said.lower(), pattern.lower()).ratio()

    spoken = {word.strip(",") for word in said.lower().split()}

    def closeness(sentence: str) -> float:
        own = {part.strip(",") for part in sentence.split() if not is_slot(part)}
        return likeness(sentence) + len(spoken & own) / 5

    close = sorted(known, key=closeness, reverse=True)
    begun = [sentence for sentence in close if sentence.lower().startswith(said.lower() + " ")]
    if shared == len(words) and any(len(sentence.split()) > shared for sentence in known):
        faults.add(spot, f"this {what} is not complete", f"written: {(begun or close)[0]}")
    elif close and likeness(close[0]) > 0.6:
        faults.add(spot, f'there is no {what} "{said}"', f"the nearest is: {close[0]}")
    else:
        listed = "; ".join(known) if what == "trigger" else ", ".join(dict.fromkeys(each.split()[0] for each in known))
        fix = (
            f"there are: {listed}" if what == "trigger" else f"steps begin with: {listed}; all of them: whenvoca words"
        )
        faults.add(spot, f'there is no {what} that begins with "{first}"', fix)
