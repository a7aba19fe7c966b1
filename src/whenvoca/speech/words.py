"""How much of a text is read, and words that are meant though a letter is wrong."""

from __future__ import annotations

from functools import lru_cache

LONGEST = 10_000  # signs of a text that are looked at
MOST_WORDS = 400

# One letter from a word of time or a command, and none.
_WORDS_OF_THEIR_OWN = frozenset(
    [
        "being",
        "black",
        "blocked",
        "booked",
        "canal",
        "chance",
        "channel",
        "charge",
        "clean",
        "cleans",
        "clock",
        "inter",
        "marsh",
        "match",
        "matches",
        "money",
        "moved",
        "moves",
        "plain",
        "plane",
        "plant",
        "pushed",
        "scrape",
        "scrub",
        "shirt",
        "shirts",
        "stock",
        "sundae",
        "sunny",
        "thirsty",
        "weekly",
        "update",
    ]
)


@lru_cache(maxsize=4096)
def spelled(low: str, known: frozenset[str]) -> str:
    """The known word that is meant: itself, or the one that is one letter away; empty if there is none, or there are
    several.

    Of words of five letters only what hardly is another word counts: two letters turned round, one doubled or left out.
    """
    if low in known:
        return low
    if len(low) < 4 or not low.isalpha() or low in _WORDS_OF_THEIR_OWN:
        return ""
    near = [word for word in known if len(word) >= 5 and abs(len(word) - len(low)) <= 1 and _is_near(low, word)]
    if len(near) > 1:
        near = [word for word in near if word[0] == low[0]]
    return near[0] if len(near) == 1 else ""


def _is_near(one: str, other: str) -> bool:
    """Whether a word differs from a known one by one letter: one more, one less, one other, or two turned round."""
    return _is_slip(one, other) if len(other) == 5 else is_one_off(one, other)


def is_one_off(one: str, other: str) -> bool:
    """Whether two words differ by one letter: one more, one less, one other, or two turned round."""
    if len(one) == len(other):
        places = [i for i in range(len(one)) if one[i] != other[i]]
        if len(places) == 2 and places[1] == places[0] + 1:
            return one[places[0]] == other[places[1]] and one[places[1]] == other[places[0]]
        return len(places) <= 1
    short, long = sorted((one, other), key=len)
    return any(long[:i] + long[i + 1 :] == short for i in range(len(long)))


def _is_slip(one: str, other: str) -> bool:
    if len(one) == len(other):
        places = [i for i in range(len(one)) if one[i] != other[i]]
        is_next = len(places) == 2 and places[1] == places[0] + 1
        return is_next and one[places[0]] == other[places[1]] and one[places[1]] == other[places[0]]
    if len(one) == len(other) + 1:
        return any(one[i] == one[i - 1] and one[:i] + one[i + 1 :] == other for i in range(1, len(one)))
    return (
        len(one) == len(other) - 1
        and one[0] == other[0]
        and any(other[:i] + other[i + 1 :] == one for i in range(1, len(other)))
    )
