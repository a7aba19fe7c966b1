"""Questions: what is on, when something is, how many; and what time is free."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, time

from whenvoca.speech.agenda import free_gaps
from whenvoca.speech.clocks import Span
from whenvoca.speech.context import DAY, Context
from whenvoca.speech.lexicon import ASKING, FREE_WORDS, IT, MODALS, QUERY_FILLERS, WHAT_IS_ON
from whenvoca.speech.pieces import Pieces
from whenvoca.speech.request import Request, Target
from whenvoca.speech.titles import event_tokens, is_named
from whenvoca.speech.which import expanded, find

_IGNORED = QUERY_FILLERS | ASKING | {"until", "'s"}
DAY_BEGINS = 6  # a night that ends before takes nothing of the day
_SOON = 7 * DAY  # so far the agenda goes, where no time is said
_MEET = {"meet", "talk", "speak", "chat"}
_SUITS = {"work", "suit", "fit", "ok", "okay", "fine", "possible", "good"}
_ABOUT_ONE = ("when", "when's", "where", "where's", "who", "who's", "what", "what's", "how")


def ask(context: Context, begin: int, end: int, *, wants_to_know: bool) -> Request:
    """The question that a clause puts; none where it is about nothing in a calendar."""
    request, around = context.request, context.around
    core = context.lows[begin:end]
    pieces = context.pieces(begin, end)
    context.tell(pieces)
    if doubt := context.doubt(pieces):
        return context.ask(doubt, "start")
    if is_about_free(core, pieces):
        return free(context, begin, end, pieces)
    wanted = [low for low in context.title_words(pieces) if low not in _IGNORED]
    is_about_time = bool(pieces.whens) or bool(WHAT_IS_ON & set(core))
    says_it = any(low in IT for low in core[1:4])
    refers = bool(around.last) and (says_it or (core[0] in _ABOUT_ONE and not wanted and not pieces.whens))
    if refers and not wanted:
        request.intent, request.targets, request.count = "query", list(around.last[:1]), 1
        return request
    if (after := _around_event(context, begin, end)) is not None:
        return after
    asks_one = core[0] in _ABOUT_ONE and bool(wanted)
    is_listed = (
        core[0] in ("show", "list", "find", "is", "are", "do", "does", "any", "details", "next") or wants_to_know
    ) and bool(wanted)
    if not is_about_time and not asks_one and not is_listed and not pieces.people:
        return Request("none", because=request.because)
    found = find(context, pieces, wanted)
    if not pieces.whens:
        coming = [each for each in found if each.event.span(around.zone)[1] > around.now]
        found = _once(coming or found) if wanted or pieces.people else coming
    if not found and context.locked and wanted:
        found = find(context, Pieces([]), wanted)[:1]  # it is at another time
    if not found and wanted and not _is_about_agenda(core, pieces):
        return Request("none", because=request.because)
    request.intent = "query"
    is_next = "next" in core and not any(when.days for when in pieces.whens)
    if (is_next or (core[0] in ("when", "when's", "where", "where's") and wanted)) and found:
        found = found[:1]
    if "last" in core and wanted and found and not pieces.whens:
        found = find(context, pieces, wanted)[-1:]
    if not pieces.whens and not wanted and not pieces.people and not is_next:
        until = around.now + _SOON
        found = [each for each in found if each.event.span(around.zone)[0] < until]
    request.targets, request.count = found, len(found)
    request.wants_count = "many" in core
    request.wants_details = bool(wanted) and (bool({"details", "about"} & set(context.lows)) or "everything" in core)
    request.period = context.first_period(pieces)
    return request


def _is_about_agenda(core: list[str], pieces: Pieces) -> bool:
    """Whether a question is about events, though none fits: so that "nothing" is a true answer."""
    return bool(
        {"event", "events", "meeting", "meetings", "appointment", "appointments", "calendar", "agenda", "schedule"}
        & set(core)
    ) or (bool(pieces.whens) and core[0] in ("any", "is", "are", "do", "anything", "list", "show", "how"))


def _once(found: list[Target]) -> list[Target]:
    """Series with their coming occurrence alone."""
    return list({each.event.uid: each for each in reversed(found)}.values())[::-1]


def _around_event(context: Context, begin: int, end: int) -> Request | None:
    """What is on after the council call: the rest of its day, or what comes before it."""
    lows = context.lows
    for i in range(begin, end - 1):
        inside = [k for k in range(i + 1, end) if k in context.locked]
        if lows[i] not in ("after", "before") or not inside or inside[0] > i + 2:
            continue
        pieces = context.pieces(i + 1, end)
        found = find(context, pieces, context.title_words(pieces))
        zone = context.around.zone
        coming = [each for each in found if each.event.span(zone)[1] > context.around.now]
        if not coming:
            return None
        start, finish = (each.astimezone(zone) for each in coming[0].event.span(zone))
        low, high = finish, datetime.combine(finish.date() + DAY, time(0), tzinfo=zone)
        if lows[i] == "before":
            low, high = datetime.combine(start.date(), time(0), tzinfo=zone), start
        request = context.request
        request.intent, request.period = "query", (low, high)
        request.targets = _between(context, low, high)
        request.count = len(request.targets)
        return request
    return None


def _between(context: Context, low: datetime, high: datetime, agenda: Sequence[Target] | None = None) -> list[Target]:
    meant = (
        [each for each in agenda if not each.event.cancelled] if agenda is not None else context.index.around(low, high)
    )
    found = expanded(context, meant, low, high)
    return sorted(found, key=lambda each: each.event.span(context.around.zone)[0])


def is_about_free(core: list[str], pieces: Pieces) -> bool:
    """Whether it asks for time that is free."""
    words, text = set(core), " ".join(core)
    return (
        bool(FREE_WORDS & words)
        or (core[0] in ("am", "are", "is", "will", "when") and "busy" in words)
        or any(
            said in text
            for said in ("have time", "got time", "any time", "time works", "when works", "what works", "works for")
        )
        or ((bool(_MEET & words) and bool(MODALS & {core[0], *core[1:2]})) or core[0] in _MEET)
        or (
            bool(_SUITS & words)
            and core[0] in ("would", "does", "will", "is", "can", "could", "shall")
            and bool(pieces.whens)
        )
        or (core[0] == "busy" and bool(pieces.whens))
        or ("fit" in words and core[0] in ("when", "can", "could"))
        or ("off" in words and core[0] in ("can", "could", "may"))
        or (bool({"slot", "slots"} & words) and core[0] in ("do", "is", "are", "any", "have", "when", "what", "which"))
        or (core[0] == "when" and "have" in words and pieces.length is not None)
        or (core[0] in ("find", "an", "a", "is") and pieces.length is not None and not {"show", "when"} & words)
    )


def free(context: Context, begin: int, end: int, pieces: Pieces) -> Request:
    """What is free in a time, or whether a time is; of a place or a person, where one is named."""
    request, around = context.request, context.around
    core = context.lows[begin:end]
    request.intent = "free"
    zone = around.zone
    period = context.first_period(pieces)
    when = next(iter(pieces.whens), None)
    length = (when.length if when else None) or pieces.length
    is_point = when is not None and when.from_ is not None and when.until is None and not when.open_end
    if is_point and when is not None:
        start, stop = context.span_of(when, length, default=around.length)
        assert isinstance(start, datetime)
        assert isinstance(stop, datetime)
        period = (start, stop)
    if period is None:
        midnight = context.moment(context.wall.date() + DAY, time(0))
        asks_when = "when" in core or length is not None
        period = (around.now, context.moment(context.wall.date() + 7 * DAY, time(0)) if asks_when else midnight)
    request.period = low, high = period
    if not is_point and low.astimezone(zone).time() == time(0):
        low = context.moment(low.astimezone(zone).date(), time(DAY_BEGINS))
    agenda = _of_whom(context, pieces)
    request.targets = [each for each in _between(context, low, high, agenda) if each.event.takes_time]
    taken = [each.event.span(zone) for each in request.targets]
    if length is None and "hour" in core:
        length = Span(60)
    wants_slots = bool(
        {"when", "find", "which", "what", "gaps", "gap", "slot", "slots", "any", "works", "there"} & set(core)
    ) or (length is not None and not length.days and not is_point)
    request.slots = free_gaps(low, high, taken, around, length) if wants_slots or taken else [(low, high)]
    if "days" in core and length is None:
        request.slots = [each for each in request.slots if _is_whole_day(context, *each)]
    request.free = bool(request.slots) if wants_slots else not taken
    if not wants_slots and "busy" in core and "free" not in core:
        request.asks_busy = True
    return request


def _is_whole_day(context: Context, low: datetime, high: datetime) -> bool:
    """Whether a free stretch is all the working hours of its day."""
    begin, end = (each.astimezone(context.around.zone).time().replace(tzinfo=None) for each in (low, high))
    return (begin, end) == context.around.hours


def _of_whom(context: Context, pieces: Pieces) -> list[Target] | None:
    """The events that count: those in a place or of a person that is named; None: all."""
    agenda = context.around.agenda
    names = context.around.names
    wanted = [low for low in context.title_words(pieces) if low not in _IGNORED and low not in FREE_WORDS]
    for word in wanted:
        in_place = [each for each in agenda if word in each.event.location.lower().split()]
        if in_place:
            return in_place
        if word in names:
            return [each for each in agenda if is_named(word, event_tokens(each.event))]
    return None
