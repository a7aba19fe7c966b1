"""The words that requests are told by: verbs, words that ask, and the little words between."""

from __future__ import annotations


def _of(words: str) -> frozenset[str]:
    return frozenset(words.split())


VERBS = {
    "create": _of("""
        add arrange block book create enter insert make new organise organize plan put reserve schedule set
    """),
    "change": _of("""
        advance bring bump change delay edit extend invite lengthen mark move postpone prolong pull push
        rename reschedule retitle shift shorten swap uninvite update
    """),
    "delete": _of("""
        cancel clear delete ditch drop erase kill remove scrap scratch skip wipe
    """),
}
VERB_OF = {word: intent for intent, words in VERBS.items() for word in words}

# Before a request, and no part of it.
POLITE = _of("""
    ! , - : ahead also and calendar can could go hello hey hi i i'd just kindly let's lets like need now ok
    okay please so then to want we whenvoca would you
""")

# Begin a question.
ASKING = _of("""
    agenda am any anything are check did display do does find give have how is list read show tell what what's
    whats when when's where where's which who who's will
""")

# Say nothing about which event is meant.
FILLERS = _of("""
    ! & ( ) , - : ; ? a about am an and appointment appointments as at by calendar called called: do down
    entry event events for from have i in into is it me meeting meetings my named new of on our out please
    slot some that the there this titled to under up we with
""")

# The same in a question.
QUERY_FILLERS = _of("""
    agenda all any anything are be been booked coming day details did display do does else events everything
    find give going got happening has how is it left like list long look looks many meetings much next one
    planned plans schedule scheduled show stuff tell there things time today's tomorrow's upcoming was were
    what what's whats when when's where where's which who who's will
""")

# The same in a deletion.
DELETE_FILLERS = _of("""
    agenda all anything calendar day entire every everything it occurrence occurrences off one rid schedule
    series that whole
""")

# The same in a change.
CHANGE_FILLERS = _of("""
    ahead back busy day earlier end forward free it later location long longer name off place reminder series
    short shorter start tentative that time title
""")

# Verbs of a change: a length behind them is how far.
BY_A_DISTANCE = _of("""
    advance bring bump delay extend lengthen make postpone prolong pull push shorten
""")

# Begin what is no request.
SMALL_TALK = _of("""
    awesome brilliant bye cheers cool good goodbye great haha hello hey hi lol lovely morning nice perfect
    sorry super ta thank thanks wow
""")

# Agree.
YES = _of("""
    absolutely aye confirm correct definitely do go ok okay right sure y yeah yep yes yup
""")

# Refuse.
NO = _of("""
    don't forget leave n nah never nevermind no nope stop wait
""")

# Stand for what was spoken of last.
IT = _of("""
    it that them this those
""")

# Never begin or end a title.
ENDS = _of("""
    ! & ( ) , - : ; ? a an and at be by called event for from have i in into is it me my named new of on our
    please that the there this titled to up will with
""")

# Say which way a length goes.
DIRECTIONS = _of("back earlier forward later longer shorter")

# Begin a correction of what was just done.
CORRECTING = _of("actually no nope rather sorry wait instead")
