"""What is to be deleted: one event, several, a series, or everything of a time."""

from __future__ import annotations

from whenvoca.speech.agenda import show_target
from whenvoca.speech.context import Context
from whenvoca.speech.lexicon import DELETE_FILLERS, EVERYTHING, SCOPES, SERIES
from whenvoca.speech.request import Request, Target
from whenvoca.speech.which import is_in, one_of, refers, scope_of, targets


def delete(context: Context, verb: str, begin: int, end: int) -> Request:
    """The deletion that a clause asks for; its verb stands before ``begin``."""
    request = context.request
    request.intent = "delete"
    lows = context.lows[begin:end]
    pieces = context.pieces(begin, end)
    context.tell(pieces)
    if doubt := context.doubt(pieces):
        return context.ask(doubt, "start")
    wanted = [low for low in context.title_words(pieces) if low not in DELETE_FILLERS]
    request.scope = scope_of(context, begin, end)
    if request.scope != "this":
        wanted = [low for low in wanted if low not in SCOPES]
    if request.scope == "all" and not SERIES & set(lows):
        request.scope = "this"  # every school visit: whether they are a series is seen below
    meant = refers(context, begin, end)
    is_everything = (request.scope == "this" and bool(EVERYTHING & set(lows))) or (
        verb in ("clear", "wipe", "empty") and bool(pieces.whens)
    )
    found = targets(context, pieces, wanted, refers=meant)
    if is_everything and not wanted and not pieces.people:
        if not pieces.whens:
            return context.ask("Of which day or time?", "start")
        return _everything(context, found, context.first_period(pieces))
    if not wanted and not pieces.whens and not pieces.people and not meant:
        return context.ask("Which event is meant?", "which")
    if found and request.scope == "this":
        if {"all", "every", "everything"} & set(lows) and not (meant and not wanted):
            return _all_of(context, found, is_timed=bool(pieces.whens))
        if sum(each.days is not None for each in pieces.whens) > 1 and len({each.event.uid for each in found}) == 1:
            return _all_of(context, found, is_timed=True)
        if "both" in lows and len({each.event.uid for each in found}) == 2:
            return _all_of(context, found, is_timed=True)
    if (asked := one_of(context, found, wanted, "delete")) is not None:
        return asked
    request.intent = "delete"
    return request


def _everything(context: Context, found: list[Target], period: object) -> Request:
    """Everything that begins in a time."""
    request = context.request
    request.period = period  # type: ignore[assignment]
    request.targets = [each for each in found if is_in(each.event, request.period, context)]
    if request.targets:
        return request
    said = "There is nothing then"
    if found:
        said = f"Only {show_target(found[0], context.around.zone)} reaches into that time"
    return context.ask(f"{said}. Which event is meant?", "which")


def _all_of(context: Context, found: list[Target], *, is_timed: bool) -> Request:
    """All that fit: each by itself within a time; without one the whole series, where they are of series."""
    request = context.request
    firsts = list({each.event.uid: each for each in reversed(found)}.values())[::-1]
    of_series = [each for each in firsts if each.event.rule or each.event.occurrence is not None]
    if is_timed or not of_series:
        request.targets = found if is_timed else firsts
        return request
    request.targets = firsts
    if len(of_series) < len(firsts):
        lines = [f"{n}. {show_target(each, context.around.zone)}" for n, each in enumerate(firsts[:8], 1)]
        return context.ask("Some of these repeat. Which one shall I delete?\n" + "\n".join(lines), "which")
    request.scope = "all"
    return request
