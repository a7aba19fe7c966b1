"""What follows on what was spoken of last: make it 4 instead, an hour later, in the hall, cancel it, when is that?"""

from __future__ import annotations

from whenvoca.speech.candidates.change import Change
from whenvoca.speech.candidates.cues import cues_of
from whenvoca.speech.candidates.expanding import to_occurrence
from whenvoca.speech.candidates.target_sets import TargetSet
from whenvoca.speech.judging.judge import score, shares
from whenvoca.speech.judging.leftovers import Explaining
from whenvoca.speech.judging.readings import Reading, TextReader
from whenvoca.speech.request import Request, Target
from whenvoca.speech.requests import to_request

_IT = frozenset("it that them this those these".split())
_MADE = frozenset("made added created booked entered planned".split())
_WHO = frozenset(["i", "we", "you"])
_CORRECTING = frozenset(
    """
        actually better instead no nope not oops rather sorry wait make and also but oh or hm in at with for on
        to until an a half another let's
    """.split()
)
_DELETING = frozenset("cancel delete drop remove scrap kill erase ditch bin scratch forget".split())
_ASKING = frozenset("when when's where where's who who's what what's how".split())
_QUESTIONS = frozenset("is are am do does did have has any anything which show list".split())
_SERIES = frozenset("all every whole series".split())
_DIRECTIONS = frozenset("earlier later longer shorter sooner instead forward back".split())
_ORDINALS = {"1st": 0, "2nd": 1, "3rd": 2, "4th": 3, "5th": 4, "last": -1}
WHOLE_DAY = 'It takes the whole day now. From when to when? Say: "move it to 10:00-12:00".'
_SHIFTS = ("later", "earlier", "longer", "shorter")
_MOST_LEFT = 2  # words that may be left unexplained
_FILLING = frozenset("last made added created booked newest just rather better actually meant mean bit thing".split())


def follow(reader: TextReader) -> Request | None:
    """The request about what was spoken of last; None where the text speaks of something else."""
    around = reader.around
    lows = [low for low in reader.chart.text.lows if low not in (",", ".", "!", "please", "ok", "okay")]
    if not lows:
        return None
    last = _meant(lows, around.last)
    says_it = bool(_IT & set(lows[:5])) or len(last) < len(around.last) or bool(_MADE & set(lows) and _WHO & set(lows))
    is_repair = lows[0] in _CORRECTING or bool(_DIRECTIONS & set(lows[-4:])) or _only_pieces(reader)
    asks = "?" in lows or lows[0] in _ASKING or lows[0] in _QUESTIONS
    if not says_it and (not is_repair or asks):
        return None
    if _names_another(reader, last):
        return None
    if says_it and _DELETING & set(lows[:4]) and len(lows) <= 9 and not reader.chart.people:
        scope = "following" if "onwards" in lows or "from" in lows else "all" if _SERIES & set(lows) else "this"
        return Request("delete", targets=list(last[:1]), scope=scope)
    if says_it and lows[0] in _ASKING and len(lows) <= 8:
        return Request("query", targets=list(last[:1]), count=1)
    return _changed(reader, last[0], most_left=_MOST_LEFT if says_it else 0)


def _meant(lows: list[str], last: object) -> list[Target]:
    """Those spoken of last; the first, the second one of a list."""
    found: list[Target] = list(last)  # type: ignore[call-overload]
    if len(found) > 1 and ("1" in lows or "one" in lows):
        for low in lows:
            if low in _ORDINALS and _ORDINALS[low] < len(found):
                return [found[_ORDINALS[low]]]
    return found


def _only_pieces(reader: TextReader) -> bool:
    """Whether hardly a word stands beside times, places and people."""
    kinds = reader.spans.kinds
    left = [kind for kind in kinds if kind in ("word", "Word", "NUMBER")]
    return not left and any(reader.spans.timed)


def _names_another(reader: TextReader, last: list[Target]) -> bool:
    own = {each.event.uid for each in last}
    mine = max((reader.mentions.matched(each.event.title)[0] for each in last), default=0.0)
    others = [each.title_share for each in reader.mentions.named if each.event.uid not in own and each.words]
    return max(others, default=0.0) >= max(0.5, mine + 0.1)


def _changed(reader: TextReader, target: Target, *, most_left: int) -> Request | None:
    """The likeliest change of one event, if it explains what the text says."""
    occurrence = to_occurrence(target, reader.around.zone)
    marks = {"set single": 1.0, "scope this": 1.0, "share": 1.0, "whole title": 1.0}
    words = reader.mentions.matched(target.event.title)[3]
    targets = TargetSet([occurrence], "this", marks, [], words)
    found = [each for each in reader.changes([targets]) if _is_directed(each, reader)]
    if target.event.is_whole_day and not found and (reader.chart.clocks or reader.chart.lengths):
        return Request("ask", targets=[target], question=WHOLE_DAY, missing=["start"], purpose="change")
    if not found:
        return None
    explaining = Explaining(reader.chart, reader.spans, reader.mentions)
    raw = [score(reader.weights["change"], each.marks) for each in found]
    likely = shares(raw)
    ranked = sorted(range(len(found)), key=lambda n: -(likely[n] - 2 * _left(explaining.marks(found[n]))))
    best = found[ranked[0]]
    left = explaining.marks(best)
    untold = [low for low in explaining.left_words(best) if low not in _FILLING and not cues_of([low])]
    if len(untold) > most_left or left.get("u day") or left.get("u clock") or left.get("u person"):
        return None
    return to_request(reader, Reading("change", best))


def _is_directed(change: Change, reader: TextReader) -> bool:
    """Whether a length is a shift only where the text says which way."""
    cues = cues_of(reader.chart.text.lows)
    shift = next((kind for kind in _SHIFTS if f"time {kind}" in change.marks), "")
    return not shift or shift in cues


def _left(marks: dict[str, float]) -> float:
    return sum(
        value
        for name, value in marks.items()
        if name in ("u day", "u clock", "u length", "u person", "u stretch", "u place")
    )
