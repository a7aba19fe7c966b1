"""Candidates for a change of events that stand: another time, place, title, other people, a reminder, a rule."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import product
from typing import Any

from whenvoca.speech.candidates.change import Change
from whenvoca.speech.candidates.change_marks import mark_change
from whenvoca.speech.candidates.cues import cues_of
from whenvoca.speech.candidates.spans import Span, SpanFinder
from whenvoca.speech.candidates.target_sets import TargetSet, stem
from whenvoca.speech.candidates.timings import Timing, find_timings, is_whole
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.piece import Piece
from whenvoca.speech.titles import to_words

_MOST = 160


_LEADING = frozenset(
    ["in", "at", "to", "@", "->", "is", "place", "room", ":", "now", "venue", "location", "loc", "where", "."]
)
_ROOMS = frozenset(["room", "at", "in", "online"])


def _is_led(lows: Sequence[str], place: Span) -> bool:
    """Whether a new place stands behind in, at or to, or is a room."""
    return bool(_LEADING & set(lows[max(0, place.begin - 2) : place.begin])) or lows[place.begin] in _ROOMS


def _new_titles(chart: Chart, spans: SpanFinder) -> list[Span]:
    """What may be a new title: after to, as, call it, a colon or an arrow, or in quotes."""
    lows = chart.text.lows
    found = []
    for span in spans.spans:
        before = lows[span.begin - 1] if span.begin else ""
        before2 = lows[span.begin - 2] if span.begin > 1 else ""
        is_quoted = before in ('"', "'") and span.end < len(lows) and lows[span.end] in ('"', "'")
        is_led = before in ("to", "as", "->", ":", "read", "called", "entitled") or (
            before in ("it", "that", "this") and before2 in ("call", "rename", "retitle", "title", "name")
        )
        at_end = span.end == len(lows) or spans.kinds[span.end] in (
            ".",
            ",",
            ";",
            "!",
            "COURTESY",
            "\n",
            '"',
            "'",
            "-",
            "?",
            "(",
        )
        if lows[span.begin] not in ("to", "as") and (is_quoted or (is_led and at_end)):
            found.append(span)
    return found[:12]


def find_changes(
    chart: Chart, targets: TargetSet, spans: SpanFinder, places: Sequence[tuple[float, Span]], *, likely: float
) -> list[Change]:
    """The candidates for one set of targets; ``places`` are likely stretches of words for a place."""
    cues = cues_of(chart.text.lows)
    timings: list[Timing | None] = [*list(find_timings(chart, targets))[:70], None]
    taken = targets.words
    old = targets.first
    where: list[tuple[float, Span] | None] = [None]
    for score, span in places:
        said = chart.text.said(span.begin, span.end).lower()
        own = {stem(each) for each in to_words(old.event.title)} & {stem(low) for low in said.split()}
        is_free = not own and not any(i in taken for i in range(span.begin, span.end))
        if said != old.event.location.lower() and is_free and _is_led(chart.text.lows, span):
            where.append((score, span))
    people = _people_options(chart, targets)
    reminders: list[Piece[int] | None] = [*chart.reminders[:1], None]
    titles: list[Span | None] = [None]
    if "rename" in cues or "->" in chart.text.lows:
        titles = [*_new_titles(chart, spans), None]
    rules = (
        [*chart.repetitions[:2], None]
        if "repeat" in cues and (old.event.is_series or old.event.occurrence is not None)
        else [None]
    )
    found = []
    for timing, place, (add, remove, how), reminder, title, rule in product(
        timings, where[:4], people, reminders, titles, rules
    ):
        if (
            timing is None
            and place is None
            and not add
            and not remove
            and reminder is None
            and title is None
            and rule is None
        ):
            continue
        if title is not None and (timing is not None or place is not None or add or remove):
            continue
        used: list[Piece[Any]] = [
            *(timing.used if timing else []),
            *([reminder] if reminder else []),
            *([rule] if rule else []),
        ]
        if _clash(used) or (place is not None and any(p.begin < place[1].end and place[1].begin < p.end for p in used)):
            continue
        change = _build(chart, targets, timing, place, add, remove, reminder, title, rule, used)
        if change is None:
            continue
        mark_change(chart, spans, change, timing, place, add, remove, how, reminder, title, rule, cues)
        change.marks["targets"] = likely
        found.append(change)
        if len(found) >= _MOST:
            break
    return found


def _clash(pieces: Sequence[Piece[Any]]) -> bool:
    return any(a.overlaps(b) for i, a in enumerate(pieces) for b in pieces[i + 1 :])


def _people_options(chart: Chart, targets: TargetSet) -> list[tuple[list[str], list[str], str]]:
    named = [each for each in chart.people if each.begin not in targets.words and each.form != "owner"]
    if not named:
        return [([], [], "")]
    there = {each.address.partition("@")[0].lower() for member in targets.members for each in member.event.attendees}
    there |= {each.name.lower() for member in targets.members for each in member.event.attendees}
    every = list(dict.fromkeys(each.value for each in named))
    present = [each for each in every if each.lower() in there]
    absent = [each for each in every if each.lower() not in there]
    options: list[tuple[list[str], list[str], str]] = [([], [], "none")]
    if absent:
        options.append((absent, [], "add"))
    if present:
        options.append(([], present, "remove"))
    if absent and present:
        options.append((absent, present, "both"))
        options.append((every, [], "add all"))
    return options


def _build(
    chart: Chart,
    targets: TargetSet,
    timing: Timing | None,
    place: tuple[float, Span] | None,
    add: list[str],
    remove: list[str],
    reminder: Piece[int] | None,
    title: Span | None,
    rule: Piece[Any] | None,
    used: list[Piece[Any]],
) -> Change | None:
    shared: dict[str, Any] = {}
    if place is not None:
        shared["location"] = chart.text.said(place[1].begin, place[1].end)
    if add:
        shared["attendees"] = add
    if remove:
        shared["without"] = remove
    if reminder is not None:
        shared["reminder"] = reminder.value
    if title is not None:
        shared["title"] = chart.text.said(title.begin, title.end)
    if rule is not None:
        shared["repeat"] = rule.value.rule
    each: list[dict[str, Any]] = []
    if timing is not None:
        for member in targets.members if targets.scope == "this" else targets.members[:1]:
            start, end = timing.apply(member)
            if end <= start:
                return None
            own: dict[str, Any] = {}
            by_days = not isinstance(start, datetime)
            if by_days or start != member.start or is_whole(member):
                own["start"] = start
            if start != member.start or end != member.end:
                own["end"] = end
            if not own or (by_days and (start, end) == (member.start.date(), member.end.date())):
                return None
            each.append(own)
        if len(each) == 1:
            shared |= each[0]
            each = []
    return Change(
        targets, shared, each, used=used, spans=[s for s in (place[1] if place else None, title) if s is not None]
    )
