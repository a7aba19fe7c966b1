"""Candidates for one new event: a title, a place, people and a time, judged together."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from math import exp, log

from msgspec import Struct, field

from whenvoca.speech.candidates.spans import Span, SpanFinder, scored
from whenvoca.speech.candidates.when import When
from whenvoca.speech.chart.chart import Chart

_TITLES, _PLACES, _WHENS = 7, 4, 4
_BEFORE_PEOPLE = frozenset(
    [
        "with",
        "invite",
        "and",
        "&",
        ",",
        "+",
        "inviting",
        "include",
        "including",
        "attendees",
        ":",
        "for",
        "between",
        "/",
        "both",
        "add",
        "plus",
        "by",
    ]
)
_SMALL = frozenset(["word", "Word", "PLACE", "NUMBER", "PERSON"])


class Draft(Struct):
    """One candidate for a new event. ``marks`` is what the judge looks at."""

    title: Span | None
    place: Span | None
    when: When
    people: list[str] = field(default_factory=list)
    marks: dict[str, float] = field(default_factory=dict)


def _best(found: Sequence[tuple[float, object]], most: int) -> list[tuple[float, object]]:
    """The best ones, with the logarithm of how likely each is."""
    if not found:
        return []
    top = max(score for score, _ in found)
    total = top + log(sum(exp(score - top) for score, _ in found))
    best = sorted(found, key=lambda each: -each[0])[:most]
    return [(score - total, each) for score, each in best]


def find_drafts(
    chart: Chart, spans: SpanFinder, whens: Sequence[When], weights: Mapping[str, Mapping[str, float]]
) -> list[Draft]:
    """The candidates that are likely by their parts, each part judged by itself."""
    when_weights = weights["when"]
    timed = [(sum(when_weights.get(mark, 0.0) * value for mark, value in when.marks.items()), when) for when in whens]
    titles = [(score, span) for score, span in scored(spans, weights["title"]) if _says_something(spans, span)]
    places: list[tuple[float, Span | None]] = [
        *scored(spans, weights["place"]),
        (weights["place"].get("none", 0.0), None),
    ]
    found = []
    for when_score, when in _best(timed, _WHENS):
        for title_score, title in _best(titles, _TITLES):
            for place_score, place in _best(places, _PLACES):
                for people, how in _people(chart, title, place):  # type: ignore[arg-type]
                    draft = Draft(title, place, when, people)  # type: ignore[arg-type]
                    draft.marks = dict(_marks(chart, spans, draft))
                    draft.marks |= {
                        "when": when_score,
                        "title": title_score,
                        "place": place_score,
                        f"people {how}": 1.0,
                    }
                    found.append(draft)
    return found


def _says_something(spans: SpanFinder, span: Span) -> bool:
    """Whether a stretch has a word that is not of a time."""
    tokens = spans.chart.text.tokens
    return any(tokens[i].is_word and not spans.timed[i] for i in range(span.begin, span.end)) or spans.is_known(span)


def _people(chart: Chart, title: Span, place: Span | None) -> Iterator[tuple[list[str], str]]:
    named = [
        each
        for each in chart.people
        if each.form != "owner" and not (place is not None and place.begin <= each.begin < place.end)
    ]
    outside = list(dict.fromkeys(each.value for each in named if not title.begin <= each.begin < title.end))
    every = list(dict.fromkeys(each.value for each in named))
    led = list(dict.fromkeys(each.value for each in named if _is_led(chart, each.begin)))
    yield outside, "outside"
    if every != outside:
        yield every, "every"
    if led not in (outside, every):
        yield led, "led"
    if [] not in (outside, every, led):
        yield [], "none"


def _is_led(chart: Chart, i: int) -> bool:
    return i > 0 and chart.text.lows[i - 1] in _BEFORE_PEOPLE


def _marks(chart: Chart, spans: SpanFinder, draft: Draft) -> Iterator[tuple[str, float]]:
    title, place, when = draft.title, draft.place, draft.when
    assert title is not None
    kinds = spans.kinds
    claimed = [False] * len(kinds)
    for piece in when.used:
        for i in range(piece.begin, piece.end):
            claimed[i] = True
    inside = sum(claimed[title.begin : title.end])
    yield "title takes time", min(inside, 4) / 2
    yield "title takes some time", float(inside > 0)
    untaken = sum(1 for i in range(title.begin, title.end) if spans.timed[i] and not claimed[i])
    yield "title takes unused time", float(min(untaken, 3))
    if place is not None:
        overlap = max(0, min(title.end, place.end) - max(title.begin, place.begin))
        yield "title takes place", float(overlap > 0)
        yield "title takes whole place", float(overlap == place.end - place.begin)
        yield "place takes time", float(min(2, sum(claimed[place.begin : place.end])))
        yield "place before title", float(place.begin < title.begin)
        gap = place.begin - title.end
        if 0 <= gap <= 3:
            yield f"place behind title by {gap}", 1.0
        for i in range(place.begin, place.end):
            claimed[i] = True
    for i in range(title.begin, title.end):
        claimed[i] = True
    for each in chart.people:
        if each.value in draft.people:
            claimed[each.begin] = True
    left = dict.fromkeys(("word", "Word", "PLACE", "NUMBER", "PERSON", "TIME", "VERB", "COURTESY"), 0)
    ahead = behind = 0
    for i, kind in enumerate(kinds):
        if not claimed[i] and kind in left:
            left[kind] += 1
            if kind in _SMALL:
                ahead += i < title.begin
                behind += i >= title.end
    for kind, count in left.items():
        if count:
            yield f"left {kind}", float(min(count, 6))
            yield f"left any {kind}", 1.0
    yield "left ahead", float(min(ahead, 8))
    yield "left behind", float(min(behind, 8))
    yield "nothing left", float(not any(left[kind] for kind in _SMALL))
    words = [kinds[i] for i in range(title.begin, title.end)]
    yield "title is a person", float(all(kind in ("PERSON", "and", "with") for kind in words))
    yield "title has a person", float("PERSON" in words)
    yield "title in the first half", float(title.begin < len(kinds) / 2)
    if when.used:
        first, last = min(p.begin for p in when.used), max(p.end for p in when.used)
        yield "title before times", float(title.end <= first)
        yield "title behind times", float(title.begin >= last)
        touching = any(p.end == title.begin or p.begin == title.end for p in when.used)
        yield "title touches time", float(touching)
    if title.end < len(kinds) and not claimed[title.end] and kinds[title.end] in _SMALL:
        yield "title cut short", 1.0
    if title.begin and not claimed[title.begin - 1] and kinds[title.begin - 1] in _SMALL:
        yield "title begins late", 1.0


def likely_title(spans: SpanFinder, weights: Mapping[str, Mapping[str, float]]) -> str:
    """The likeliest title where nothing says when the event is."""
    found = [
        (score, span) for score, span in scored(spans, weights["title"]) if not any(spans.timed[span.begin : span.end])
    ]
    if not found:
        return ""
    best = max(found, key=lambda each: each[0])[1]
    return spans.chart.text.said(best.begin, best.end)
