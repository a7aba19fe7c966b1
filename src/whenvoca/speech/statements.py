"""Sentences that tell something of an event: it is cancelled, it is now at 11, it needs to move, could it start
earlier."""

from __future__ import annotations

import re

from whenvoca.speech import changing, deleting
from whenvoca.speech.changing import Wanted
from whenvoca.speech.context import Context
from whenvoca.speech.creating import create
from whenvoca.speech.lexicon import DIRECTIONS, FINITE, IT, MEANT_WHOLE, MODALS, VERB_OF
from whenvoca.speech.request import Request
from whenvoca.speech.which import known_np, one_of, refers, scope_of, targets
from whenvoca.speech.words import spelled

_BEING = (
    r"(?:is|are|was|were|'s|gets|got|has been|have been|will be|is being|has to be|must be|should be|can "
    r"be|needs to be)"
)
_OFF = (
    r"(?:isn't|is not|aren't|won't be|not) (?:happening|taking place|on|needed)(?: |$)|"
    r"(?:won't|will not|doesn't|does not) (?:happen|take place)(?: |$)|"
    rf"(?:{_BEING} ?)?(?:now )?"
    r"(?:cancelled|canceled|off|called off|scrapped|dropped|deleted|not happening|not taking place|"
    r"no longer (?:happening|on|needed))(?: |$)"
)
_MOVED = (
    rf"(?:(?:{_BEING}|has|have) ?)?(?:now )?"
    r"(moved|shifted|postponed|pushed|rescheduled|delayed|extended|shortened|brought|put|changed|bumped)(?: |$)"
)
_CALLED = r"(?:is|are|will be|should be|shall be)(?: now)? (?:called|named|titled)(?= )"
_DOES = (
    r"(?:(?:needs|need|has|have|ought|is|are|wants|is going|are going|'s going) "
    r"to|must|should|can|could|will|shall|may|might|"
    r"would)(?: please| also| now| rather)* "
    r"(be|move|shift|start|begin|end|finish|last|happen|go|run|take place|become)(?: |$)"
)
_IS = (
    r"(is|are|'s|starts|begins|ends|finishes|lasts|takes place|takes|moves|goes|runs|happens)(?: "
    r"(?:now|actually|rather|really|then))* "
)
_ROOTS = {
    "moved": "move",
    "shifted": "move",
    "postponed": "postpone",
    "pushed": "push",
    "rescheduled": "move",
    "delayed": "delay",
    "extended": "extend",
    "shortened": "shorten",
    "brought": "bring",
    "put": "put",
    "changed": "change",
    "bumped": "push",
    "starts": "start",
    "begins": "start",
    "ends": "end",
    "finishes": "end",
    "lasts": "last",
    "takes": "last",
    "begin": "start",
    "finish": "end",
}
_NEW_ONES = (
    r"(?:(?:is|are) (?:planned|scheduled|booked|confirmed|arranged)(?: for)?|(?:will be|is|gets) held|is going to "
    r"be|will be|"
    r"has to be (?:booked|made|scheduled|planned)|is|takes place|will take place|happens)(?: |$)"
)
_MORE = r"(?:needs|need|gets|takes|should get|should have|has) (?=another|\S+ more|an extra|half an|one more)"
_COME = r"(?:join|attend|come to|be at)"
_TAKES_PART = (
    rf"(?:(?P<joins>joins|attends|comes to|{_COME}|(?:is|are) (?:coming to|joining|attending)|(?:will|can|should) "
    rf"{_COME})|"
    rf"(?:can't|cannot|won't|will not|can not|isn't able to|couldn't) (?:{_COME}|make)|(?:isn't|is not|aren't) "
    r"(?:coming to|joining|"
    r"attending)|drops out of|skips|misses)(?: |$)"
)
_LONGEST_NP = 12  # words


def tell(context: Context, begin: int, end: int, *, is_had: bool) -> Request | None:
    """What a sentence tells of an event that stands, or of a new one; None where it has no such form."""
    lows = context.lows
    if (dropped := _dropped(context, begin, end)) is not None:
        return dropped
    for form in (_from_then_on, _reminder, _bare_value):
        if (told := form(context, begin, end)) is not None:
            return told
    for at in range(begin + 1, min(end, begin + _LONGEST_NP)):
        if at in context.locked:
            continue
        rest = " ".join(lows[at:end])
        is_it = lows[begin:at] in (["it"], ["that"], ["this"]) and bool(context.around.last)
        known = is_it or bool(known_np(context, begin, at))
        is_instead = "instead" in lows[at:end] and at - 1 in context.locked
        if known and not is_had and (lows[at] == ":" or is_instead):
            stop = at + lows[at:end].index("instead") if is_instead else end
            inner = at + (lows[at] in (":", "on", "at", "to"))
            if _is_new_value(context, inner, stop):
                inner += lows[inner] == "in" and not _is_time(context, inner, stop)
                return changing.carry(context, Wanted("move", (begin, at), (inner, stop), begin, stop))
        if known and (found := re.match(_MORE, rest)) and context.reader().length(at + _count(found[0])) is not None:
            return changing.carry(context, Wanted("extend", (begin, at), (at + _count(found[0]), end), begin, end))
        if (found := re.match(_TAKES_PART, rest)) and (named := _names(context, begin, at)):
            side = "attendees" if found["joins"] else "without"
            return _with_people(context, side, named, at + _count(found[0]), end)
        if lows[at] == "to" and known and not is_had and _is_time(context, at + 1, end):
            return changing.carry(context, Wanted("move", (begin, at), (at + 1, end), begin, end))
        if (found := re.match(_OFF, rest)) and not _names(context, begin, at):
            return _delete(context, begin, at, at + _count(found[0]), end) if known else None
        if known and (found := re.match(_CALLED, rest)):
            return changing.carry(context, Wanted("rename", (begin, at), (at + _count(found[0]), end), begin, end))
        if known and (found := re.match(_MOVED, rest)):
            return _change(context, _ROOTS[found[1]], begin, at, at + _count(found[0]), end)
        if known and (found := re.match(_DOES, rest)):
            verb = _ROOTS.get(found[1], found[1])
            inner = at + _count(found[0])
            if inner < end and lows[inner] in ("cancelled", "canceled", "deleted", "off", "scrapped", "dropped"):
                return _delete(context, begin, at, inner + 1, end)
            return _change(context, verb, begin, at, inner, end)
        if found := re.match(_IS, rest):
            inner = at + _count(found[0].strip())
            if known:
                verb = _ROOTS.get(found[1], "be")
                return _change(context, verb, begin, at, inner, end) if _is_new_value(context, inner, end) else None
        if not known and (found := re.match(_NEW_ONES, rest)) and not FINITE & set(lows[begin:at]):
            return _new(context, begin, at, at + _count(found[0].strip()), end)
    return None


def _names(context: Context, begin: int, at: int) -> list[str]:
    """The people who are all that some words name; empty where they name something else."""
    known = context.around.names
    words = [
        (context.lows[i], context.words[i].text) for i in range(begin, at) if context.lows[i] not in (",", "and", "&")
    ]
    if not words or any(low not in known and "@" not in low for low, _ in words):
        return []
    return [known.get(low, text) for low, text in words]


def _with_people(context: Context, side: str, named: list[str], begin: int, end: int) -> Request | None:
    """Ines joins the budget talk; rui can't come to it."""
    pieces = context.pieces(begin, end)
    wanted = context.title_words(pieces)
    found = targets(context, pieces, wanted, refers=refers(context, begin, end))
    request = context.request
    request.intent = "change"
    if (asked := one_of(context, found, wanted, "change")) is not None:
        return asked if found else None
    request.intent, request.changes = "change", {side: named}
    return request


def moved_up(context: Context, begin: int, end: int) -> Request | None:
    """Could the call start 15 minutes earlier: the same with its verb in front."""
    lows = context.lows
    if lows[begin] not in MODALS or begin + 2 >= end:
        return None
    if lows[begin + 1] in ("you", "we", "i", "someone"):
        return _instead(context, begin + 2, end)
    for at in range(begin + 2, min(end, begin + _LONGEST_NP)):
        verb = lows[at]
        if at in context.locked or verb not in (
            "be",
            "move",
            "start",
            "begin",
            "end",
            "finish",
            "last",
            "happen",
            "go",
            "become",
            "take",
        ):
            continue
        is_it = lows[begin + 1 : at] in (["it"], ["that"], ["this"]) and bool(context.around.last)
        if not is_it and not known_np(context, begin + 1, at):
            return None
        inner = at + 1
        if verb == "be" and inner < end and lows[inner] in _ROOTS:
            verb, inner = _ROOTS[lows[inner]], inner + 1
        elif verb == "be" and inner < end and lows[inner] in ("cancelled", "canceled", "deleted"):
            return _delete(context, begin + 1, at, inner + 1, end)
        if not _is_new_value(context, inner, end) and verb == "be":
            return None
        return _change(context, _ROOTS.get(verb, verb), begin + 1, at, inner, end)
    return None


def _instead(context: Context, begin: int, end: int) -> Request | None:
    """Can we do the dentist at 4 instead?"""
    if begin >= end or context.lows[begin] not in ("do", "have", "make"):
        return None
    is_it = context.lows[begin + 1 : begin + 2] in (["it"], ["that"]) and bool(context.around.last)
    if not is_it and ("instead" not in context.lows or not context.locked):
        return None
    at = begin + 2 if is_it else max(context.locked) + 1
    stop = end - (context.lows[end - 1] == "instead")
    inner = at + (at < stop and context.lows[at] in ("on", "at", "to"))
    if inner >= stop:
        return None
    return changing.carry(context, Wanted("move", (begin + 1, at), (inner, stop), begin, stop))


def _count(text: str) -> int:
    return len(text.split())


def _is_time(context: Context, begin: int, end: int) -> bool:
    pieces = context.pieces(begin, end, bare=True)
    return bool(pieces.whens) and not context.title_words(pieces)


def _is_new_value(context: Context, begin: int, end: int) -> bool:
    """Whether words say a time, a distance, a place or a state that an event may get."""
    begin += begin < end and context.lows[begin] == "to"
    lows = context.lows[begin:end]
    if not lows:
        return False
    pieces = context.pieces(begin, end, bare=True)
    if pieces.whens or pieces.length is not None:
        return not set(context.title_words(pieces)) - _VALUE_WORDS
    return lows[0] in ("in", "at") or lows[-1] in ("tentative", "provisional")


_VALUE_WORDS = {
    "earlier",
    "later",
    "longer",
    "shorter",
    "long",
    "instead",
    "sooner",
    "rather",
    "back",
    "forward",
    "ahead",
    "bit",
    "to",
    "now",
}


def _change(context: Context, verb: str, begin: int, at: int, inner: int, end: int) -> Request:
    lows = context.lows
    while inner < end - 1 and lows[inner] in ("to", "on", "at", "by", "in", "into", "until", "for", "back", "forward"):
        if lows[inner] in ("in",) and not _is_time(context, inner, end):
            inner += 1
            break
        if lows[inner] == "in":
            break
        inner += 1
    return changing.carry(context, Wanted(verb, (begin, at), (inner, end), begin, end))


def _delete(context: Context, begin: int, at: int, inner: int, end: int) -> Request:
    """The event of the words before, at the time that stands before or behind."""
    kept = [*range(begin, at), *range(inner, end)]
    words = [context.words[i] for i in kept]
    return deleting.delete(Context(words, context.around, context.request), "cancel", 0, len(words))


def _new(context: Context, begin: int, at: int, inner: int, end: int) -> Request | None:
    """The tour will be on friday at 10: a new event where day and time are said."""
    kept = [*range(begin, at), *range(inner, end)]
    fresh = Context([context.words[i] for i in kept], context.around, context.request)
    pieces = fresh.pieces(0, len(kept))
    is_whole = bool(MEANT_WHOLE & set(fresh.lows)) and any(each.days is not None for each in pieces.whens)
    is_whole = is_whole or (bool(pieces.repeat) and any("birthday" in low for low in fresh.lows))
    if not is_whole and not any(each.days is not None and each.from_ is not None for each in pieces.whens):
        return Request("none", because=context.request.because)
    if set(fresh.title_words(fresh.pieces(at - begin, len(kept)))):
        return Request("none", because=context.request.because)
    return create(fresh, 0, len(kept), is_wanted=True)


def _dropped(context: Context, begin: int, end: int) -> Request | None:
    """I can't make the dentist, cancel it; no mirror wash on thursday; we don't need the camera swap any more."""
    lows = context.lows
    tail = end
    while tail > begin and lows[tail - 1] in (*IT, "please", ",", "all", "together"):
        tail -= 1
    verb = spelled(lows[tail - 1], frozenset(VERB_OF)) if tail > begin else ""
    if VERB_OF.get(verb) == "delete" and tail - 1 > begin and "," in lows[begin : tail - 1]:
        return _of_event(context, begin, tail - 1)
    if lows[begin] == "no" and known_np(context, begin + 1, end) and len(lows) > 2:
        return deleting.delete(context, "cancel", begin + 1, end)
    text = " ".join(lows[begin:end])
    if re.match(
        r"(?:i|we) (?:do not|don't|dont|no longer|won't) (?:need|want)|(?:i|we) can't (?:make|do|come to|attend)", text
    ):
        request = _of_event(context, begin, end)
        if request.intent == "delete":
            return (
                context.ask("Shall I delete it? (yes or no)", "yes") if request is context.request else _asked(request)
            )
        return request if request.intent == "ask" else Request("none", because=request.because)
    return None


def _asked(request: Request) -> Request:
    from whenvoca.speech.agenda import show_target

    request.purpose, request.intent, request.missing = "delete", "ask", ["yes"]
    zone = request.targets[0].event.span  # the event's own times
    del zone
    request.question = f'Shall I delete "{request.targets[0].event.title}"? (yes or no)'
    del show_target
    return request


def _of_event(context: Context, begin: int, end: int) -> Request:
    """A deletion of the event whose title or words stand in the sentence, at the time that is said."""
    kept = [i for i in range(begin, end) if context.lows[i] not in FINITE and context.lows[i] not in _EXCUSES]
    words = [context.words[i] for i in kept]
    return deleting.delete(Context(words, context.around, Request()), "cancel", 0, len(words))


_EXCUSES = {
    "i",
    "we",
    "need",
    "want",
    "make",
    "come",
    "attend",
    "any",
    "anymore",
    "more",
    "longer",
    "no",
    "not",
    "go",
    "because",
    "so",
    "sorry",
    "afraid",
    "after",
}


def _reminder(context: Context, begin: int, end: int) -> Request | None:
    """Lens test: remind me 10 minutes before."""
    pieces = context.pieces(begin, end)
    if pieces.reminder is None or pieces.whens or not context.locked or not known_np(context, begin, end):
        return None
    return changing.carry(context, Wanted("remind", (begin, end), None, begin, end))


def _bare_value(context: Context, begin: int, end: int) -> Request | None:
    """Lens test a day later; council call only 30 minutes; council call until 11:30: a title with a new value behind
    it."""
    if not context.locked or not begin <= min(context.locked) <= begin + 1:
        return None
    at = max(context.locked) + 1
    inner = at
    while inner < end and context.lows[inner] in ("only", "just", "now", "then", "please", "-", ","):
        inner += 1
    if inner >= end:
        return None
    lows = context.lows[inner:end]
    length = context.reader().length(inner)
    if length is not None and DIRECTIONS & set(lows) and len(lows) <= length[0] - inner + 2:
        return changing.carry(context, Wanted("move", (begin, at), (inner, end), begin, end))
    if length is not None and length[0] == end and not length[1].days:
        return changing.carry(context, Wanted("last", (begin, at), (inner, end), begin, end))
    if lows[0] in ("until", "till") and _is_time(context, inner + 1, end):
        return changing.carry(context, Wanted("end", (begin, at), (inner + 1, end), begin, end))
    return None


def _from_then_on(context: Context, begin: int, end: int) -> Request | None:
    """From next week on mirror wash at 11; mirror wash from now on at 11: a series from then on."""
    if scope_of(context, begin, end) != "following":
        return None
    if context.lows[begin] != "from":
        return _later_on(context, begin, end)
    on = next((i for i in range(begin + 1, end) if context.lows[i] in ("on", "onwards")), None)
    if on is None or on + 1 >= end:
        return None
    for at in range(on + 2, end):
        if at not in context.locked and known_np(context, on + 1, at) and _is_new_value(context, at, end):
            words = [*context.words[on + 1 : at], *context.words[begin:on], *context.words[at:end]]
            width = at - on - 1 + on - begin
            fresh = Context(words, context.around, context.request)
            request = changing.carry(
                fresh, Wanted("move", (0, width), (width, len(words)), 0, len(words), is_onwards=True)
            )
            request.scope = "following"
            return request
    return None


def _later_on(context: Context, begin: int, end: int) -> Request | None:
    lows = context.lows
    start = next((i for i in range(begin + 1, end) if lows[i] == "from"), None)
    on = next((i for i in range(start + 1, end) if lows[i] in ("on", "onwards")), None) if start is not None else None
    if start is None or on is None or not known_np(context, begin, start):
        return None
    if not _is_new_value(context, on + 1, end):
        return context.ask("What shall be changed from then on?", "changes")
    since = [] if lows[start + 1] in ("now", "then") else context.words[start:on]
    words = [*context.words[begin:start], *since, *context.words[on + 1 : end]]
    width = start - begin + len(since)
    request = changing.carry(
        Context(words, context.around, context.request),
        Wanted("move", (0, width), (width, len(words)), 0, len(words), is_onwards=True),
    )
    request.scope = "following"
    return request
