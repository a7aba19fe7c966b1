"""What the judge looks at in a candidate for a change."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from whenvoca.speech.candidates.change import Change
from whenvoca.speech.candidates.spans import Span, SpanFinder
from whenvoca.speech.candidates.timings import Timing
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.clocks import Clock
from whenvoca.speech.chart.piece import Days, Piece

_LEADS = frozenset(
    """
    ^ $ at on from until to for by not no was instead than of in before after about the , . : - ( \n and is now every
    last since next with between -> it make start starts finish ends end begin only later earlier longer shorter
    rather still keep same back forward
""".split(" ")
) | {"\n"}


def mark_change(
    chart: Chart,
    spans: SpanFinder,
    change: Change,
    timing: Timing | None,
    place: tuple[float, Span] | None,
    add: list[str],
    remove: list[str],
    how: str,
    reminder: Piece[int] | None,
    title: Span | None,
    rule: Piece[Any] | None,
    cues: set[str],
) -> None:
    """Notes on a candidate what the judge of changes looks at."""
    marks, lows = change.marks, chart.text.lows

    def kind(name: str) -> None:
        marks[name] = 1.0
        for cue in cues:
            marks[f"{name} with {cue}"] = 1.0
        if not cues:
            marks[f"{name} without cues"] = 1.0

    if timing is not None:
        kind(f"time {timing.kind}")
        for name, value in timing.marks.items():
            marks[name] = value
        for piece in timing.used:
            sort = type(piece.value).__name__
            before = lows[piece.begin - 1] if piece.begin else "^"
            lead = lows[piece.begin]
            marks[f"{timing.kind}: {sort} after {before}" if before in _LEADS else f"{sort} after other"] = 1.0
            if lead in _LEADS:
                marks[f"{timing.kind}: {sort} led {lead}"] = 1.0
            behind = lows[piece.end] if piece.end < len(lows) else "$"
            if behind in _LEADS:
                marks[f"{timing.kind}: {sort} before {behind}"] = 1.0
            marks[f"{sort} form {piece.form}"] = 1.0
            if any(0 <= piece.begin - c - 1 <= 4 for c in chart.corrections):
                marks[f"{sort} is correction"] = 1.0
            if any(piece.end <= c < piece.end + 10 for c in chart.corrections):
                marks[f"{sort} before correction"] = 1.0
            if isinstance(piece.value, Days):
                marks["day is target's day"] = float(
                    any(m.start.date() == piece.value.first for m in change.targets.members)
                )
                marks["day is last"] = float(piece.begin == max(d.begin for d in chart.days))
            if isinstance(piece.value, Clock):
                same = any(
                    m.start.hour * 60 + m.start.minute in (piece.value.minutes, piece.value.minutes + 720)
                    for m in change.targets.members
                )
                marks["clock is old start"] = float(same)
                marks["clock is last"] = float(piece.begin == max(c.begin for c in chart.clocks))
                marks["clock is first"] = float(piece.begin == min(c.begin for c in chart.clocks))
        marks["time in past"] = float(
            isinstance(change.changes.get("start"), datetime) and change.changes["start"] < chart.now
        )
    else:
        kind("no time")
    member = change.targets.first
    old_times = [moment.hour * 60 + moment.minute for moment in (member.start, member.end)]
    for clock in chart.clocks:
        if not any(clock.overlaps(p) for p in change.used):
            is_old = any(old in (clock.value.minutes, clock.value.minutes + 720) for old in old_times)
            name = f"left clock {'old' if is_old else clock.form}"
            marks[name] = marks.get(name, 0.0) + 1.0
    for day in chart.days:
        if not any(day.overlaps(p) for p in change.used):
            is_old = any(
                m.start.date() <= day.value.last and m.end.date() >= day.value.first for m in change.targets.members
            )
            name = f"left day {'of target' if is_old else day.form}"
            marks[name] = marks.get(name, 0.0) + 1.0
    for length in chart.lengths:
        if not any(length.overlaps(p) for p in change.used):
            marks[f"left length {length.form}"] = 1.0
    if place is not None:
        kind("place")
        marks["place score"] = max(place[0], -8.0) / 4
        span = place[1]
        marks[
            f"place after {lows[span.begin - 1]}"
            if span.begin and lows[span.begin - 1] in _LEADS
            else "place after other"
        ] = 1.0
        marks[f"place before {spans.kinds[span.end]}" if span.end < len(lows) else "place at end"] = 1.0
        marks["known place"] = float(" ".join(lows[span.begin : span.end]) in spans.places)
        marks["place takes people"] = float(any(p.begin in range(span.begin, span.end) for p in chart.people))
    else:
        kind("no place")
    if add or remove or how:
        kind(f"people {how}")
    if reminder is not None:
        kind("reminder")
        marks[f"reminder {reminder.form}"] = 1.0
    elif chart.reminders:
        marks["left reminder"] = 1.0
    if title is not None:
        kind("new title")
        marks["new title quoted"] = float(title.begin > 0 and lows[title.begin - 1] in ('"', "'"))
        marks["new title at the end"] = float(title.end >= len(lows) - 1)
        marks["new title size"] = min(title.end - title.begin, 8) / 4
        marks[f"new title after {lows[title.begin - 1]}" if title.begin else "new title first"] = 1.0
        taken = sum(1 for i in range(title.begin, title.end) if i in change.targets.words)
        marks["new title takes the old"] = float(taken > 0)
    if rule is not None:
        kind("rule")
    elif chart.repetitions:
        marks["left repetition"] = 1.0
    claimed = set(change.targets.words)
    for piece in [*change.used, *change.targets.used]:
        claimed |= set(range(piece.begin, piece.end))
    for span in change.spans:
        claimed |= set(range(span.begin, span.end))
    for person in chart.people:
        if person.value in add or person.value in remove:
            claimed.add(person.begin)
    left = [
        k for i, k in enumerate(spans.kinds) if i not in claimed and k in ("word", "Word", "PLACE", "NUMBER", "PERSON")
    ]
    marks["left words"] = min(len(left), 10) / 4
    marks["left capital"] = float("Word" in left)
    marks["several"] = float(len(change.targets.members) > 1)
    marks["several, each"] = float(bool(change.each))
    for name, value in change.targets.marks.items():
        if name.startswith(("set ", "scope ")):
            marks[f"t {name}"] = value
