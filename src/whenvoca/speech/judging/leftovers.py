"""What a reading leaves unexplained: days, times, people, places and words that it makes nothing of."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta
from typing import Any

from whenvoca.speech.candidates.change import Change
from whenvoca.speech.candidates.drafts import Draft
from whenvoca.speech.candidates.mentions import Mentions
from whenvoca.speech.candidates.questions import Question
from whenvoca.speech.candidates.spans import SpanFinder
from whenvoca.speech.candidates.target_sets import Occurrence, TargetSet
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.piece import Piece

_CONTENT = frozenset(["word", "Word", "PLACE", "NUMBER"])
_TELLING = frozenset(
    """
    except excluding apart keep still same not no wait sorry actually or but both all also too 1st 2nd 3rd last only
    if unless maybe swap trade exchange other instead rather then again another each every and until next now other
    rest remaining after before either neither nor everyone everything
    """.split()
)


class Explaining:
    """Tells what a candidate leaves, for all candidates of one text."""

    def __init__(self, chart: Chart, spans: SpanFinder, mentions: Mentions) -> None:
        self._chart, self._spans, self._mentions = chart, spans, mentions
        self._telling = {low for low in chart.text.lows if low in _TELLING}
        self._named: dict[str, set[int]] = {}
        for each in mentions.named:
            if each.title_share >= 0.5 and each.event.uid not in self._named:
                self._named[each.event.uid] = mentions.matched(each.event.title)[3]
        lows = chart.text.lows
        self._places: list[set[int]] = []
        for place in spans.places:
            words = place.split()
            for i in range(len(lows) - len(words) + 1):
                if lows[i : i + len(words)] == words:
                    self._places.append(set(range(i, i + len(words))))

    def marks(self, candidate: Draft | Change | TargetSet | Question) -> dict[str, float]:
        """What the candidate leaves, by kinds."""
        claimed, members = self._claimed(candidate)
        chart, kinds = self._chart, self._spans.kinds
        marks: dict[str, float] = {}

        def count(name: str, number: float) -> None:
            if number:
                marks[f"u {name}"] = min(number, 4.0)
                marks[f"u any {name}"] = 1.0

        def loose(pieces: Iterable[Piece[Any]]) -> int:
            return sum(not any(i in claimed for i in range(each.begin, each.end)) for each in pieces)

        count("day", loose(chart.days))
        count("clock", loose(each for each in chart.clocks if each.form != "bare"))
        count("bare", loose(each for each in chart.clocks if each.form == "bare"))
        count("stretch", loose(chart.stretches))
        count("length", loose(chart.lengths))
        count("repetition", loose(chart.repetitions))
        count("limit", loose(chart.limits))
        count("reminder", loose(chart.reminders))
        count("part", loose(chart.parts))
        count("person", loose(chart.people))
        count("place", sum(not words & claimed for words in self._places))
        own = {each.event.uid for each in members}
        count(
            "other title",
            sum(uid not in own and not words <= claimed and len(words) > 0 for uid, words in self._named.items()),
        )
        left = [i for i, kind in enumerate(kinds) if kind in _CONTENT and i not in claimed]
        marks["u words"] = min(len(left), 12) / 4
        marks["u capitals"] = float(min(3, sum(kinds[i] == "Word" for i in left)))
        marks["u verb behind"] = float(
            any(kinds[i] == "VERB" and i not in claimed for i in range(len(kinds) // 2, len(kinds)))
        )
        for low in self._telling:
            marks[f"t {low}"] = 1.0
        return marks

    def left_words(self, candidate: Draft | Change | TargetSet | Question) -> list[str]:
        """The words of content that the candidate makes nothing of."""
        claimed, _ = self._claimed(candidate)
        lows = self._chart.text.lows
        return [lows[i] for i, kind in enumerate(self._spans.kinds) if kind in _CONTENT and i not in claimed]

    def _claimed(self, candidate: Draft | Change | TargetSet | Question) -> tuple[set[int], list[Occurrence]]:
        chart = self._chart
        claimed = {i for each in chart.zones for i in range(each.begin, each.end)}
        members: list[Occurrence] = []

        def take(pieces: Iterable[Piece[Any]]) -> None:
            for each in pieces:
                claimed.update(range(each.begin, each.end))

        if isinstance(candidate, Draft):
            take(candidate.when.used)
            for span in (candidate.title, candidate.place):
                if span is not None:
                    claimed.update(range(span.begin, span.end))
            take(each for each in chart.people if each.value in candidate.people)
        elif isinstance(candidate, Change):
            members = candidate.targets.members
            claimed |= candidate.targets.words
            take([*candidate.used, *candidate.targets.used])
            for span in candidate.spans:
                claimed.update(range(span.begin, span.end))
            people = [*candidate.changes.get("attendees", []), *candidate.changes.get("without", [])]
            take(each for each in chart.people if each.value in people)
            self._by_members(members, take)
        elif isinstance(candidate, TargetSet):
            members = candidate.members
            claimed |= candidate.words
            take(candidate.used)
            self._by_members(members, take)
            if any("words" in name for name in candidate.marks if name.startswith("filter")):
                for each in members:
                    claimed |= self._mentions.matched(each.event.title)[3]
        else:
            members = candidate.found
            low, high = candidate.period
            last = high - timedelta(minutes=1)
            take(
                each
                for each in chart.days
                if each.value.first in (low.date(), high.date())
                or each.value.last in (last.date(), (low - timedelta(minutes=1)).date())
            )
            for moment in (low, high):
                minutes = moment.hour * 60 + moment.minute
                take(each for each in chart.clocks if minutes % 720 == each.value.minutes % 720)
                take(
                    each
                    for each in chart.stretches
                    if minutes % 720 in (each.value.begin.minutes % 720, each.value.end.minutes % 720)
                )
            if low.hour or high.hour:
                take(chart.parts)
            take(each for each in chart.lengths if (high - low).total_seconds() == 60 * each.value.minutes)
            if len(members) <= 8:
                self._by_members(members, take)
                for each in members:
                    if candidate.kind == "mention" or any(
                        mark.startswith("filter") and "words" in mark for mark in candidate.marks
                    ):
                        claimed |= self._mentions.matched(each.event.title)[3]
        return claimed, members

    def _by_members(self, members: list[Occurrence], take: Any) -> None:
        """Days, times, people and places that only say which events are meant."""
        chart, mentions = self._chart, self._mentions
        if not members:
            return
        take(day for day in chart.days if any(mentions.on(each, day.value) for each in members))
        minutes = {moment.hour * 60 + moment.minute for each in members for moment in (each.start, each.end)}
        take(clock for clock in chart.clocks if clock.value.minutes in minutes or clock.value.minutes + 720 in minutes)
        take(
            stretch
            for stretch in chart.stretches
            if stretch.value.begin.minutes in minutes or stretch.value.begin.minutes + 720 in minutes
        )
        if all(each.has_person for each in members):
            take(chart.people)
        if all(each.has_place for each in members):
            for words in self._places:
                take([Piece(min(words), max(words) + 1, None, "place")])
