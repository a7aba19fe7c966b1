"""Which event is meant: by its title, its time, its place, its people, or as what was spoken of last."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.speech.agenda import show_target
from whenvoca.speech.context import DAY, YEAR, Context
from whenvoca.speech.lexicon import IT, SCOPES, SERIES
from whenvoca.speech.pieces import Pieces
from whenvoca.speech.request import Request, Target
from whenvoca.speech.words import ORDINALS

_MOST_LISTED = 8
_BACK = 7 * DAY  # so far back what is past is still found


_MADE = {"made", "added", "created", "booked", "entered", "planned"}


def refers(context: Context, begin: int, end: int | None = None) -> bool:
    """Whether the words say it, that, the meeting, the last one I made: what was spoken of last."""
    lows = context.lows[begin:end]
    if _MADE & set(lows) and {"i", "we", "you"} & set(lows):
        return True
    return any(low in IT for low in lows[:3]) or lows[:2] in (
        ["the", "meeting"],
        ["the", "event"],
        ["the", "last"],
        ["the", "appointment"],
        ["the", "whole"],
    )


def find(context: Context, pieces: Pieces, wanted: Sequence[str]) -> list[Target]:
    """The events that fit all that was said, in order of start; of series the occurrences."""
    around = context.around
    low, high = around.now - _BACK, around.now + YEAR
    spans = []
    for when in pieces.whens:
        begin, end = context.period(when) if not when.is_clock_only else (None, None)
        if begin is not None and end is not None:
            spans.append((begin - DAY, end + DAY))
    if spans:
        low, high = min(each[0] for each in spans), max(each[1] for each in spans)
    words = [*wanted, *(name.lower() for name in pieces.people)]
    for loosely in (False, True):
        meant = context.index.called(words, loosely=loosely) if words else context.index.around(low, high)
        found = expanded(context, meant, low, high)
        fit = [each for each in found if is_then(context, each, pieces)]
        if fit or not wanted:
            break
    return sorted(fit, key=lambda each: each.event.span(around.zone)[0])


def expanded(context: Context, meant: Sequence[Target], low: datetime, high: datetime) -> list[Target]:
    """The occurrences of these events that lie wholly or partly between two moments."""
    by_calendar: dict[str, list[Event]] = {}
    for each in meant:
        by_calendar.setdefault(each.calendar, []).append(each.event)
    return [
        Target(name, each)
        for name, events in by_calendar.items()
        for each in expand_events(events, low, high, context.around.zone)
    ]


def is_then(context: Context, target: Target, pieces: Pieces) -> bool:
    """Whether an event is when the text says: on one of its days, at its time."""
    zone = context.around.zone
    start, end = target.event.span(zone)
    days = [each for each in pieces.whens if each.days is not None and each.from_ is None]
    if len(days) > 1 and len(days) == len(pieces.whens):  # on the 25th and on 1 april
        spans = [context.period(each) for each in days]
        return any(low is not None and high is not None and start < high and end > low for low, high in spans)
    for when in pieces.whens:
        low, high = context.period(when)
        is_within = low is None or high is None or (start < high and (end > low or start == end >= low))
        if not is_within and not when.is_clock_only:
            return False
        if when.from_ is not None and when.until is None and not when.open_end:
            clock = context.reader().settle(when.from_, when.part)
            if start.astimezone(zone).time().replace(tzinfo=None) not in (clock, when.from_.at):
                return False
    return True


def targets(context: Context, pieces: Pieces, wanted: Sequence[str], *, refers: bool) -> list[Target]:
    """The events that are meant, coming ones before past ones."""
    around = context.around
    if refers and _MADE & set(wanted):
        wanted = [low for low in wanted if low not in (*_MADE, "last", "one", "just", "newest")]
    if around.last and (listed := _listed(context, wanted)):
        return listed
    if refers and around.last and not wanted:
        return list(around.last)
    found = find(context, pieces, wanted)
    upcoming = [each for each in found if each.event.span(around.zone)[1] > around.now]
    return upcoming or found


def _listed(context: Context, wanted: Sequence[str]) -> list[Target]:
    """The first one, the second one, the last one: of those that were listed in the answer before."""
    last = context.around.last
    if len(last) < 2 or len([low for low in wanted if low != "one"]) != 1 or "one" not in context.lows:
        return []
    number = ORDINALS.get(next(low for low in wanted if low != "one"))
    if number is None or number > len(last):
        return []
    return [last[number - 1 if number > 0 else number]]


def one_of(context: Context, found: list[Target], wanted: Sequence[str], verb: str) -> Request | None:
    """A question where nothing fits, or several different events do; else the first one is meant."""
    request = context.request
    request.targets = found
    if not found:
        said = f' "{" ".join(wanted)}"' if wanted else " then"
        return context.ask(f"I find nothing{said}. Which event is meant?", "which")
    if len({each.event.uid for each in found}) > 1:
        exact = _exactly(context, found, wanted)
        if exact:
            request.targets = exact[:1]
            return None
        firsts = list({each.event.uid: each for each in reversed(found)}.values())[::-1]
        request.targets = firsts
        lines = [f"{n}. {show_target(each, context.around.zone)}" for n, each in enumerate(firsts[:_MOST_LISTED], 1)]
        return context.ask(f"Which one shall I {verb}?\n" + "\n".join(lines), "which")
    request.targets = found[:1]
    return None


def _exactly(context: Context, found: list[Target], wanted: Sequence[str]) -> list[Target]:
    """Those whose whole title was said, where that is one event."""
    if not context.locked:
        return []
    said = {context.lows[i] for i in context.locked}
    whole = [each for each in found if set(each.event.title.lower().split()) == said]
    return whole if len({each.event.uid for each in whole}) == 1 else []


def scope_of(context: Context, begin: int, end: int) -> str:
    """Whether one occurrence, it and those after it, or the whole series is spoken of."""
    lows = context.lows[begin:end]
    text = f" {' '.join(lows)} "
    if (
        any(
            f" {said} " in text
            for said in (
                "from now on",
                "onwards",
                "from then on",
                "and later",
                "and after",
                "and following",
                "and all after",
                "and all later",
                "and all following",
                "and every one after",
                "and those after",
                "this and all",
                "it and all",
                "and future",
            )
        )
        or (" from " in text and lows[-1:] == ["on"])
        or (" from " in text and " on " in text and _from_on(lows))
    ):
        return "following"
    return "all" if SERIES & set(lows) or "every" in lows else "this"


def _from_on(lows: Sequence[str]) -> bool:
    """From next week on, from monday on."""
    begin = lows.index("from")
    return "on" in lows[begin + 2 : begin + 5]


def is_in(event: Event, period: tuple[datetime, datetime] | None, context: Context) -> bool:
    """Whether "everything" of a time means this event: it begins then, and whole days only where all of them are
    meant."""
    if period is None:
        return True
    start, end = event.span(context.around.zone)
    return period[0] <= start < period[1] and (not event.is_whole_day or end <= period[1])


def known_np(context: Context, begin: int, end: int) -> list[str]:
    """The words of a noun phrase that all belong to an event of the agenda; empty where they do not."""
    pieces = context.pieces(begin, end)
    wanted = [low for low in context.title_words(pieces) if low not in SCOPES]
    if not wanted:
        return []
    return wanted if context.index.knows(wanted) else []
