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
        rename resched reschedule retitle shift shorten swap uninvite update
    """),
    "delete": _of("""
        cancel clear delete ditch drop erase kill remove scrap scratch skip stop wipe
    """),
}
VERB_OF = {word: intent for intent, words in VERBS.items() for word in words}

# Begin a question.
ASKING = _of("""
    agenda am any anything are details did display do does everything find give have how how's hows is list read
    show tell what what's whats when when's where where's which who who's will
""")

# Say nothing about which event is meant.
FILLERS = _of("""
    ! & ( ) , - : ; ? a about am an and appointment appointments as at by calendar called called: do down entry
    event events for from have i in into is it me meeting meetings my named new of on our out please slot some
    that the there this titled to under up we with
""")

# The same in a question.
QUERY_FILLERS = _of("""
    again agenda all am any anything are attending be been begin begins booked comes coming day details did
    display do does doing else end ends events everything find finish finishes first give going got happening
    has how invited is it last left like list long look looks many me meet meetings much next one place plan
    planned plans read schedule scheduled see show something start starts stuff take tell there thing things
    time today's tomorrow's until upcoming was were what what's whats when when's where where's which who who's
    will
""")

# The same in a deletion.
DELETE_FILLERS = _of("""
    agenda all anything both calendar day entire every everything it next occurrence occurrences off one rid
    schedule series that thing whole
""")

# The same in a change.
CHANGE_FILLERS = _of("""
    actually ahead all also always back busy day earlier end every forward free it just later location long
    longer name next now off only place please reminder series short shorter should start tentative that thing
    time title
""")

# Verbs of a change: a length behind them is how far.
BY_A_DISTANCE = _of("advance bring bump delay extend lengthen make postpone prolong pull push shorten")

# Begin what is no request.
SMALL_TALK = _of("""
    awesome brilliant bye cheers cool good goodbye great haha hello hey hi lol lovely morning nice perfect sorry
    super ta thank thanks wow
""")

# Agree.
YES = _of("absolutely aye confirm correct definitely do go ok okay right sure y yeah yep yes yup")

# Refuse.
NO = _of("don't forget leave n nah never nevermind no nope stop wait")

# Speak of a whole series.
SERIES = _of("series")

# Stand for what was spoken of last.
IT = _of("it that them this those")

# Never begin or end a title.
ENDS = _of("""
    ! & ( ) , - . : ; ? a an and at be by called event for from have i in into is it me my named new of on our
    please that the there this titled to up will with
""")

# Say which way a length goes.
DIRECTIONS = _of("back earlier forward later longer shorter")

# Begin a correction of what was just done.
CORRECTING = _of("actually better instead no nope not oops rather sorry wait")

# Before a colon they say only what kind of thing follows.
LABELS = _of(
    "appointment entry event meeting new note reminder slot task todo confirmed log planned tentative tentatively"
)

# No title by themselves.
NAMELESS = _of("anything entry event events item slot something sth stuff thing")

# Who a sentence is about that asks for nothing.
PRONOUNS = _of("he i it she they this we you")

# In a sentence that tells something, and asks for nothing.
FINITE = _of("""
    am are aren't arrived arrives ate be became been began begins but came can can't cannot closes comes could
    did didn't do does doesn't don't ended enjoyed fell felt forgot found gave gets goes got had happened has
    hasn't hate hated have haven't he's i'd i'll i'm i've is isn't it's knew know leaves left liked looks lost
    love loved loves made makes met missed must needed needs never not opens played rained rains rises said sat
    saw says seems sets shall she's should snowed sounds started starts stuck suits that's there's they're think
    thought told took was wasn't we'll we're we've went were weren't will won't works would wouldn't you'll
    you're you've
""")

# Events that last whole days where no time is said.
MEANT_WHOLE = _of("away birthday closed closure fasting holiday holidays leave off vacation")

# Everything of a time.
EVERYTHING = _of("all anything everything")

# Say of which occurrences, and not which event.
SCOPES = _of(
    "after all entire every following from future later next now on one ones onwards series then this those whole"
)

# Verbs by what they do to an event.
NAMING = _of("call name rename retitle")
MOVING = _of(
    "advance be begin bring bump change delay do go have hold keep make move postpone pull push put resched "
    "reschedule set shift start swap take"
)
LENGTHENING = _of("extend lengthen prolong")
SHORTENING = _of("cut shorten trim")
EARLIER = _of("earlier forward sooner")

# Ask for time that is free.
FREE_WORDS = _of("availability available free gap gaps openings")

# Ask what stands in the calendar.
WHAT_IS_ON = _of("agenda calendar events happening meetings next schedule today upcoming")

# Before who does something.
MODALS = _of("can could may might must shall should will would")

# Begin a new event without a verb.
NEW = _of("new")

# Happens in the morning, whatever hour is said.
MORNING = _of("breakfast dawn sunrise")

# Happens in the evening, where 5 to 11 is said.
EVENING = _of(
    "cinema concert dinner disco drinks evening film movie nightcap party pub stargazing sunset supper theatre"
)

# What is asked for, for something that is its title.
BOOKED = _of("booking reservation slot time appointment")

# Beside a time that was read they are a piece of it that was not.
LEFT_OF_TIMES = _of(
    "after am before between each either every except fortnight from half midnight midday next noon oclock or past pm "
    "quarter since starting thirty till until weekly twice once mid early hundred week weekend"
)

# In a title without a day they say that one was meant.
NEAR_DAYS = _of(
    "april august beginning christmas december early easter february friday january july june mayday mid monday "
    "november october saturday september sunday thursday tuesday wednesday weekdays weekend weekends"
)

# End like the name of a day, and are none.
NAMED_DAYS = _of(
    "birthday doomsday everyday friday heyday holiday mayday midday monday noonday payday saturday sunday thursday "
    "today tuesday wednesday weekday workday"
)
