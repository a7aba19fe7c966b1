"""Answers to what was asked before, and short words: yes, no, undo that, the second one, never mind."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.speech.context import Context
from whenvoca.speech.creating import complete, title_and_place
from whenvoca.speech.lexicon import FILLERS, NO, SMALL_TALK, VERB_OF, YES
from whenvoca.speech.pieces import When
from whenvoca.speech.request import Request, Target, Wish
from whenvoca.speech.times import Days
from whenvoca.speech.titles import event_tokens, is_named
from whenvoca.speech.which import is_then
from whenvoca.speech.words import ORDINALS, number_of, split_words

_LONGEST_YES = 4  # words
_SIGNS = (",", "!", ".", "?", ":", ";", "please", "then", "-")
_BACK = ("undo", "revert", "reverse")
_MOST_SMALL_TALK = 6


def short_answer(context: Context) -> Request | None:
    """What a few words mean by themselves, or as an answer; None where they say more."""
    bare = [low for low in context.lows if low not in _SIGNS]
    if bare[:1] in (["calendar"], ["whenvoca"], ["desk"]):
        bare = bare[1:]
    while len(bare) > 1 and bare[0] in ("can", "could", "you", "please", "now", "just"):
        bare = bare[1:]
    if not bare:
        return Request("none")
    is_back = (
        bare[0] in _BACK or bare[:2] == ["take", "that"] or bare[:3] in (["take", "it", "back"], ["put", "it", "back"])
    )
    if is_back and len(bare) <= _MOST_SMALL_TALK and not (bare[0] == "take" and "back" not in bare):
        return Request("undo")
    pending = context.around.pending
    if pending is not None:
        if bare[0] in NO and len(bare) <= _LONGEST_YES and not any(number_of(word) for word in context.words):
            return Request("no")
        if bare[0] in YES and len(bare) <= _LONGEST_YES:
            return Request("yes")
        if (choice := _choice(context, pending, bare)) is not None:
            return choice
    is_dropped = bare[:2] in (["never", "mind"], ["forget", "it"], ["forget", "that"]) or bare[0] == "nevermind"
    if is_dropped and len(bare) <= _LONGEST_YES:
        return Request("no")
    is_greeting = bare[:2] in (["see", "you"], ["good", "night"], ["happy", "birthday"]) or bare[0] in (
        "happy",
        "congratulations",
        "wow",
        "haha",
        "lol",
        "ha",
        "omg",
    )
    if is_greeting or (
        bare[0] in SMALL_TALK
        and len(bare) <= _MOST_SMALL_TALK
        and not any(low in VERB_OF or low in ("at", "on", "what", "what's", "when", "is", "are") for low in bare)
        and not any(low[:1].isdecimal() for low in bare)
        and not context.pieces(0).whens
    ):
        return Request("none")
    return None


def _choice(context: Context, pending: Request, bare: Sequence[str]) -> Request | None:
    """The second one, both, all of them, 2; or a word or time that tells one of them."""
    if len(pending.targets) < 2 or pending.missing != ["which"]:
        return None
    count = len(pending.targets)
    if bare[0] in ("both", "all", "everything"):
        return Request("choose", choice=list(range(count)))
    rest = [
        low
        for low in bare
        if low not in ("the", "one", "ones", "number", "option", "that", "and", "no", "i", "mean", "meant", "at", "on")
    ]
    numbers = [_number(low, count) for low in rest]
    if rest and all(numbers):
        return Request("choose", choice=sorted({number - 1 for number in numbers if number}))
    pieces = context.pieces(0)
    wanted = [low for low in context.title_words(pieces) if low not in (*FILLERS, "one", "mean", "meant")]
    if not wanted and not pieces.whens:
        return None
    fits = [n for n, each in enumerate(pending.targets) if _is_it(context, each, pieces, wanted)]
    return Request("choose", choice=fits) if len(fits) == 1 else None


def _is_it(context: Context, target: Target, pieces: object, wanted: Sequence[str]) -> bool:
    tokens = event_tokens(target.event)
    return all(is_named(word, tokens, loosely=True) for word in wanted) and is_then(context, target, pieces)  # type: ignore[arg-type]


def _number(low: str, count: int) -> int:
    """Which one a word means, counted from one; 0 where it means none."""
    if low in ORDINALS:
        number = ORDINALS[low]
        return count if number == -1 else number if number <= count else 0
    if low.isdecimal() and 1 <= int(low) <= count and len(low) <= 2:
        return int(low)
    return {"two": 2, "three": 3, "four": 4}.get(low, 0) if count >= 2 else 0


def fill(context: Context) -> Request | None:
    """What was missing in an earlier request for a new event, filled by this text; None where nothing waits for it."""
    pending = context.around.pending
    if pending is None or pending.intent != "ask" or not pending.events or pending.purpose not in ("", "create"):
        return None
    pieces = context.pieces(0, bare=True)
    title, place = title_and_place(pieces)
    said = Wish(title, location=place)
    wish = pending.events[0]
    when = next(iter(pieces.whens), None)
    if when is not None and when.days is not None and when.from_ is None and pending.text:
        _keep_clock(context, when, pending.text)
    is_whole = pieces.length is not None and pieces.length.days > 0
    if "start" in pending.missing and when is not None:
        _set_when(context, wish, when, pieces.length if not is_whole else None)
    elif not (is_whole and wish.start is not None) and not ("title" in pending.missing and said.title):
        return None
    if "title" in pending.missing and said.title:
        wish.title = said.title
    context.tell(pieces)
    context.request.events, context.request.intent = [wish, *pending.events[1:]], "create"
    return complete(context, wish, pieces, when, is_whole=is_whole)


def _keep_clock(context: Context, when: When, text: str) -> None:
    """A day that is corrected keeps the time that was said with the first one."""
    before = Context(split_words(text), context.around).pieces(0)
    timed = next((each for each in before.whens if each.from_ is not None), None)
    if timed is not None:
        when.from_, when.until, when.length, when.part = timed.from_, timed.until, timed.length, timed.part


def _set_when(context: Context, wish: Wish, when: When, length: object) -> None:
    from datetime import datetime

    if when.days is None and when.relative is None and wish.start is not None and not isinstance(wish.start, datetime):
        when.days = Days(wish.start, wish.start)
    wish.start, wish.end = context.span_of(when, length, default=context.around.length)  # type: ignore[arg-type]
