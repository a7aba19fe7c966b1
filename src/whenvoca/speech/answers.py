"""Short words by themselves, and answers to a question: yes, no, undo that, the second one, both, 2, the one at 3."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.speech.candidates.expanding import to_occurrence
from whenvoca.speech.candidates.mentions import Mentions
from whenvoca.speech.judging.readings import TextReader
from whenvoca.speech.request import Request
from whenvoca.speech.titles import AgendaIndex

_YES = frozenset("absolutely aye confirm correct definitely do go ok okay right sure y yeah yep yes yup please".split())
_NO = frozenset("don't forget leave n nah never nevermind no nope stop wait none neither".split())
_BACK = frozenset(["undo", "revert", "reverse"])
_SMALL_TALK = frozenset(
    """
    awesome brilliant bye cheers cool good goodbye great haha hello hey hi lol lovely morning nice perfect sorry super
    ta thank thanks wow happy congratulations ha omg evening afternoon night
    """.split()
)
_SIGNS = frozenset([",", "!", ".", "?", ":", ";", "please", "then", "-", "\n", "um", "uh", "er"])
_ASKED_FOR = frozenset(
    "add book put make move cancel delete remove at on what what's when is are where who who's which".split()
)
HELP = (
    "I make, change and delete events, and tell what is on and when you are free. For example: dentist tomorrow at 3; "
    "move the dentist to friday; cancel it; what is on today?; am I free on monday at 10?; how "
    "many hours were booked last month?"
)
_HELP = frozenset(
    [
        "help", "help me", "what can you do", "what do you do", "who are you", "what can i say", "what can i ask",
        "how does this work", "what are you",
    ]
)  # fmt: skip
_FILLERS = frozenset("the 1 ones number option that and no i mean meant at on one n".split())
_MOST_SMALL_TALK, _LONGEST_YES = 6, 4
_ORDINALS = {"1st": 1, "2nd": 2, "3rd": 3, "4th": 4, "5th": 5, "last": -1, "former": 1, "latter": -1}


def bare_words(reader: TextReader) -> list[str]:
    """The words without signs and what addresses us."""
    bare = [low for low in reader.chart.text.lows if low not in _SIGNS]
    if bare[:1] in (["calendar"], ["whenvoca"], ["desk"]):
        bare = bare[1:]
    while len(bare) > 1 and bare[0] in ("can", "could", "you", "now", "just", "oh", "ah"):
        bare = bare[1:]
    return bare


def short_answer(reader: TextReader) -> Request | None:
    """What a few words mean by themselves, or as an answer; None where they say more."""
    bare = bare_words(reader)
    if not bare:
        return Request()
    if " ".join(bare) in _HELP:
        return Request(answer=HELP)
    takes_back = (bare[0] == "take" and "back" in bare[:3]) or bare[:3] == ["put", "it", "back"]
    if (bare[0] in _BACK or takes_back) and len(bare) <= _MOST_SMALL_TALK:
        return Request("undo")
    pending = reader.around.pending
    if pending is not None:
        has_number = any(low[0].isdigit() for low in bare)
        says_time = bool(reader.chart.days or reader.chart.clocks or reader.chart.lengths)
        if bare[0] in _NO and len(bare) <= _LONGEST_YES and not (has_number or says_time):
            return Request("no")
        if bare[0] in _YES and len(bare) <= _LONGEST_YES and not (has_number or {"but", "and", "not"} & set(bare)):
            return Request("yes")
    is_dropped = bare[:2] in (["never", "mind"], ["forget", "it"], ["forget", "that"]) or bare[0] == "nevermind"
    if is_dropped and len(bare) <= _LONGEST_YES:
        return Request("no")
    is_greeting = bare[:2] in (["see", "you"], ["good", "night"], ["happy", "birthday"])
    chart = reader.chart
    if is_greeting or (
        bare[0] in _SMALL_TALK
        and len(bare) <= _MOST_SMALL_TALK
        and not _ASKED_FOR & set(bare)
        and not any(low[:1].isdecimal() for low in bare)
        and not (chart.days or chart.clocks)
    ):
        return Request(answer=_talk(bare))
    return None


def _talk(bare: Sequence[str]) -> str:
    """What is answered to small talk."""
    if bare[0] in ("ta", "thank", "thanks", "cheers"):
        return "You are welcome."
    if bare[0] in ("hello", "hey", "hi", "good", "morning", "evening", "afternoon"):
        return f"Hello. {HELP}"
    return "All right."


def answer_to(reader: TextReader, pending: Request) -> Request | None:
    """Which of several is chosen: by its number, by all or both, by a word or time that only one of them has."""
    count = len(pending.offers) or len(pending.targets)
    if count < 2 or pending.missing != ["which"]:
        return None
    bare = bare_words(reader)
    if bare[0] in ("both", "all", "everything") and len(bare) <= _LONGEST_YES and not pending.offers:
        return Request("choose", choice=list(range(count)))
    rest = [low for low in bare if low not in _FILLERS] or [low for low in bare if low == "1"]
    numbers = [_number(low, count) for low in rest]
    if rest and all(numbers):
        return Request("choose", choice=sorted({number - 1 for number in numbers if number}))
    return None if pending.offers else _by_words(reader, pending)


def _number(low: str, count: int) -> int:
    """Which one a word means, counted from one; 0 where it means none."""
    if low in _ORDINALS:
        number = _ORDINALS[low]
        return count if number == -1 else number if number <= count else 0
    return int(low) if low.isdecimal() and len(low) <= 2 and 1 <= int(low) <= count else 0


def _by_words(reader: TextReader, pending: Request) -> Request | None:
    """The one of those asked about that the words fit best, where that is one alone."""
    around = reader.around
    agenda = pending.targets
    mentions = Mentions(reader.chart, AgendaIndex(agenda, around.zone), agenda, around.zone)
    fits: list[float] = []
    for target in agenda:
        occurrence = to_occurrence(target, mentions.zone)
        share, _, _, _ = mentions.matched(target.event.title)
        on_day = any(mentions.on(occurrence, day.value) for day in reader.chart.days)
        at_time = mentions.is_at(occurrence)
        fits.append(share + on_day + at_time)
    best = max(fits)
    chosen: Sequence[int] = [n for n, each in enumerate(fits) if each == best]
    return Request("choose", choice=list(chosen)) if best > 0 and len(chosen) == 1 else None
