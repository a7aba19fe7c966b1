"""What is to be changed of an event: its time, length, title, place, people, reminder, and whether it takes time."""

from __future__ import annotations

from datetime import datetime

from msgspec import Struct

from whenvoca.calendars.event import Event
from whenvoca.speech.clocks import Span
from whenvoca.speech.context import DAY, PARTS, YEAR, Context, joined
from whenvoca.speech.lexicon import (
    BY_A_DISTANCE,
    CHANGE_FILLERS,
    DIRECTIONS,
    EARLIER,
    IT,
    LENGTHENING,
    MOVING,
    NAMING,
    SCOPES,
    SHORTENING,
)
from whenvoca.speech.pieces import Pieces
from whenvoca.speech.request import Request
from whenvoca.speech.times import Days
from whenvoca.speech.which import one_of, refers, scope_of, targets

_LONGEST_FRAGMENT = 6  # words
_ASPECTS = {"title", "name", "place", "location", "room", "time", "start", "end", "length", "date", "day"}
_BUSY = {"tentative": "tentative", "provisional": "tentative", "busy": "yes", "free": "no"}


class Wanted(Struct):
    """A change as a clause says it: the verb, the words that say which event, and those that say what it becomes."""

    verb: str
    which: tuple[int, int]
    new: tuple[int, int] | None
    begin: int  # of the whole clause
    end: int
    is_onwards: bool = False  # the day that says which event is the first that it may be on


def change(context: Context, verb: str, begin: int, end: int) -> Request:
    """The change that a clause asks for; its verb stands before ``begin``."""
    split = _split(context, verb, begin, end) if verb != "remind" else None
    if split is None:
        return carry(context, Wanted(verb, (begin, end), None, begin, end))
    low = context.lows[split]
    behind = split + (low in ("to", "until", "till", "by", "at", "on", "for", "as", "in", "into", "called", "named"))
    behind += low in ("start", "begin", "end", "finish", "last")
    behind += behind > split + 1 and behind < end - 1 and context.lows[behind] in ("at", "on", "to")
    if verb in NAMING and behind < end and context.lows[behind] in ("to", "as"):
        behind += 1
    return carry(context, Wanted(verb, (begin, split), (behind, end), begin, end))


def carry(context: Context, said: Wanted) -> Request:
    """The request of a change that was taken apart."""
    request = context.request
    request.intent = "change"
    which = context.pieces(*said.which)
    is_naming = said.verb in NAMING
    new = context.pieces(*said.new, bare=True, locks=False) if said.new is not None else Pieces([])
    for when in which.whens if said.is_onwards else ():
        if when.days is not None:
            when.until_days = Days(when.days.first + YEAR, when.days.first + YEAR)
    context.tell(which, *([] if is_naming else [new]))
    if doubt := context.doubt(which, *([] if is_naming else [new])):
        return context.ask(doubt, "start")
    request.scope = scope_of(context, said.begin, said.end)
    wanted = [low for low in context.title_words(which) if low not in CHANGE_FILLERS]
    if request.scope != "this":
        wanted = [low for low in wanted if low not in SCOPES]
    if request.scope == "this" and "all" in context.lows[said.begin : said.end]:
        request.scope = "all"
    about = [low for low in context.lows[slice(*said.which)] if low not in ("the", "its", "of")]
    meant = (
        refers(context, *said.which)
        or (bool(about) and set(about) <= _ASPECTS)
        or (said.new is not None and said.which[0] == said.which[1])
    )
    if not wanted and not which.whens and not which.people and not meant:
        if not (context.around.last and which.reminder is not None):
            return context.ask("Which event is meant?", "which")
        meant = True
    reminder = which.reminder if which.reminder is not None else new.reminder
    found = targets(context, which, wanted, refers=meant)
    if (asked := one_of(context, found, wanted, "change")) is not None:
        return asked
    request.intent = "change"
    event = request.targets[0].event
    if request.scope == "all" and not event.rule and event.occurrence is None:
        request.scope = "this"
    if reminder is not None:
        request.changes["reminder"] = reminder
    elif said.new is not None:
        _changes(context, event, said, new)
    if request.question:
        return request
    if not request.changes:
        return context.ask("What shall be changed?", "changes")
    return context.asks_past(request.changes.get("start")) or request


def _split(context: Context, verb: str, begin: int, end: int) -> int | None:
    """Where what it becomes begins: behind the last `to`, or where a distance, a day, a time or a word for its state
    stands."""
    lows, locked = context.lows, context.locked
    reader = context.reader()
    if verb in NAMING:
        at = next((i for i in range(begin + 1, end - 1) if lows[i] in ("to", "as") and i not in locked), None)
        if at is not None:
            return at
        quoted = next((i for i in range(begin + 1, end) if context.words[i].is_quoted), None)
        after_it = begin + 1 if begin < end and lows[begin] in IT else None
        after_title = max((i + 1 for i in locked if begin <= i < end), default=None)
        return quoted or after_it or (after_title if after_title is not None and after_title < end else None)
    inner = max((i + 1 for i in locked if begin <= i < end), default=end)
    if inner < end - 1 and lows[inner] in ("start", "begin", "end", "finish", "last"):
        return inner
    for words in (("to",), ("until", "till")):
        for i in range(end - 2, begin - 1, -1):
            if lows[i] not in words or i in locked:
                continue
            is_range = i > begin and lows[i - 1].isdecimal() and lows[i + 1].isdecimal() and "from" not in lows[begin:i]
            if not is_range:
                return i
    for i in range(begin, end):
        if i in locked:
            continue
        if lows[i] == "by" and i + 1 < end and reader.length(i + 1) is not None:
            return i
        is_distance = verb in BY_A_DISTANCE or DIRECTIONS & set(lows[begin:end])
        if is_distance and reader.length(i) is not None:
            return i
    first = begin + 1 if begin < end and lows[begin] in IT else begin
    after = max((i + 1 for i in locked if begin <= i < end), default=first)
    if verb in MOVING or verb in ("start", "begin", "end", "finish"):
        for i in range(max(after, first), end):
            led = lows[i] in ("at", "on", "for", "from", "by")
            if reader.days(i) is not None or reader.clock(i + led, bare=led or (i == first > begin)) is not None:
                return i
    for i in range(max(first, begin), end):
        if context.words[i].is_quoted or lows[i] in ("as", "called", *_BUSY):
            return i
    return next((i for i in range(after, end - 1) if lows[i] in ("in", "into", "at") and i > begin), None)


def _changes(context: Context, event: Event, said: Wanted, new: Pieces) -> None:
    """What the new words make of the event."""
    assert said.new is not None
    changes, verb = context.request.changes, said.verb
    lows = context.lows[said.begin : said.end]
    before = set(context.lows[said.begin : said.new[0]])
    words = list(range(len(new.words)))
    while words and new.words[words[-1]].low in ("instead", "now", "please", "then"):
        words.pop()
    if verb in NAMING or {"title", "name"} & before:
        if title := joined(new.words, words):
            changes["title"] = title
        return
    if {"place", "location", "room", "venue"} & before:
        changes["location"] = joined(new.words, words)
        return
    if set(_BUSY) & set(lows) and verb in ("mark", "set", "make", "change", "show", "be", "move"):
        changes["busy"] = _BUSY[next(low for low in lows if low in _BUSY)]
        return
    _times(context, event, said, new)
    if not changes and verb in (*MOVING, "be", "set"):
        left = [i for i in words if i not in new.claimed]
        place = joined(new.words, left)
        if place and not new.whens and new.length is None:
            changes["location"] = place


_WHOLE_DAY = 'It takes the whole day now. From when to when? Say: "move it to 10:00-12:00".'


def _times(context: Context, event: Event, said: Wanted, new: Pieces) -> None:
    """Another start or end; without a new end the length stays."""
    changes, zone, verb = context.request.changes, context.around.zone, said.verb
    start, end = event.span(zone)
    local = start.astimezone(zone)
    assert said.new is not None
    lows = context.lows[said.begin : said.end]
    distance = new.length or _next_one(context, said)
    when = next(iter(new.whens), None)
    if distance is not None and when is None:
        _by_distance(context, event, said, distance)
        return
    if when is None:
        return
    if {"end", "finish"} & set(context.lows[said.begin : said.new[0]]) - {context.lows[i] for i in context.locked}:
        verb = "end"
    if when.from_ is None and when.part and (when.days is None or not _is_in_part(local.hour, when.part)):
        context.ask("At what time?", "start")
        return
    if verb in (*LENGTHENING, *SHORTENING, "end", "finish", "last") and when.from_ is not None and when.days is None:
        if event.is_whole_day:
            context.ask(_WHOLE_DAY, "start")
            return
        changes["end"] = context.moment(end.astimezone(zone).date(), context.reader().settle(when.from_, when.part))
        return
    if (
        when.days is not None
        and when.days.is_period
        and (when.days.last - when.days.first).days == 6
        and when.from_ is None
    ):
        day = when.days.first + local.weekday() * DAY  # to next week: the same day of it
        when.days = Days(day, day)
    if when.days is None and when.from_ is not None:
        when.days = Days(local.date(), local.date())
        if not when.part and when.from_.is_open and "am" not in lows:
            when.part = ""
        begin, finish = context.span_of(when, None, default=0)
    elif when.from_ is None and when.days is not None and not event.is_whole_day and when.until_days is None:
        begin, finish = context.moment(when.days.first, local.time()), None
    else:
        begin, finish = context.span_of(when, None, default=0)
    if not isinstance(begin, datetime):
        keeps = event.is_whole_day and when.until_days is None and begin is not None
        changes["start"], changes["end"] = begin, begin + (event.end - event.start) if keeps else finish  # type: ignore[operator]
        return
    has_end = when.until is not None or when.length is not None
    changes["start"] = begin
    kept = Span(round((end - start).total_seconds() / 60))
    changes["end"] = finish if has_end else context.after(begin, new.length or kept)


def _is_in_part(hour: int, part: str) -> bool:
    begin, end = PARTS[part]
    return begin <= hour < end


def _next_one(context: Context, said: Wanted) -> Span | None:
    """The next day, the following week: a distance from where the event stands."""
    assert said.new is not None
    text = " ".join(context.lows[said.new[0] : said.new[1]])
    if text in ("the next day", "the day after", "the following day", "the day after that"):
        return Span(days=1)
    return Span(days=7) if text in ("the following week", "the week after", "the next week") else None


def _by_distance(context: Context, event: Event, said: Wanted, distance: Span) -> None:
    changes, verb = context.request.changes, said.verb
    start, end = (event.start, event.end) if event.is_whole_day else event.span(context.around.zone)
    lows = set(context.lows[said.begin : said.end])
    assert said.new is not None
    is_to = said.new[0] > 0 and context.lows[said.new[0] - 1] == "to"
    less = Span(-distance.minutes, -distance.days, -distance.months)
    if event.is_whole_day and not (distance.days or distance.months):
        context.ask(_WHOLE_DAY, "start")
        return
    if verb in SHORTENING or "shorter" in lows:
        changes["end"] = context.after(start, distance) if is_to else context.after(end, less)
    elif verb in LENGTHENING or {"longer", "long"} & lows or (verb in ("last", "make", "be") and not DIRECTIONS & lows):
        is_total = is_to or "long" in lows or (verb in ("last", "make", "be") and "longer" not in lows)
        changes["end"] = context.after(start if is_total else end, distance)
    else:
        by = less if (EARLIER | {"up"}) & lows or verb in ("bring", "advance", "pull") else distance
        if event.is_whole_day:
            days = by.days
            changes["start"], changes["end"] = event.start + days * DAY, event.end + days * DAY
            return
        changes["start"], changes["end"] = context.after(start, by), context.after(end, by)


def people(context: Context, verb: str, begin: int, end: int) -> Request | None:
    """Invite rui to the council call; take tomas off it: None where the words behind the verb are no people."""
    known = context.around.names
    lows = context.lows
    named: list[str] = []
    i = begin
    while i < end and (lows[i] in known or "@" in lows[i] or lows[i] in (",", "and", "&", "also", "too")):
        if lows[i] in known:
            named.append(known[lows[i]])
        elif "@" in lows[i]:
            named.append(context.words[i].text)
        i += 1
    if not named or begin in context.locked:
        return None
    if lows[i : i + 1] == ["to"] and lows[i + 1 : i + 2] in (["join"], ["attend"], ["come"]):
        i += 1 + (lows[i + 2 : i + 3] == ["to"])
        verb = "invite"
    has_join = i < end and lows[i] in (
        "join",
        "attend",
        "come",
        "to",
        "on",
        "onto",
        "for",
        "from",
        "off",
        "out",
        "in",
        "into",
        "at",
    )
    rest = i + has_join
    rest += rest < end and lows[rest] in ("of",)
    while rest < end and lows[rest] in ("too", "as", "well", "please"):
        rest += 1
    request = context.request
    side = "without" if verb in ("uninvite", "remove", "take", "drop", "delete", "kick", "cut") else "attendees"
    if side == "without" and not (has_join or verb == "uninvite"):
        return None
    if rest >= end:
        if not context.around.last or (verb in ("add", "put") and has_join):
            return None if not context.around.last else context.ask("Which event is meant?", "which")
        request.intent, request.targets, request.changes = "change", list(context.around.last[:1]), {side: named}
        return request
    pieces = context.pieces(rest, end)
    wanted = [low for low in context.title_words(pieces) if low not in CHANGE_FILLERS]
    meant = refers(context, rest, end)
    found = targets(context, pieces, wanted, refers=meant) if wanted or pieces.whens or meant else []
    if side == "without":
        there = [each for each in found if _has(each.event, named)]
        found = there or found
    if not found and verb in ("add", "put") and lows[i] != "to":
        return None
    request.intent = "change"
    if (asked := one_of(context, found, wanted, "change")) is not None:
        return asked
    request.intent, request.changes = "change", {side: named}
    return request


def _has(event: Event, names: list[str]) -> bool:
    said = " ".join(f"{each.address} {each.name}" for each in event.attendees).lower()
    return all(name.lower() in said for name in names)


def correct(context: Context, begin: int, end: int) -> Request | None:
    """No, 4pm; an hour later: another time for what was spoken of last. None where it says more."""
    lows = context.lows
    if begin < end and lows[begin] == "not" and "," in lows[begin:end]:
        begin = begin + lows[begin:end].index(",") + 1
    pieces = context.pieces(begin, end, bare=True, locks=False)
    left = {low for i, low in enumerate(lows[begin:end]) if i not in pieces.claimed}
    if (not pieces.whens and pieces.length is None) or left - _CORRECTION_FILLERS:
        return None
    if pieces.length is not None and not pieces.whens and not DIRECTIONS & set(lows[begin:end]):
        return None
    context.tell(pieces)
    if doubt := context.doubt(pieces):
        return context.ask(doubt, "start")
    request = context.request
    request.intent, request.targets = "change", list(context.around.last[:1])
    _changes(context, context.around.last[0].event, Wanted("move", (begin, begin), (begin, end), begin, end), pieces)
    if not request.changes:
        return None
    return context.asks_past(request.changes.get("start")) or request


_CORRECTION_FILLERS = {
    *DIRECTIONS,
    "no",
    "rather",
    "make",
    "instead",
    "i",
    "meant",
    "mean",
    "it",
    "that",
    "at",
    "on",
    "the",
    "but",
    "please",
    "should",
    "be",
    "better",
    "sorry",
    ",",
    ".",
    "!",
    "of",
    "course",
    "to",
    "is",
    "was",
    "wait",
    "actually",
    "oh",
    "hm",
    "a",
    "bit",
    "then",
}


def give_place(context: Context, title: str, place: str) -> Request | None:
    """Put the lens test in the hall: a place for an event that stands, where no time is said."""
    wanted = title.lower().split()
    found = targets(context, Pieces([]), wanted, refers=False)
    if not found or len({each.event.uid for each in found}) > 1:
        return None
    request = context.request
    request.intent, request.targets, request.changes = "change", found[:1], {"location": place}
    return request


def fragment(context: Context, begin: int, end: int) -> Request | None:
    """In the hall; with tomas; for two hours: a piece more for what was spoken of last. None where it says more, or
    less."""
    lows = context.lows[begin:end]
    if lows[0] not in ("in", "at", "with", "for") or len(lows) > _LONGEST_FRAGMENT:
        return None
    pieces = context.pieces(begin, end)
    request, event = context.request, context.around.last[0].event
    if pieces.whens or pieces.repeat or pieces.reminder is not None:
        return None
    left = [i for i in range(len(pieces.words)) if i not in pieces.claimed]
    changes: dict[str, object] = {}
    if lows[0] == "with" and pieces.people and not left:
        changes["attendees"] = list(pieces.people)
    elif lows[0] == "for" and pieces.length is not None and not left and not event.is_whole_day:
        changes["end"] = context.after(event.span(context.around.zone)[0], pieces.length)
    elif lows[0] in ("in", "at") and pieces.length is None and (place := joined(pieces.words, left)):
        changes["location"] = place
    if not changes:
        return None
    context.tell(pieces)
    request.intent, request.targets, request.changes = "change", list(context.around.last), changes
    return request
