"""What the judge looks at in a candidate for when something is."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from whenvoca.speech.candidates.when import When
from whenvoca.speech.candidates.when_rules import FROM_WORDS, UNTIL_WORDS, lead_of
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.piece import Days, Piece
from whenvoca.speech.chart.repeats import Repetition

_EVENING = frozenset(
    """
        dinner supper pints drinks gig film movie party concert pub quiz evening tonight night nite theatre
        curry bbq disco stargazing telly bingo skittles darts choir
    """.split()
)


_EARLY = frozenset("breakfast sunrise dawn early morning run swim jog gym papers milk ferry".split())


_TOLD = frozenset(
    """
    ^ at on from until to for by not no was instead than of in before after about the , . : - ( \n and is now till
    every until due last since next with between @ room page no. number phone ref version unit items for
""".split(" ")
) | {"\n"}


def _beside(chart: Chart, piece: Piece[Any]) -> str:
    """What stands before a number: a word, a sign, or another piece of time."""
    if not piece.begin:
        return "first"
    before = chart.text.tokens[piece.begin - 1]
    if any(each.end == piece.begin for each in (*chart.days, *chart.repetitions)):
        return "behind a day"
    if before.is_word:
        return "behind a capital" if before.text[0].isupper() else "behind a word"
    return "behind a number" if before.low[0].isdigit() else "behind a sign"


def mark_when(
    chart: Chart,
    when: When,
    day: Piece[Days] | None,
    time_piece: Piece[Any] | None,
    end: Piece[Any] | None,
    repetition: Piece[Repetition] | None,
    limit: Piece[Any] | None,
    reminder: Piece[int] | None,
) -> None:
    """Notes on a candidate what the judge of times looks at."""
    marks, lows = when.marks, chart.text.lows
    used = when.used

    def left(pieces: Sequence[Piece[Any]], kind: str) -> None:
        for each in pieces:
            if not any(u.overlaps(each) for u in used):
                name = f"left {kind} {each.form}"
                marks[name] = marks.get(name, 0.0) + 1.0

    left([each for each in chart.days if not each.value.is_period], "day")
    left([each for each in chart.days if each.value.is_period], "period")
    left(chart.clocks, "clock")
    left(chart.stretches, "stretch")
    left(chart.lengths, "length")
    left(chart.repetitions, "repetition")
    left(chart.limits, "limit")
    left(chart.reminders, "reminder")
    marks["day none" if day is None else f"day {day.form}"] = 1.0
    for name, piece in (("day", day), ("time", time_piece), ("end", end), ("limit", limit)):
        if piece is None:
            continue
        before = lows[piece.begin - 1] if piece.begin else "^"
        lead = lows[piece.begin]
        marks[f"{name} after {before}" if before in _TOLD else f"{name} after other"] = 1.0
        if lead in _TOLD:
            marks[f"{name} led {lead}"] = 1.0
        corrected = [c for c in chart.corrections if c >= piece.end and c - piece.end < 14]
        if corrected and name in ("day", "time", "end"):
            alike: dict[str, Sequence[Piece[Any]]] = {
                "day": chart.days,
                "time": [*chart.clocks, *chart.stretches],
                "end": [*chart.clocks, *chart.lengths],
            }
            if any(each.begin > corrected[0] for each in alike[name]):
                marks[f"{name} corrected later"] = 1.0
        if any(0 <= piece.begin - c - 1 <= 4 for c in chart.corrections):
            marks[f"{name} is correction"] = 1.0
    if day is not None:
        marks["day past"] = float(day.value.is_past)
        marks["day period"] = float(day.value.is_period)
        marks["day stretch"] = float(day.value.first != day.value.last)
        days = [each for each in chart.days if each is not day]
        marks["day is first"] = float(bool(days) and all(day.begin < each.begin for each in days))
        marks["day is last"] = float(bool(days) and all(day.begin > each.begin for each in days))
    if time_piece is None:
        marks["no time"] = 1.0
        marks["no time, a part"] = float(bool(chart.parts))
    else:
        marks[f"time {time_piece.form}"] = 1.0
        if time_piece.form == "bare" or time_piece.value.lead == "":
            marks[f"{time_piece.form} {_beside(chart, time_piece)}"] = 1.0
        brackets = lows[: time_piece.begin].count("(") - lows[: time_piece.begin].count(")")
        marks["time in brackets"] = float(brackets > 0)
        every: list[Piece[Any]] = [*chart.clocks, *chart.stretches]
        others = [each for each in every if not each.overlaps(time_piece)]
        marks["time is first"] = float(bool(others) and all(time_piece.begin < each.begin for each in others))
        marks["time is last"] = float(bool(others) and all(time_piece.begin > each.begin for each in others))
        if day is not None:
            gap = max(time_piece.begin - day.end, day.begin - time_piece.end)
            marks[f"gap {min(gap, 4)}"] = 1.0
        if isinstance(when.start, datetime):
            words = set(lows)
            hour = when.start.hour
            if any(mark.startswith(("clock usual", "clock other")) for mark in marks):
                marks[f"open hour {hour}"] = 1.0
                marks[f"evening word, hour {'late' if hour >= 17 else 'early'}"] = float(bool(words & _EVENING))
                marks[f"early word, hour {'late' if hour >= 17 else 'early'}"] = float(bool(words & _EARLY))
            lasts = (when.end - when.start).total_seconds() / 3600
            marks["lasts long"] = float(lasts > 10)
            marks["lasts over 5"] = float(5 < lasts <= 10)
            if any(mark in marks for mark in ("until second", "clock other", "clock other 6")):
                marks["other, lasts over 5"] = float(lasts > 5)
            marks["in the past"] = float(when.start < chart.now)
    if end is not None:
        marks[f"end {type(end.value).__name__} {end.form}"] = 1.0
    if repetition is not None:
        marks[f"repetition {repetition.form}"] = 1.0
        marks["repetition, no limit"] = float(limit is None)
        if day is not None:
            lead = lead_of(chart, day)
            marks[
                f"repetition, day {'from' if lead in FROM_WORDS else 'until' if lead in UNTIL_WORDS else 'plain'}"
            ] = 1.0
        else:
            marks["repetition, no day"] = 1.0
    if limit is not None:
        marks[f"limit {limit.form}"] = 1.0
    if reminder is not None:
        marks[f"reminder {reminder.form}"] = 1.0
    marks["words used"] = sum(each.end - each.begin for each in used) / 10
