"""All candidate readings of one text, judged together: for a new event, several, a change, a deletion, a question."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from functools import cached_property
from math import exp, log
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.speech.candidates.change import Change
from whenvoca.speech.candidates.changes import find_changes
from whenvoca.speech.candidates.drafts import Draft, find_drafts
from whenvoca.speech.candidates.mentions import Mentions
from whenvoca.speech.candidates.questions import Question, find_free, find_questions
from whenvoca.speech.candidates.several import Part, Several, find_several
from whenvoca.speech.candidates.spans import SpanFinder, scored
from whenvoca.speech.candidates.target_sets import TargetSet
from whenvoca.speech.candidates.when import When
from whenvoca.speech.candidates.whens import find_whens
from whenvoca.speech.chart.chart import Chart, read_chart
from whenvoca.speech.judging.intents import INTENTS, candidates, marks_of
from whenvoca.speech.judging.judge import Weights, chance, score, shares
from whenvoca.speech.judging.leftovers import Explaining
from whenvoca.speech.request import Surroundings
from whenvoca.speech.titles import index_of

Candidate = Draft | Several | Change | TargetSet | Question | None
_LIKELY_ENOUGH = -5.0  # as a logarithm: intents below it are not looked at
_SETS, _PLACES = 5, 4  # how many are taken further
# Which marks of a candidate the last judge looks at once more, by how their names begin.
_KEPT = (
    "left ", "title", "when", "place", "targets", "nothing left", "share", "no day", "a day", "whole title", "several",
    "scope", "past", "ahead", "none found", "many found", "words matched", "one only", "everything", "size", "mean",
    "least", "cut", "parts", "time in past", "place score", "person", "time fits", "day past", "in the past",
    "words used", "no time", "day none", "clock other", "clock usual", "lasts", "is correction", "corrected", "day is",
    "time is", "free", "busy", "mention", "kind first", "filter",
)  # fmt: skip
# And which of the text as a whole.
_OF_TEXT = (
    "a question mark", "ends with a question mark", "asking word first", "modal first", "lines", "several days",
    "several clocks", "a past day", "few words", "hardly a word beside", "share of time", "no time at all",
    "best title share", "words beside the title", "a whole title", "a named event on the day",
    "a named event, another day", "a named event, no day", "content words", "cue move", "cue add", "cue remove",
    "cue instead", "cue rename", "has not", "has no", "has off", "has now", "has for", "has is",
)  # fmt: skip


class Reading(Struct):
    """One reading: what the text may ask for, how likely that is among all of them, and how surely it is right."""

    intent: str  # create, several, change, delete, query, free or none
    candidate: Candidate
    likely: float = 0.0  # a logarithm
    marks: dict[str, float] = field(default_factory=dict)
    sure: float = 0.0  # between 0 and 1


class Judged(Struct):
    """A candidate with what the judges before the last one said."""

    intent: str
    candidate: Candidate
    of_intent: float
    of_kind: float
    raw: float


class TextReader(Struct, dict=True):
    """One text among its surroundings; every candidate of it is found once."""

    text: str
    around: Surroundings
    weights: Weights
    day: date | None = None  # that was named before: a time alone is of it
    place: int = 0  # which sentence of an email it is

    @cached_property
    def chart(self) -> Chart:
        """The typed pieces, with the events that the text says after or before of."""
        now = self.around.now.astimezone(self.around.zone).replace(tzinfo=None)
        return read_chart(self.text, now, self.around.order, self.around.names)

    @cached_property
    def zone(self) -> ZoneInfo:
        """The zone that new times are in: the one that is said, else that of the surroundings."""
        said = {each.value.name for each in self.chart.zones if each.value.name}
        return ZoneInfo(said.pop()) if len(said) == 1 else self.around.zone

    @cached_property
    def mentions(self) -> Mentions:
        """The events of the agenda that may be meant."""
        around = self.around
        found = Mentions(self.chart, index_of(around.agenda, around.zone), around.agenda, around.zone)
        self.chart.beside = found.anchors()
        return found

    @cached_property
    def spans(self) -> SpanFinder:
        """The stretches of words that may be titles and places."""
        index = index_of(self.around.agenda, self.around.zone)
        return SpanFinder(self.chart, index.places, index.whole_titles)

    @cached_property
    def whens(self) -> list[When]:
        """When a new event may be."""
        assert self.mentions is not None  # it notes the events that the text says after or before of
        return find_whens(self.chart, default=self.around.length, day=self.day)

    @cached_property
    def text_marks(self) -> dict[str, float]:
        """What the judge of intents looks at."""
        return marks_of(self.chart, self.spans, self.mentions)

    @cached_property
    def intents(self) -> list[float]:
        """How likely each intent is, as logarithms in the order of INTENTS."""
        return shares([score(self.weights["intent"], marks) for marks in candidates(self.text_marks)])

    # --- candidates of each kind

    def drafts(self) -> list[Draft]:
        """New events."""
        return find_drafts(self.chart, self.spans, self.whens, self.weights)

    def several(self) -> list[Several]:
        """Several new events."""
        return find_several(self.chart, self._part)

    def _part(self, begin: int, end: int, day: date | None, after: datetime | None) -> Part | None:
        tokens = self.chart.text.tokens
        if end <= begin:
            return None
        raw = self.chart.text.raw[tokens[begin].begin : tokens[end - 1].end]
        chart = read_chart(raw, self.chart.now, self.chart.order, self.chart.names)
        spans = SpanFinder(chart, self.spans.places, self.spans.titles)
        drafts = find_drafts(
            chart, spans, find_whens(chart, default=self.around.length, day=day, after=after), self.weights
        )
        if not drafts:
            return None
        likely = shares([score(self.weights["draft"], each.marks) for each in drafts])
        best = max(range(len(drafts)), key=lambda n: likely[n])
        return Part(chart, drafts[best], likely[best])

    def changes(self, sets: Sequence[TargetSet] | None = None) -> list[Change]:
        """Changes of events that stand; ``sets``: of these alone."""
        sets = self.mentions.sets if sets is None else sets
        if not sets:
            return []
        likely = shares([score(self.weights["targets"], each.marks) for each in sets])
        best = sorted(range(len(sets)), key=lambda n: -likely[n])[:_SETS]
        found: list[Change] = []
        for n in best:
            found += find_changes(self.chart, sets[n], self.spans, self._places, likely=likely[n])
        return found

    @cached_property
    def _places(self) -> list[tuple[float, Any]]:
        every: list[tuple[float, Any]] = [
            *scored(self.spans, self.weights["place"]),
            (self.weights["place"].get("none", 0.0), None),
        ]
        likely = shares([each for each, _ in every])
        named = [(chance_, span) for chance_, (_, span) in zip(likely, every, strict=True) if span is not None]
        return sorted(named, key=lambda each: -each[0])[:_PLACES]

    # --- all together

    def judged(self) -> list[Judged]:
        """The best candidates of each intent that is likely enough."""
        found: list[Judged] = []
        of_intent = dict(zip(INTENTS, self.intents, strict=True))
        kinds: list[tuple[str, str, str, Callable[[], Sequence[Any]], int]] = [
            ("create", "create", "draft", self.drafts, 8),
            ("several", "create", "several", self.several, 2),
            ("change", "change", "change", self.changes, 8),
            ("delete", "delete", "targets", lambda: self.mentions.sets, 4),
            ("query", "query", "query", lambda: find_questions(self.chart, self.mentions), 4),
            ("free", "free", "free", lambda: find_free(self.chart, self.mentions), 4),
        ]
        for name, intent, stage, find, most in kinds:
            if of_intent[intent] <= _LIKELY_ENOUGH or stage not in self.weights:
                continue
            some = find()
            raw = [score(self.weights[stage], each.marks) for each in some]
            likely = shares(raw)
            for n in sorted(range(len(some)), key=lambda n: -likely[n])[:most]:
                found.append(Judged(name, some[n], of_intent[intent], likely[n], raw[n]))
        found.append(Judged("none", None, of_intent["none"], 0.0, 0.0))
        return found

    def last_marks(self) -> list[tuple[Judged, dict[str, float]]]:
        """What the last judge looks at, of each candidate."""
        explaining = Explaining(self.chart, self.spans, self.mentions)
        return [(each, self._last(each, explaining)) for each in self.judged()]

    def _last(self, judged: Judged, explaining: Explaining) -> dict[str, float]:
        name, candidate = judged.intent, judged.candidate
        marks = {
            name: 1.0,
            f"{name} of intent": max(judged.of_intent, -7) / 2,
            "of intent": max(judged.of_intent, -7) / 2,
            f"{name} of kind": max(judged.of_kind, -6) / 2,
            f"{name} raw": max(min(judged.raw, 30), -30) / 10,
        }
        if candidate is not None:
            for mark, value in candidate.marks.items():
                if value and mark.startswith(_KEPT):
                    marks[f"{name}: {mark}"] = max(min(value, 4), -6)
            if not isinstance(candidate, Several):
                for mark, value in explaining.marks(candidate).items():
                    if value:
                        marks[f"{name}: {mark}"] = value
                        if mark[0] == "u":
                            marks[mark] = value
        for mark in _OF_TEXT:
            if self.text_marks.get(mark):
                marks[f"{name}/{mark}"] = self.text_marks[mark]
        return marks

    def _merged(self, found: Sequence[Reading]) -> list[Reading]:
        """Readings of which the same would come are one, as likely as they are together."""
        kept: dict[Any, Reading] = {}
        for each in found:
            key = self._outcome(each)
            if key in kept:
                kept[key].likely = log(exp(kept[key].likely) + exp(each.likely))
            else:
                kept[key] = each
        return sorted(kept.values(), key=lambda each: -each.likely)

    def _outcome(self, reading: Reading) -> Any:
        """What would come of a reading."""
        said = self.chart.text.said
        match reading.candidate:
            case Draft() as draft:
                place = _plain(said(draft.place.begin, draft.place.end)) if draft.place is not None else ""
                title = _plain(said(draft.title.begin, draft.title.end)) if draft.title is not None else ""
                return "create", draft.when.key, title, place, tuple(sorted(draft.people))
            case Several() as several:
                return "several", tuple((part.title, part.place, part.draft.when.key) for part in several.parts)
            case Change() as change:
                members = tuple((each.event.uid, each.start) for each in change.targets.members)
                return "change", members, change.targets.scope, _plain(str(change.changes)), str(change.each)
            case TargetSet() as targets:
                return "delete", tuple((each.event.uid, each.start) for each in targets.members), targets.scope
            case Question() as question:
                return question.intent, tuple((each.event.uid, each.start) for each in question.found)
        return reading.intent

    def readings(self) -> list[Reading]:
        """All readings, the likeliest first; how sure the first one is."""
        pairs = self.last_marks()
        likely = shares([score(self.weights["final"], marks) for _, marks in pairs])
        found = [
            Reading(judged.intent, judged.candidate, share, marks)
            for share, (judged, marks) in zip(likely, pairs, strict=True)
        ]
        found = self._merged(sorted(found, key=lambda each: -each.likely))
        first = found[0]
        first.sure = chance(score(self.weights["doubt"], doubt_marks(found, self.intents, self.text_marks)))
        return found


def _plain(said: str) -> str:
    """Words as they are compared: without case, article and signs around them."""
    return re.sub(r"^(?:the|a|an|my|our) ", "", said.casefold().strip(" .,!?:;-\"'“”‘’()"))


def doubt_marks(
    found: Sequence[Reading], intents: Sequence[float], text_marks: Mapping[str, float]
) -> dict[str, float]:
    """What tells whether the first of some readings is right."""
    first = found[0]
    name = first.intent
    margin = min(first.likely - found[1].likely, 8.0) if len(found) > 1 else 8.0
    others = [each for each in found[1:] if each.intent != name]
    order = sorted(intents, reverse=True)
    of_kind = first.marks.get(f"{name} of kind", 0.0) * 2
    likely = max(first.likely, -5.0)
    marks = {
        "always": 1.0,
        "likely": likely,
        "likely, squared": likely**2 / 5,
        "margin": margin,
        "of kind": of_kind,
        name: 1.0,
        f"{name} likely": likely,
        f"{name} margin": margin,
        f"{name} of its kind": of_kind,
        "margin to another intent": min(first.likely - others[0].likely, 8.0) if others else 8.0,
        "margin of intents": min(order[0] - order[1], 6.0),
    }
    for aspect, share in _agreed(found).items():
        marks[f"agreed {aspect}"] = share
        marks[f"agreed {aspect}, squared"] = share**2 / 5
    for mark, value in first.marks.items():
        if value and not mark.startswith(f"{name} "):
            marks[f"d {mark}"] = value
    for word in _DOUBTFUL:
        if text_marks.get(f"has {word}"):
            marks[f"x {word}"] = 1.0
            marks[f"x {name} {word}"] = 1.0
    return marks


def _agreed(found: Sequence[Reading]) -> dict[str, float]:
    """How likely each part of the first reading is, in whichever readings it stands: as logarithms."""
    first = found[0]
    aspects = _aspects(first)
    shares_of = dict.fromkeys(aspects, 0.0)
    for each in found:
        if each.intent == first.intent:
            theirs = _aspects(each)
            for aspect, value in aspects.items():
                shares_of[aspect] += exp(each.likely) * (theirs[aspect] == value)
    return {f"{first.intent} {aspect}": max(log(share), -5.0) for aspect, share in shares_of.items() if share > 0}


def _aspects(reading: Reading) -> dict[str, Any]:
    """The parts of a reading that may be right or wrong by themselves."""
    match reading.candidate:
        case Draft() as draft:
            return {"when": draft.when.key, "title": draft.title, "place": draft.place, "people": sorted(draft.people)}
        case Change() as change:
            targets = change.targets
            changes = {name: str(value) for name, value in change.changes.items()}
            return {
                "targets": ([(each.event.uid, each.start) for each in targets.members], targets.scope),
                "changes": (changes, [str(each) for each in change.each]),
            }
        case TargetSet() as targets:
            return {"members": [(each.event.uid, each.start) for each in targets.members], "scope": targets.scope}
        case Question() as question:
            return {"found": [(each.event.uid, each.start) for each in question.found]}
    return {}


_DOUBTFUL = (
    "no", "sorry", "wait", "actually", "not", "but", "and", "instead", "then", "if", "or", "maybe", "except", "both",
    "all", "every", "too", "also", "same", "until", "from",
)  # fmt: skip
