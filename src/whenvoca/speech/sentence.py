"""The form of a sentence: what is courtesy, what opens it, and where what it says begins and ends."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

from whenvoca.speech.words import MONTHS, Word

Mood = Literal["tell", "order", "want", "have", "know"]

_HELP = r"(?: (?:please|kindly|just|also|maybe|quickly))*"
_WHO = r"(?:you|u|we|i|someone|somebody)"
# Each opening is cut off, and says how the rest is meant: an order, something that one has or wants, something to be
# told.
_OPENINGS: tuple[tuple[Mood, str], ...] = tuple(
    (mood, f"(?:{pattern})(?= |$)")  # type: ignore[misc]
    for mood, pattern in (
        ("know", rf"(?:can|could|would|will) you{_HELP} (?:tell|show) (?:me|us)(?: about)?"),
        ("know", r"(?:please )?(?:tell|show|give) (?:me|us)(?: (?:more|all|everything))?(?: about)?"),
        ("know", rf"(?:can|could|would|will) you{_HELP} (?:check|see|look|find out)(?: up)?(?: if| whether)?"),
        ("know", r"(?:please )?let (?:me|us) know(?: if| whether)?"),
        (
            "know",
            r"(?:(?:i|we)(?: would)?|i'd|we'd) (?:like|want|need) to (?:know|see|check|find out)(?: if| whether| "
            r"about)?",
        ),
        ("know", r"(?:do you know|i wonder|(?:i was )?wondering|any idea)(?: if| whether)?"),
        ("know", r"(?:check|see) (?:if|whether)"),
        ("know", r"(?:check|look at) (?=(?:my|the|our) (?:calendar|agenda|schedule|week|day))"),
        (
            "order",
            rf"(?:can|could|would|will) {_WHO}{_HELP}(?= (?!have |get |do |be |free|available|help|tell|hear|see "
            r")[a-z])",
        ),
        ("want", rf"(?:can|could|may|might) (?:i|we){_HELP} (?:have|get)"),
        ("order", r"(?:(?:i|we)(?: would)?|i'd|we'd) (?:want|need|like|wish|have|love)(?: you)? to"),
        ("order", r"(?:i|we) (?:must|should|will|wanna|gotta|gonna)|i'll|we'll"),
        (
            "order",
            r"let's|lets|let us|make sure (?:to|you)|would you mind|is it possible to|you (?:should|can|could|may)",
        ),
        ("order", r"(?:it would be (?:great|nice|good) )?if (?:you|we) could"),
        ("want", r"(?:(?:i|we) (?:want|need)|(?:(?:i|we) would|i'd|we'd) (?:want|need|like|love))(?! to )"),
        (
            "have",
            r"(?:i|we) (?:are |am )?(?:having|have got|have|got)|(?:i've|we've)(?: got)?|(?:i'm|we're) having|got",
        ),
        ("have", r"there (?:is|are|will be)|there's|there'll be"),
        (
            "have",
            r"save the date(?: for)?(?: :)?|(?:please )?(?:add|put) (?:to|in|into) (?:the |my |our "
            r")?(?:calendar|diary)(?: :)?",
        ),
        ("have", r"(?:(?:i|we) have|i've|we've) (?:booked|arranged|scheduled|planned)"),
        ("have", r"(?:please )?make a note(?: of| that| to)?(?: :)?"),
        ("have", r"(?:please )?remember(?: to| the| that)?(?: :)?"),
        (
            "have",
            r"(?:quick one|reminder(?: to (?:myself|me|self))?|note|fyi|new|to do|todo|heads up|"
            r"(?:do not|don't|dont) forget(?: to| about| that)?) [:,-]",
        ),
        ("have", r"(?:do not|don't|dont) forget(?: to| about| that| the)?"),
    )
)
_LEADING = (
    r"(?:(?:(?:hi|hello|hey|dear|good morning|good evening)(?: (?:there|again|team|everyone|all|desk))?|"
    r"calendar(?! "
    r"(?:for|of|on|this|next|today|tomorrow))|whenvoca|desk|ok|okay|so|well|hm|hmm|um|oh|yo|also|and|then|now|"
    r"all right|right|please|kindly|just|yes|sorry|no worries|great|cool|perfect|thanks|thank you|,|!|:|-|\.|;)(?= "
    r"|$) ?)"
)
_TRAILING = (
    r"(?:^| )(?:please|thanks|thank you|thx|cheers|ta|many thanks|thanks a lot|so much|if possible|if you can|if "
    r"that's ok|asap|ok|okay|"
    r"for me|will you|would you|could you|can you|right|then|everyone|all|sorry|,|!|\.|;|-|:)$"
)
_MOST_CUTS = 8
_NEVER = r"(?:do not|don't|dont|never|please don't|please do not) (?!forget)"


class Clause(Struct, frozen=True):
    """What a sentence says: the words from ``begin`` to ``end``, how they are meant, and whether it ends as a
    question."""

    begin: int
    end: int
    mood: Mood
    is_question: bool
    is_forbidding: bool = False


def find_clause(words: Sequence[Word]) -> Clause:
    """The clause of a sentence, without greetings, openings and thanks."""
    lows = [word.low for word in words]
    end = len(lows)
    is_question = "?" in lows[-3:]
    while end and lows[end - 1] == "?":
        end -= 1
    end = _cut_end(lows, end)
    while end and lows[end - 1] == "?":
        end = _cut_end(lows, end - 1)
    begin = _cut_leading(lows, 0, end)
    mood: Mood = "tell"
    for _ in range(4):
        text = " ".join(lows[begin:end])
        if re.match(_NEVER, text):
            return Clause(begin, end, "order", is_question, is_forbidding=True)
        for meant, opening in _OPENINGS:
            found = re.match(opening, text)
            if found and found.end() < len(text):
                begin += found[0].count(" ") + 1
                mood = "know" if mood == "know" else meant
                break
        else:
            break
        begin = _cut_leading(lows, begin, end)
    return Clause(begin, end, mood, is_question)


def _cut_leading(lows: Sequence[str], begin: int, end: int) -> int:
    for _ in range(_MOST_CUTS):
        if begin >= end - 1:
            break
        found = re.match(_LEADING, " ".join(lows[begin:end]))
        if not found or not found[0].strip():
            return begin
        begin += found[0].strip().count(" ") + 1
    return begin


def _cut_end(lows: Sequence[str], end: int) -> int:
    for _ in range(_MOST_CUTS):
        if end <= 1:
            break
        found = re.search(_TRAILING, " ".join(lows[max(0, end - 4) : end]))
        if not found:
            return end
        cut = found[0].strip()
        end -= cut.count(" ") + 1 if cut else 1
    return end


def split_sentences(words: Sequence[Word]) -> list[tuple[int, int]]:
    """Where the sentences of a text begin and end: at full stops, marks and semicolons."""
    found, begin = [], 0
    for i, word in enumerate(words):
        is_stop = False
        if word.low == "." and 0 < i < len(words) - 1:
            before, behind = words[i - 1], words[i + 1].text
            is_stop = (len(before.low) > 3 and before.low.isalpha()) or (
                (before.low[:1].isdecimal() or before.low in ("am", "pm"))
                and behind[:1].isupper()
                and behind.lower() not in MONTHS
            )
        if word.low in ("!", ";", "?") or is_stop:
            found.append((begin, i + (word.low == "?")))
            begin = i + 1
    found.append((begin, len(words)))
    return [(low, high) for low, high in found if any(word.low not in (",", ".", "-", "?") for word in words[low:high])]
