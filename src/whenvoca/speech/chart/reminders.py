"""Reminders in a text: how long before the start somebody wants to be told."""

from __future__ import annotations

import re

from whenvoca.speech.chart.clocks import Length
from whenvoca.speech.chart.piece import Piece
from whenvoca.speech.chart.tokens import Text

_BEFORE = frozenset(["before", "beforehand", "ahead", "prior", "advance"])
_WORDS = frozenset(
    """
    remind reminder reminders alarm alert alerts warn warning nudge buzz ping notify notification notice ring beep
    shout poke call heads-up prompt bell tell alarms reminding
""".split()
)
_BEFORE_IT = frozenset("that it hand i we the to in and of start starts this then".split())
_LEADING = frozenset(
    """
    and with a an the set please me us put also add give my , ; - plus on for at by of i want need 'd like to ( [
    so so's do have can could you will would don't forget which needs
""".split()
)
_DAY_BEFORE = re.compile(r"(?:the )?(?P<n>day|night|evening|hour|week) (?:before|prior|ahead)(?:hand)?")


def read_reminders(text: Text, lengths: list[Piece[Length]]) -> list[Piece[int]]:
    """All reminders, in minutes before the start, with the words that only speak of them."""
    found: list[Piece[int]] = []
    lows = text.lows
    spans = [(each.begin, each.end, each.value) for each in lengths]
    for begin, end, match in text.find(_DAY_BEFORE):
        spans.append((begin, end, Length(minutes={"hour": 60, "week": 10080}.get(match["n"], 1440))))
    for begin, end, length in spans:
        minutes = length.minutes + 1440 * length.days
        if not 0 < minutes <= 60 * 24 * 31 or length.months:
            continue
        word = next(
            (i for i in range(begin - 1, max(-1, begin - 9), -1) if lows[i] in _WORDS and not _is_cut(lows, i, begin)),
            None,
        )
        behind = next((i for i in range(end, min(len(lows), end + 3)) if lows[i] in _WORDS), None)
        if behind is not None and any(
            low not in ("-", "before", "reminder", "heads", "of", "'s", "advance", "'") for low in lows[end:behind]
        ):
            behind = None
        has_before = any(low in _BEFORE for low in lows[end : end + 2]) or (
            lows[end - 1] in ("before", "prior", "ahead")
        )
        if word is None and behind is None and not has_before:
            continue
        low, high = begin, end
        if word is not None:
            low = word
        if behind is not None and word is None:
            high = behind + 1
        if has_before:
            while high < len(lows) and (
                lows[high] in _BEFORE
                or lows[high] in ("in", "to")
                or (lows[high - 1] in _BEFORE and lows[high] in _BEFORE_IT)
            ):
                high += 1
        elif word is not None and lows[high : high + 2] == ["in", "advance"]:
            high += 2
        while low > 0 and lows[low - 1] in _LEADING:
            low -= 1
        form = f"{'word' if word is not None else 'behind' if behind is not None else 'none'} {'before' if has_before else 'plain'}"
        found.append(Piece(low, high, minutes, form))
    for i, word_ in enumerate(lows):  # remind 30
        if word_ in ("remind", "reminder", "alarm", "alert") and i + 1 < len(lows):
            j = i + 1 + (lows[i + 1] in (":", "me", "-"))
            if (
                j < len(lows)
                and lows[j].isdecimal()
                and 5 <= int(lows[j]) <= 120
                and lows[j + 1 : j + 2] not in (["minutes"], ["hours"], [":"], ["."])
                and not text.is_glued(j + 1)
            ):
                found.append(Piece(i, j + 1, int(lows[j]), "bare"))
    return found


def _is_cut(lows: list[str], word: int, begin: int) -> bool:
    """Whether a sentence ends between the word and the length."""
    return any(low in (".", ";", "\n", "?", "!") for low in lows[word:begin])
