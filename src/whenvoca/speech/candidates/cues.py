"""Words that tell which kind of change is meant."""

from __future__ import annotations

from collections.abc import Iterable

_CUES = {
    "move": """
        move shift push reschedule postpone bring put change displace transfer delay defer deferred moved moves
        pushed shifted rearrange switch slot goes go
    """.split(),
    "rename": "rename call title retitle called renamed name read titled entitled known".split(),
    "add": "add invite include join joins put with bring too also along write plus ask in".split(),
    "remove": "remove drop take off without out uninvite strike minus leave kick delete".split(),
    "later": "later back behind after delay postpone push".split(),
    "earlier": "earlier forward sooner before anticipate advance".split(),
    "longer": "longer extend extra extended lengthen overrun".split(),
    "shorter": "shorter shorten cut trim".split(),
    "end": "finish finishes end ends until finishing over done ending till run runs".split(),
    "start": "start starts begin begins starting commence from beginning".split(),
    "last": "last lasts take takes long need make needs".split(),
    "place": "place venue room where location in at to loc held moved".split(),
    "remind": "remind reminder alarm alert nudge ping warn buzz".split(),
    "repeat": "recurrence repeat weekly monthly fortnightly daily every".split(),
    "instead": "instead not rather than now insted".split(),
    "same": "same keep still unchanged before usual length".split(),
    "swap": "swap trade exchange transpose switch".split(),
}
_CUES_OF: dict[str, list[str]] = {}
for _name, _words in _CUES.items():
    for _word in _words:
        _CUES_OF.setdefault(_word, []).append(_name)


def cues_of(lows: Iterable[str]) -> set[str]:
    """Which kinds of words of change stand in the text."""
    found: set[str] = set()
    for low in lows:
        found.update(_CUES_OF.get(low, ()))
    return found


# Without one of these nothing is deleted, however likely it seems.
DELETING_WORDS = frozenset(
    """
    cancel cancels cancelled canceled cancelling delete deleted remove removed drop dropped scrap scrapped erase kill
    bin clear cleared wipe off no not out strike forget skip ditch axe away gone withdraw withdrawn discontinue
    discontinued rescind void scratch lose rid isn't won't can't cannot don't doesn't aren't longer release take nix
    empty ended stop stopped never without abandon abandoned annul annulled suppress chuck
    yeet free unbook delist lift
    """.split()
)
