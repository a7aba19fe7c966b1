"""Candidates for several new events in one text: where it may be cut, and what its parts are by themselves."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from datetime import date, datetime, timedelta
from typing import Any

from msgspec import Struct, field

from whenvoca.speech.candidates.drafts import Draft
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.piece import DAY, Piece

_MOST_PARTS = 6
_SEPARATORS = frozenset([",", ";", ".", "and", "then", "\n", "+", "&", "plus", "also", "followed", "/", "|", "-"])
_SENTENCES = frozenset([".", ";", "\n", "then"])
_JOINING = frozenset(["and", "then", "+", "&", "plus", "also"])
_SHARED = frozenset(["both", "all", "each"])


class Part(Struct):
    """One part of a text, read by itself."""

    chart: Chart
    draft: Draft
    likely: float
    title: str = ""
    place: str = ""


class Several(Struct):
    """One way to read a text as several events."""

    parts: list[Part]
    marks: dict[str, float] = field(default_factory=dict)


Reader = Callable[[int, int, date | None, datetime | None], Part | None]


def _clusters(chart: Chart) -> list[tuple[int, int, bool]]:
    """Groups of days and times that stand together: where they begin and end, and whether a time is among them."""
    pieces: list[Piece[Any]] = [
        *(each for each in chart.days if not each.value.is_period),
        *(each for each in chart.clocks if each.form != "bare" and not any(s.overlaps(each) for s in chart.stretches)),
        *chart.stretches,
        *chart.lengths,
    ]
    pieces = [each for each in pieces if not any(r.overlaps(each) for r in (*chart.reminders, *chart.repetitions))]
    found: list[list[Any]] = []
    for each in sorted(pieces, key=lambda p: (p.begin, -p.end)):
        is_time = each in chart.clocks or each in chart.stretches
        if (
            found
            and each.begin <= found[-1][1] + 1
            and all(
                low in (",", "at", "from", "-", "the", "on", "/") for low in chart.text.lows[found[-1][1] : each.begin]
            )
        ) and (not (is_time and found[-1][2]) or each.begin < found[-1][1]):
            found[-1][1] = max(found[-1][1], each.end)
            found[-1][2] = found[-1][2] or is_time
            continue
        found.append([each.begin, each.end, is_time])
    return [(begin, end, is_time) for begin, end, is_time in found]


def cuts(chart: Chart) -> list[tuple[str, list[tuple[int, int]]]]:
    """The ways to cut a text, each with its name."""
    lows = chart.text.lows
    clusters = _clusters(chart)
    timed = [each for each in clusters if each[2]]
    anchors = timed if len(timed) > 1 else clusters
    if not 2 <= len(anchors) <= _MOST_PARTS:
        return []
    found: dict[tuple[tuple[int, int], ...], str] = {}
    if "\n" in lows:
        ends = [i for i, low in enumerate(lows) if low == "\n"]
        lines = [(a, b) for a, b in zip([0, *[i + 1 for i in ends]], [*ends, len(lows)], strict=True) if b > a]
        kept = [line for line in lines if any(line[0] <= c[0] < line[1] for c in anchors)]
        if len(kept) > 1:
            found[tuple(kept)] = "lines"
    gaps = list(itertools.pairwise(anchors))

    def at(name: str, places: Sequence[int | None]) -> None:
        if any(place is None for place in places):
            return
        bounds = [0, *[place for place in places if place is not None], len(lows)]
        if all(b > a for a, b in itertools.pairwise(bounds)):
            found.setdefault(tuple(itertools.pairwise(bounds)), name)

    def separators(
        one: tuple[int, int, bool], other: tuple[int, int, bool], signs: frozenset[str] = _SEPARATORS
    ) -> list[int]:
        return [i for i in range(one[1], other[0]) if lows[i] in signs]

    def start_of(other: tuple[int, int, bool]) -> int:
        """Where the cluster's own days begin, if a day stands just before it."""
        before = [c for c in clusters if not c[2] and c[1] <= other[0] and other[0] - c[1] <= 2]
        return before[-1][0] if before else other[0]

    at("before times", [start_of(other) for _, other in gaps])
    at(
        "behind times",
        [
            max([c[1] for c in clusters if not c[2] and one[1] <= c[0] <= one[1] + 1 and c[1] <= other[0]] or [one[1]])
            for one, other in gaps
        ],
    )
    at("last separator", [_one(separators(one, (start_of(other), 0, True)), -1) for one, other in gaps])
    at("first separator", [_one(separators(one, other)) for one, other in gaps])
    at("sentences", [_one(separators(one, other, _SENTENCES)) for one, other in gaps])
    at("and", [_one(separators(one, other, _JOINING)) for one, other in gaps])
    return [(name, list(parts)) for parts, name in found.items()]


def _one(places: list[int], which: int = 0) -> int | None:
    return places[which] if places else None


def find_several(chart: Chart, read: Reader) -> list[Several]:
    """All ways to read a text as several events; ``read`` gives the best reading of some tokens, with the day that
    was named before and the end of the event before."""
    found = []
    tail, place, people = _tail(chart)
    for name, uncut in cuts(chart):
        ranges = [(begin, min(end, tail)) for begin, end in uncut if begin < tail]
        parts: list[Part] = []
        day: date | None = None
        header = [each for each in chart.days if each.end <= ranges[0][0]]
        if header:
            day = header[-1].value.first
        last: datetime | None = None
        for begin, end in ranges:
            part = read(begin, end, day, last)
            if part is None:
                break
            part = _settled(part, parts[-1] if parts else None)
            parts.append(part)
            start, stop = part.draft.when.start, part.draft.when.end
            day = start.date() if isinstance(start, datetime) else start
            last = stop if isinstance(stop, datetime) else None
        else:
            for part in parts:
                part.place = part.place or place
                part.draft.people = part.draft.people or people
            if len(parts) > 1:
                found.append(Several(parts, _marks(chart, name, parts)))
    return found


def _tail(chart: Chart) -> tuple[int, str, list[str]]:
    """Where a place or people begin that are said of all: both in room 2, all with Rui."""
    lows = chart.text.lows
    for i in range(len(lows) - 2, 0, -1):
        if lows[i] in _SHARED and lows[i + 1] in ("in", "at", "@", "with", "on") and i + 2 < len(lows):
            people = [each.value for each in chart.people if each.begin > i]
            if lows[i + 1] == "with":
                return i, "", people
            if any(each.begin > i for each in (*chart.clocks, *chart.days)):
                continue
            end = len(lows)
            while end > i + 2 and (
                lows[end - 1] in (".", "!", "?", "please", "thanks", "ok", ",") or not lows[end - 1][0].isalnum()
            ):
                end -= 1
            return i, chart.text.said(i + 2, end), people
    return len(lows), "", []


def _settled(part: Part, before: Part | None) -> Part:
    """A part with what it takes from the one before: a title that is not said again, the day that follows."""
    draft, text = part.draft, part.chart.text
    assert draft.title is not None
    part.title = text.said(draft.title.begin, draft.title.end)
    part.place = text.said(draft.place.begin, draft.place.end) if draft.place is not None else ""
    if before is None:
        return part
    when, lows = draft.when, text.lows
    taken = {i for piece in when.used for i in range(piece.begin, piece.end)}
    own = [
        i
        for i in range(draft.title.begin, draft.title.end)
        if i not in taken and text.tokens[i].is_word and lows[i] not in _NO_TITLE
    ]
    if not own:
        part.title = before.title
    start, last = when.start, before.draft.when.start
    if isinstance(start, datetime) and isinstance(last, datetime):
        follows = "next" in lows and bool({"day", "morning", "evening", "afternoon"} & set(lows))
        by = timedelta(days=0)
        if follows and "day from before" not in when.marks:
            by = (last.date() - start.date()) + DAY
        elif "day from before" in when.marks and start < last and start.hour < 12 <= last.hour:
            by = DAY
        if by:
            when.start, when.end = start + by, when.end + by
    return part


_NO_TITLE = frozenset("again and then at also another the a same time".split())


def _marks(chart: Chart, name: str, parts: list[Part]) -> dict[str, float]:
    lows = set(chart.text.lows)
    marks = {f"cut {name}": 1.0, "parts": len(parts) / 2}
    marks["likely"] = sum(part.likely for part in parts) / len(parts)
    marks["least likely"] = max(-10.0, min(part.likely for part in parts))
    for key in ("when", "title", "place"):
        marks[f"mean {key}"] = sum(part.draft.marks.get(key, 0.0) for part in parts) / len(parts)
        marks[f"least {key}"] = max(-8.0, min(part.draft.marks.get(key, 0.0) for part in parts))
    for key in (
        "left any word",
        "left any Word",
        "title takes some time",
        "title cut short",
        "nothing left",
        "title takes unused time",
        "left any PLACE",
    ):
        marks[f"sum {key}"] = sum(part.draft.marks.get(key, 0.0) for part in parts)
    for low in (
        "and",
        "then",
        "both",
        "\n",
        ";",
        "2",
        "two",
        "also",
        "again",
        ":",
        ".",
        "->",
        "to",
        "until",
        "or",
        "not",
        "no",
        "sorry",
        "moved",
        "instead",
        "-",
    ):
        if low in lows:
            marks[f"several with {low}"] = 1.0
    return marks
