"""Why a text is read as it is: its pieces, the likeliest readings, and the marks by which the first one leads."""

from __future__ import annotations

from typing import Any

from msgspec import Struct, field

from whenvoca.speech.judging.judge import shipped
from whenvoca.speech.judging.readings import Reading, TextReader
from whenvoca.speech.reply import tell_offer
from whenvoca.speech.request import Surroundings
from whenvoca.speech.requests import plain_request, show_piece

_MOST_READINGS, _MOST_MARKS = 5, 8


class Explained(Struct):
    """What was looked at: pieces (words, kind, read as), readings (percent, in words), marks (weight, mark)."""

    pieces: list[tuple[str, str, str]] = field(default_factory=list)
    readings: list[tuple[float, str]] = field(default_factory=list)
    marks: list[tuple[float, str]] = field(default_factory=list)
    sure: float = 0.0
    least: float = 0.0

    def to_json(self) -> dict[str, Any]:
        """As docs/json.md says."""
        return {
            "pieces": [{"text": text, "kind": kind, "read_as": read_as} for text, kind, read_as in self.pieces],
            "readings": [{"percent": percent, "reading": told} for percent, told in self.readings],
            "marks": [{"weight": weight, "mark": mark} for weight, mark in self.marks],
            "sure": self.sure,
            "least": self.least,
        }


def explain(text: str, around: Surroundings) -> Explained:
    """Everything that led to the reading of a text by itself."""
    weights = shipped()
    reader = TextReader(text, around, weights)
    if not reader.chart.text.tokens:
        return Explained()
    found = reader.readings()
    return Explained(
        _pieces(reader),
        [(_percent(each), _told(reader, each)) for each in found[:_MOST_READINGS]],
        _deciding(found, weights["final"]),
        round(found[0].sure, 3),
        weights["act"]["least"],
    )


def _pieces(reader: TextReader) -> list[tuple[str, str, str]]:
    chart = reader.chart
    kinds: dict[str, list[Any]] = {
        "day": chart.days,
        "time": chart.clocks,
        "from to": chart.stretches,
        "length": chart.lengths,
        "zone": chart.zones,
        "part of the day": chart.parts,
        "repetition": chart.repetitions,
        "how often": chart.limits,
        "reminder": chart.reminders,
        "person": chart.people,
        "beside": chart.beside,
    }
    every = [(piece, kind) for kind, pieces in kinds.items() for piece in pieces]
    every.sort(key=lambda pair: (pair[0].begin, pair[0].end))
    return [(chart.text.said(piece.begin, piece.end), kind, show_piece(piece.value)) for piece, kind in every]


def _percent(reading: Reading) -> float:
    from math import exp

    return round(100 * exp(reading.likely), 1)


def _told(reader: TextReader, reading: Reading) -> str:
    if reading.intent == "none":
        return "nothing is asked for"
    around = reader.around
    return tell_offer(plain_request(reader, reading.candidate), around.zone, around.now.astimezone(around.zone).date())


def _deciding(found: list[Reading], weights: Any) -> list[tuple[float, str]]:
    """The marks by which the first reading leads before the second one, the heaviest first."""
    if len(found) < 2:
        return []
    first, second = found[0].marks, found[1].marks
    led = {mark: weights.get(mark, 0.0) * (first.get(mark, 0.0) - second.get(mark, 0.0)) for mark in {*first, *second}}
    heavy = sorted(led.items(), key=lambda pair: -abs(pair[1]))[:_MOST_MARKS]
    return [(round(weight, 2), mark.replace("\n", "new line")) for mark, weight in heavy if abs(weight) >= 0.05]
