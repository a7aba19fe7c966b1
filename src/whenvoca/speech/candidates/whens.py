"""Candidates for when something is: each way to put days, times, lengths, repetitions and reminders together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date, datetime, time, timedelta
from itertools import pairwise, product
from typing import Any

from whenvoca.speech.candidates.when import When
from whenvoca.speech.candidates.when_marks import mark_when
from whenvoca.speech.candidates.when_rules import UNTIL_WORDS, give_rule, lead_of, leave_out
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.clocks import Clock, Length, Stretch, settled
from whenvoca.speech.chart.piece import DAY, Days, Piece
from whenvoca.speech.chart.repeats import Limit, Repetition

_MOST = 500
_MOST_DAYS, _MOST_CLOCKS, _MOST_OTHERS = 6, 7, 3


_ENDING = frozenset(
    "until to ends end finish finishes finishing ending over done back arriving arrive arrives carriages".split()
)


def find_whens(
    chart: Chart, *, default: int = 60, day: date | None = None, after: datetime | None = None
) -> list[When]:
    """All ways to read when it is, the same one once; none where no day or time is said.

    ``day`` is one that was named before: a time alone is of it. ``after`` is when the event before ends.
    """
    found: dict[tuple[Any, ...], list[When]] = {}
    for n, when in enumerate(_all(chart, default)):
        if n >= _MOST:
            break
        found.setdefault(when.key, []).append(when)
    if day is not None:
        found = _on_day(found, chart, day, after, default)
    return [max(each, key=lambda w: (sum(p.end - p.begin for p in w.used), -len(w.used))) for each in found.values()]


def _on_day(
    found: dict[tuple[Any, ...], list[When]], chart: Chart, day: date, after: datetime | None, default: int
) -> dict[tuple[Any, ...], list[When]]:
    """The same with times that stand without a day moved to the day that was named before."""
    moved: dict[tuple[Any, ...], list[When]] = {}
    for whens in found.values():
        for when in whens:
            if (
                "day none" in when.marks
                and isinstance(when.start, datetime)
                and not when.repeat
                and "relative" not in when.marks
            ):
                by = timedelta(days=(day - when.start.date()).days)
                when.start, when.end = when.start + by, when.end + by
                when.marks = {
                    **when.marks,
                    "day from before": 1.0,
                    "day none": 0.0,
                    "rolled over": 0.0,
                    "in the past": float(when.start < chart.now),
                }
            moved.setdefault(when.key, []).append(when)
    if after is not None and {"after", "followed", "then", "straight"} & set(chart.text.lows):
        spans = [each for each in chart.lengths if each.value.minutes][:1]
        lasts = spans[0].value.minutes if spans else default
        when = When(after, after + timedelta(minutes=lasts), used=[*spans], marks={"right after": 1.0})
        moved.setdefault(when.key, []).append(when)
    return moved


def _free(chosen: Sequence[Piece[Any] | None]) -> bool:
    pieces = [each for each in chosen if each is not None]
    return not any(a.overlaps(b) for i, a in enumerate(pieces) for b in pieces[i + 1 :])


def _all(chart: Chart, default: int) -> Iterator[When]:
    reminders: list[Piece[int] | None] = [*chart.reminders[:2], None]
    repetitions: list[Piece[Repetition] | None] = [*chart.repetitions[:_MOST_OTHERS], None]
    yield from _relative(chart, default)
    yield from _across(chart)
    yield from _beside(chart, default)
    nightly = [each for each in chart.limits if each.value.unit == "day"]
    if nightly and not chart.repetitions:
        repetitions.insert(0, Piece(nightly[0].begin, nightly[0].begin, Repetition("DAILY"), "limit alone"))
    times: list[Piece[Any] | None] = [*chart.stretches[:4]]
    times += [
        each for each in chart.clocks if not any(s.begin <= each.begin and each.end <= s.end for s in chart.stretches)
    ][:_MOST_CLOCKS]
    for reminder, repetition in product(reminders, repetitions):
        if not _free((reminder, repetition)):
            continue
        fixed = [each for each in (reminder, repetition) if each is not None]
        days = [each for each in chart.days if _free((each, *fixed))][:_MOST_DAYS]
        clocks = [each for each in times if _free((each, *fixed))]
        spans = [each for each in chart.lengths if _free((each, *fixed))][:_MOST_OTHERS]
        limits = [each for each in chart.limits if _free((each, *fixed))][:2] if repetition is not None else []
        found: list[Piece[Any]] = [each for each in clocks if each is not None]
        for time_piece in [*found, None]:
            for day in [*days, None]:
                if not _free((day, time_piece)) or (day is None and time_piece is None and repetition is None):
                    continue
                ends = _ends(chart, time_piece, [*spans, *found], day)
                for end in ends:
                    if not _free((day, time_piece, end)):
                        continue
                    yield from _with_limits(chart, reminder, repetition, day, time_piece, end, days, limits, default)


def _relative(chart: Chart, default: int) -> Iterator[When]:
    """In 20 minutes."""
    for each in chart.relatives:
        start = chart.now.replace(second=0, microsecond=0) + timedelta(minutes=each.value)
        spans = [span for span in chart.lengths if not span.overlaps(each) and span.value.minutes]
        for span in [*spans[:2], None]:
            lasts = span.value.minutes if span is not None else default
            used: list[Piece[Any]] = [each, *([span] if span is not None else [])]
            when = When(
                start,
                start + timedelta(minutes=lasts),
                used=used,
                marks={"relative": 1.0},
                length_said=span is not None,
            )
            mark_when(chart, when, None, None, span, None, None, None)
            yield when


def _beside(chart: Chart, default: int) -> Iterator[When]:
    """Right after or before an event that stands."""
    for each in chart.beside:
        way, moment, _ = each.value
        lengths = [span for span in chart.lengths if not span.overlaps(each) and span.value.minutes][:2]
        for span in [*lengths, None]:
            lasts = timedelta(minutes=span.value.minutes if span is not None else default)
            used: list[Piece[Any]] = [each, *([span] if span is not None else [])]
            days = [
                day for day in chart.days if day.value.first == moment.date() and not any(day.overlaps(p) for p in used)
            ]
            used += days[:1]
            start = moment if way == "after" else moment - lasts
            when = When(start, start + lasts, used=used, marks={f"beside {way}": 1.0}, length_said=span is not None)
            reminder = chart.reminders[0] if chart.reminders and _free((chart.reminders[0], *used)) else None
            if reminder is not None:
                when.used.append(reminder)
                when.reminder = reminder.value
            mark_when(chart, when, days[0] if days else None, None, span, None, None, reminder)
            yield when


def _across(chart: Chart) -> Iterator[When]:
    """From a time on one day to a time on another one."""
    singles = [each for each in chart.days if each.value.first == each.value.last]
    clocks = [each for each in chart.clocks if each.form != "bare"]
    if len(singles) < 2 or len(clocks) < 2 or chart.repetitions:
        return
    for one, other in pairwise(singles):
        if other.value.first <= one.value.first or (other.value.first - one.value.first).days > 21:
            continue
        near = sorted((c for c in clocks if not c.overlaps(one)), key=lambda c: abs(c.begin - one.begin))[:1]
        far = sorted(
            (c for c in clocks if not c.overlaps(other) and c not in near), key=lambda c: abs(c.begin - other.begin)
        )[:1]
        for begin, end in product(near, far):
            start = datetime.combine(
                one.value.first, _clock_options(begin.value, begin.value.part or one.value.part)[0][0]
            )
            stop = datetime.combine(
                other.value.first, _clock_options(end.value, end.value.part or other.value.part)[0][0]
            )
            said = set(chart.text.lows[one.begin : max(other.begin, end.begin)])
            when = When(
                start,
                stop,
                used=[one, other, begin, end],
                marks={"across": 1.0, "across, joined": float(bool(said & {"to", "until", "-", "->", *_ENDING}))},
            )
            reminder = chart.reminders[0] if chart.reminders and _free((chart.reminders[0], *when.used)) else None
            if reminder is not None:
                when.used.append(reminder)
                when.reminder = reminder.value
            mark_when(chart, when, one, begin, end, None, None, reminder)
            yield when


def _ends(
    chart: Chart, time_piece: Piece[Any] | None, others: Sequence[Piece[Any]], day: Piece[Any] | None
) -> list[Piece[Any] | None]:
    """What may tell the end: a length, or a time of day with until before it."""
    if time_piece is not None and isinstance(time_piece.value, Stretch):
        return [None]
    found: list[Piece[Any] | None] = []
    for each in others:
        value = each.value
        if isinstance(value, Length):
            if time_piece is not None or value.days:
                found.append(each)
        elif (
            isinstance(value, Clock)
            and each is not time_piece
            and time_piece is not None
            and each.begin > time_piece.begin
        ):
            before = chart.text.lows[max(0, each.begin - 3) : each.begin]
            if value.lead in ("until", "to") or {
                "until",
                "to",
                "ends",
                "end",
                "finish",
                "finishes",
                "finishing",
                "ending",
                "over",
                "done",
            } & set(before):
                found.append(each)
    return [*found, None]


def _with_limits(
    chart: Chart,
    reminder: Piece[int] | None,
    repetition: Piece[Repetition] | None,
    day: Piece[Days] | None,
    time_piece: Piece[Any] | None,
    end: Piece[Any] | None,
    days: Sequence[Piece[Days]],
    limits: Sequence[Piece[Limit]],
    default: int,
) -> Iterator[When]:
    used = [each for each in (reminder, repetition, day, time_piece, end) if each is not None]
    limit_options: list[Piece[Any] | None] = [None]
    if repetition is not None:
        untils = [
            each for each in days if each is not day and lead_of(chart, each) in UNTIL_WORDS and _free((each, *used))
        ]
        limit_options = [
            *untils,
            *[each for each in limits if _free((each, *used)) or each.begin == repetition.begin],
            None,
        ]
    for limit in limit_options:
        for when in _timed(chart, day, time_piece, end, repetition, default):
            if repetition is not None and not give_rule(chart, when, repetition.value, day, limit):
                continue
            when.reminder = reminder.value if reminder is not None else None
            when.used = [*used, *([limit] if limit is not None else [])]
            if repetition is not None:
                leave_out(chart, when, days)
            mark_when(chart, when, day, time_piece, end, repetition, limit, reminder)
            yield when


# --- times of day


def _part_for(
    chart: Chart, day: Piece[Days] | None, time_piece: Piece[Any] | None, repetition: Piece[Repetition] | None
) -> tuple[str, bool]:
    """The part of the day that a time is in, and whether it stands beside it."""
    if day is not None and day.value.part:
        return day.value.part, True
    if repetition is not None and repetition.value.part:
        return repetition.value.part, True
    for each in chart.parts:
        if time_piece is None or each.end <= time_piece.begin or each.begin >= time_piece.end:
            return each.value, False
    return "", False


def _clock_options(clock: Clock, part: str) -> list[tuple[time, str]]:
    """The times that are meant by a time of day, the usual one first."""
    if not clock.is_open:
        return [(time(clock.hour, clock.minute), "as said")]
    if part:
        fixed = settled(clock, part)
        found = [(time(fixed.hour, fixed.minute), "by part")]
    else:
        usual = clock.hour + 12 if 1 <= clock.hour <= 5 else clock.hour
        found = [(time(usual % 24, clock.minute), "usual 6" if clock.hour in (6, 7) else "usual")]
    other = (found[0][0].hour + 12) % 24
    found.append((time(other, clock.minute), "other 6" if clock.hour in (6, 7) and not part else "other"))
    return found


def _timed(
    chart: Chart,
    day: Piece[Days] | None,
    time_piece: Piece[Any] | None,
    end: Piece[Any] | None,
    repetition: Piece[Repetition] | None,
    default: int,
) -> Iterator[When]:
    """The start and end by a day and a time."""
    base = day.value.first if day is not None else chart.now.date()
    if time_piece is None:
        last = day.value.last if day is not None else base
        if end is not None and isinstance(end.value, Length):
            last = base + timedelta(days=max(end.value.days - 1, 0))
        if (last - base).days < 400:
            yield When(base, last + DAY, marks={"whole": 1.0})
        return
    part, _ = _part_for(chart, day, time_piece, repetition)
    value = time_piece.value
    if isinstance(value, Stretch):
        for begin, how in _clock_options(value.begin, part):
            for until, how_end in _until_options(value.end, begin):
                start = datetime.combine(base, begin)
                stop = datetime.combine(base, until)
                if stop <= start:
                    stop += DAY
                if day is not None and day.form == "weekday" and base == chart.now.date() and start <= chart.now:
                    start, stop = start + 7 * DAY, stop + 7 * DAY
                yield When(
                    start,
                    stop,
                    marks={f"clock {how}": 1.0, f"until {how_end}": 1.0, "over midnight": float(stop.date() != base)},
                )
        return
    for begin, how in _clock_options(value, part):
        start = datetime.combine(base, begin)
        marks = {f"clock {how}": 1.0}
        if day is None and repetition is None and start <= chart.now:
            start += DAY
            marks["rolled over"] = 1.0
        elif day is not None and day.form == "weekday" and base == chart.now.date() and start <= chart.now:
            start += 7 * DAY
            marks["next week's"] = 1.0
        if end is None:
            yield When(start, start + timedelta(minutes=default), marks=marks, length_said=False)
        elif isinstance(end.value, Length):
            length = end.value
            if length.months:
                continue
            yield When(start, start + timedelta(minutes=length.minutes, days=length.days), marks=marks)
        else:
            for until, how_end in _until_options(end.value, begin):
                stop = datetime.combine(start.date(), until)
                if stop <= start:
                    stop += DAY
                yield When(
                    start,
                    stop,
                    marks={**marks, f"until {how_end}": 1.0, "over midnight": float(stop.date() != start.date())},
                )


def _until_options(clock: Clock, begin: time) -> list[tuple[time, str]]:
    """The end of a stretch: the first time of that name behind its begin, else as it is said."""
    if not clock.is_open:
        return [(time(clock.hour, clock.minute), "as said")]
    first = time(clock.hour % 24, clock.minute)
    second = time((clock.hour + 12) % 24, clock.minute)
    later = [each for each in (first, second) if each > begin]
    if not later:
        return [(min(first, second), "next day")]
    nearest = min(later)
    return [(nearest, "nearest"), *[(each, "second") for each in (first, second) if each != nearest][:1]]
