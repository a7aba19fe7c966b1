"""Candidates for questions: what is on, when something is, how many; and whether a time is free."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from datetime import datetime, timedelta

from msgspec import Struct, field

from whenvoca.speech.candidates.mentions import Mentions
from whenvoca.speech.candidates.target_sets import Occurrence
from whenvoca.speech.candidates.whens import find_whens
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.clocks import PARTS, Clock, settled
from whenvoca.speech.chart.piece import DAY, Days

_CUES = frozenset(
    """
    what what's when when's where where's who who's which whose how many next 1st last any anything list show left free
    busy clear gap available empty open time long start end finish between before after until on with in at all day
    remaining still count number whole-day entries details coming doing happening room place attending is are am do
    does have got can could would will much only today's agenda schedule enough slot unoccupied clash spare earliest
    """.split()
)


class Question(Struct):
    """One candidate for what is asked: the events that answer it."""

    intent: str  # query or free
    found: list[Occurrence]
    period: tuple[datetime, datetime]
    marks: dict[str, float] = field(default_factory=dict)
    kind: str = "list"


def _midnight(days: Days, *, last: bool = False) -> datetime:
    return datetime.combine(days.last + DAY if last else days.first, datetime.min.time())


def _hour(clock: Clock, part: str) -> int:
    """Minutes since midnight that a time of day in a question means."""
    if clock.is_open and part:
        return settled(clock, part).minutes
    return clock.minutes + (720 if clock.is_open and clock.hour <= 6 else 0)


def _periods(chart: Chart, mentions: Mentions) -> Iterator[tuple[str, datetime, datetime]]:
    """The stretches of time that may be asked about."""
    now = chart.now
    today = Days(now.date(), now.date())
    parts = [each.value for each in chart.parts]
    lows = chart.text.lows
    days = chart.days[:4]
    for day in [*days, None]:
        value = day.value if day is not None else today
        name = "day" if day is not None and value.first == value.last else "days" if day is not None else "today"
        low, high = _midnight(value), _midnight(value, last=True)
        part = value.part or (parts[0] if parts else "")
        if day is not None or part or chart.clocks or "today" in lows or "left" in lows:
            yield name, low, high
            if low <= now < high:
                yield f"{name} from now", now, high
        if part:
            opens, closes = PARTS[part]
            yield f"{name} part", low + timedelta(hours=opens), low + timedelta(hours=closes)
            if part in ("evening", "night"):
                yield f"{name} whole evening", low + timedelta(hours=17 if part == "evening" else 18), high
        for clock in chart.clocks[:3]:
            if day is not None and day.overlaps(clock):
                continue
            at = low + timedelta(minutes=_hour(clock.value, part))
            yield f"{name} after clock", at, high
            yield f"{name} until clock", low, at
        for stretch in chart.stretches[:2]:
            begin = low + timedelta(minutes=_hour(stretch.value.begin, part))
            end = low + timedelta(minutes=_hour(stretch.value.end, part))
            if end <= begin:
                end += timedelta(hours=12) if end + timedelta(hours=12) > begin else DAY
            yield f"{name} stretch", begin, end
        if day is not None:
            before = lows[max(0, day.begin - 2) : day.begin + 1]
            yield (
                f"until {name} {'led' if {'until', 'before', 'by', 'to', 'and'} & set(before) else 'plain'}",
                now,
                high,
            )
            yield f"before {name} {'led' if 'before' in before else 'plain'}", now, low
            if value.last > now.date():
                yield f"after {name} {'led' if 'after' in before else 'plain'}", high, high + timedelta(days=370)
                yield f"from {name} on {'led' if 'from' in before else 'plain'}", low, low + timedelta(days=370)
    for one, other in itertools.pairwise(days):
        if other.value.last > one.value.first:
            said = set(lows[one.begin - 1 : other.begin]) if one.begin else set(lows[: other.begin])
            yield (
                f"day to day {'led' if said & {'between', 'from', 'to', 'until', '-'} else 'plain'}",
                _midnight(one.value),
                _midnight(other.value, last=True),
            )
    yield "from now", now, now + timedelta(days=370)


def _answers(chart: Chart, mentions: Mentions) -> Iterator[Question]:
    lows = set(chart.text.lows)
    seen: dict[tuple[datetime, datetime], None] = {}
    for name, low, high in _periods(chart, mentions):
        if (low, high) in seen or high <= low:
            continue
        seen[low, high] = None
        members = mentions.between(low, high)
        for filtered, chosen in _filters(chart, members):
            marks = {f"period {name}": 1.0, f"filter {filtered}": 1.0}
            _cue(marks, lows, f"period {name}", f"filter {filtered}")
            if not (name == "from now" and filtered == "none"):
                yield Question(
                    "query",
                    chosen,
                    (low, high),
                    {
                        **marks,
                        **_kind(lows, "list"),
                        "none found": float(not chosen),
                        "many found": min(len(chosen), 12) / 6,
                    },
                )
            coming = [each for each in chosen if each.start >= max(low, chart.now)]
            if coming and (len(chosen) > 1 or name == "from now"):
                yield Question("query", coming[:1], (low, high), {**marks, **_kind(lows, "first")}, "first")
            if len(chosen) > 1 and "last" in lows:
                yield Question("query", chosen[-1:], (low, high), {**marks, **_kind(lows, "last")}, "last")
    for target in mentions.sets:
        if (
            target.scope == "this"
            and len(target.members) <= 3
            and not any(name.startswith("set all in") for name in target.marks)
        ):
            marks = {f"mention {name}": value for name, value in target.marks.items() if not name.startswith("this")}
            first = target.first
            yield Question(
                "query",
                target.members,
                (first.start, target.members[-1].end),
                {**marks, **_kind(lows, "mention"), "mention": 1.0},
                "mention",
            )
            if len(target.members) == 1:
                day_end = datetime.combine(first.end.date() + DAY, datetime.min.time())
                behind = [each for each in mentions.between(first.end, day_end) if each.start >= first.end]
                ahead = list(mentions.between(datetime.combine(first.start.date(), datetime.min.time()), first.start))
                around = {"around an event": 1.0, "share": first.title_share}
                if "after" in lows:
                    yield Question(
                        "query",
                        behind,
                        (first.end, day_end),
                        {**around, "behind, all": 1.0, **_kind(lows, "behind")},
                        "behind",
                    )
                    yield Question(
                        "query",
                        behind[:1],
                        (first.end, day_end),
                        {**around, "behind, one": 1.0, **_kind(lows, "behind one")},
                        "behind",
                    )
                if "before" in lows:
                    yield Question(
                        "query",
                        ahead,
                        (first.start - DAY, first.start),
                        {**around, "ahead, all": 1.0, **_kind(lows, "ahead")},
                        "ahead",
                    )
                    yield Question(
                        "query",
                        ahead[-1:],
                        (first.start - DAY, first.start),
                        {**around, "ahead, one": 1.0, **_kind(lows, "ahead one")},
                        "ahead",
                    )


def _filters(chart: Chart, members: list[Occurrence]) -> Iterator[tuple[str, list[Occurrence]]]:
    yield "none", members
    lows = set(chart.text.lows)
    some = {
        "words": [each for each in members if each.words],
        "strong words": [each for each in members if each.title_share >= 0.4],
        "person": [each for each in members if each.has_person or (each.words and chart.people)],
        "place": [each for each in members if each.has_place],
    }
    if lows & {"whole", "day"}:
        some["whole days"] = [each for each in members if each.event.is_whole_day]
        some["timed"] = [each for each in members if not each.event.is_whole_day]
    for name, chosen in some.items():
        if chosen and chosen != members:
            yield name, chosen
    if chart.people and not some["person"]:
        yield "person, none", []


def _kind(lows: set[str], name: str) -> dict[str, float]:
    marks = {f"kind {name}": 1.0}
    _cue(marks, lows, f"kind {name}")
    return marks


def _cue(marks: dict[str, float], lows: set[str], *names: str) -> None:
    for cue in lows & _CUES:
        for name in names:
            marks[f"{name} with {cue}"] = 1.0


def find_questions(chart: Chart, mentions: Mentions) -> list[Question]:
    """The candidates for a question about what stands in the agenda."""
    return list(_answers(chart, mentions))[:200]


def find_free(chart: Chart, mentions: Mentions) -> list[Question]:
    """The candidates for a question about time that is free."""
    lows = set(chart.text.lows)
    found: list[Question] = []
    spans: list[tuple[str, datetime, datetime]] = []
    for when in find_whens(chart)[:60]:
        if when.repeat or when.reminder is not None:
            continue
        if isinstance(when.start, datetime) and isinstance(when.end, datetime):
            spans.append(("at a time", when.start, when.end))
            found_marks = when.marks
        else:
            spans.append(
                (
                    "whole days",
                    datetime.combine(when.start, datetime.min.time()),
                    datetime.combine(when.end, datetime.min.time()),
                )
            )
            found_marks = when.marks
        for busy in _busy(chart, mentions, spans[-1][0], *spans[-1][1:]):
            busy.marks |= {f"when {name}": value for name, value in found_marks.items()}
            found.append(busy)
    for name, low, high in _periods(chart, mentions):
        if name == "from now" or high - low > timedelta(days=100) or high <= low or name.startswith("until"):
            continue
        for busy in _busy(chart, mentions, f"period {name}", low, high):
            found.append(busy)
    for each in found:
        _cue(each.marks, lows, *[mark for mark in each.marks if mark.startswith("span ")])
    return found[:240]


def _busy(chart: Chart, mentions: Mentions, name: str, low: datetime, high: datetime) -> Iterator[Question]:
    members = mentions.between(low, high)
    options = {
        "own": [each for each in members if not each.event.is_whole_day],
        "with whole days": members,
        "of a person": [each for each in members if each.has_person or (each.words and chart.people)],
        "in a place": [each for each in members if each.has_place],
    }
    seen: list[list[Occurrence]] = []
    for how, chosen in options.items():
        if chosen in seen or (how == "in a place" and not chosen):
            continue
        seen.append(chosen)
        marks = {
            f"span {name}": 1.0,
            f"busy {how}": 1.0,
            f"busy {how}, people {bool(chart.people)}": 1.0,
            "free": float(not chosen),
        }
        yield Question("free", chosen, (low, high), marks, how)
