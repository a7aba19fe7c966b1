"""What a text may be for: the marks that tell a new event from a change, a deletion, a question, or nothing."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping

from whenvoca.speech.candidates.cues import cues_of
from whenvoca.speech.candidates.mentions import Mentions
from whenvoca.speech.candidates.spans import SpanFinder
from whenvoca.speech.chart.chart import Chart

INTENTS = ("create", "change", "delete", "query", "free", "none")
_ASKING = frozenset(
    """
        what what's when when's where where's who who's which whose how is are am do does did have has can could
        would will may might any anything whats
    """.split()
)
_MODALS = frozenset("can could would will may might should shall must".split())


def marks_of(chart: Chart, spans: SpanFinder, mentions: Mentions) -> dict[str, float]:
    """What the judge of intents looks at."""
    return dict(_marks(chart, spans, mentions))


def _marks(chart: Chart, spans: SpanFinder, mentions: Mentions) -> Iterator[tuple[str, float]]:
    lows, kinds = chart.text.lows, spans.kinds
    yield "always", 1.0
    if not lows:
        return
    for low in set(lows):
        if low[0].isalpha() or low in ("?", "!", "->"):
            yield f"has {low}", 1.0
    words = [
        (low, kind)
        for low, kind in zip(lows, kinds, strict=True)
        if kind not in (",", ".", "-", ":", "!") and kind != "COURTESY"
    ]
    for place, (low, kind) in enumerate(words[:3]):
        yield f"word {place} {low if low[0].isalpha() and kind not in ('PERSON', 'TIME') else kind}", 1.0
    for (one, kind_one), (other, kind_other) in itertools.pairwise(words):
        if (
            kind_one not in ("TIME", "PERSON")
            and kind_other not in ("TIME", "PERSON")
            and one[0].isalpha()
            and other[0].isalpha()
        ):
            yield f"pair {one} {other}", 1.0
    if words:
        yield f"first kind {words[0][1]}", 1.0
        yield f"last kind {words[-1][1]}", 1.0
        yield f"last word {words[-1][0]}", 1.0
    yield "a question mark", float("?" in lows)
    yield "ends with a question mark", float("?" in lows[-2:])
    yield "asking word first", float(bool(words) and words[0][0] in _ASKING)
    yield "modal first", float(bool(words) and words[0][0] in _MODALS)
    for cue in cues_of(chart.text.lows):
        yield f"cue {cue}", 1.0
    has_day = any(not each.value.is_period for each in chart.days)
    has_clock = any(each.form != "bare" for each in chart.clocks) or bool(chart.stretches)
    yield f"day {has_day}, time {has_clock}", 1.0
    yield "a period", float(any(each.value.is_period for each in chart.days))
    yield "a stretch", float(bool(chart.stretches))
    yield "a length", float(bool(chart.lengths))
    yield "a repetition", float(bool(chart.repetitions))
    yield "a reminder", float(bool(chart.reminders))
    yield "a person", float(bool(chart.people))
    yield "a past day", float(any(each.value.is_past for each in chart.days))
    yield "several clocks", float(len([each for each in chart.clocks if each.form != "bare"]) > 1)
    yield "several days", float(len(chart.days) > 1)
    yield "lines", float("\n" in lows)
    named = mentions.named
    best = max((each.title_share for each in named), default=0.0)
    yield "best title share", best
    yield f"best title share {round(best * 4)}", 1.0
    yield "a whole title", float(any(each.is_phrase for each in named))
    yield "words of a title", min(max((each.words for each in named), default=0), 4) / 2
    yield "a known place", float(any(each.has_place for each in named))
    fitting = [
        each for each in named if each.title_share >= 0.4 and any(mentions.on(each, day.value) for day in chart.days)
    ]
    yield "a named event on the day", float(bool(fitting))
    yield "a named event, no day", float(best >= 0.5 and not chart.days)
    yield "a named event, another day", float(best >= 0.5 and bool(chart.days) and not fitting)
    content = sum(kind in ("word", "Word", "PLACE", "NUMBER") for kind in kinds)
    matched: set[int] = set()
    if named:
        matched = mentions.matched(max(named, key=lambda each: each.title_share).event.title)[3]
    left = sum(kind in ("word", "Word", "PLACE", "NUMBER") and i not in matched for i, kind in enumerate(kinds))
    yield "content words", min(content, 20) / 10
    yield "words beside the title", min(left, 12) / 6
    yield "few words", float(len(lows) <= 4)
    yield "hardly a word beside", float(left <= 1)
    timed = sum(spans.timed)
    yield "share of time", timed / len(lows)
    yield "no time at all", float(timed == 0)


def candidates(marks: Mapping[str, float]) -> list[dict[str, float]]:
    """The marks once for each intent, in the order of ``INTENTS``."""
    return [{f"{intent}: {name}": value for name, value in marks.items() if value} for intent in INTENTS]
