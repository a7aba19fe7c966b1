"""Ways in which a text may change the time of events: another day, an hour later, until five, half an hour longer."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from typing import Any

from msgspec import Struct, field

from whenvoca.speech.candidates.cues import cues_of
from whenvoca.speech.candidates.target_sets import Occurrence, TargetSet
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.clocks import Clock, Length, Stretch, settled
from whenvoca.speech.chart.piece import DAY, Days, Piece


class Timing(Struct):
    """How a start and end are changed: ``apply`` gives the new ones of an occurrence."""

    kind: str
    apply: Any
    used: list[Piece[Any]]
    marks: dict[str, float] = field(default_factory=dict)


def _hours(clock: Clock, old: datetime, part: str) -> list[tuple[time, str]]:
    """The times of day that may be meant, seen from the time an event has now."""
    if not clock.is_open:
        return [(time(clock.hour, clock.minute), "as said")]
    if part:
        fixed = settled(clock, part)
        return [(time(fixed.hour, fixed.minute), "by part")]
    early, late = clock.hour % 24, (clock.hour + 12) % 24
    usual = late if 1 <= clock.hour <= 5 else early
    near = min(
        (usual, early, late), key=lambda hour: abs(hour * 60 + clock.minute - old.hour * 60 - old.minute)
    )  # of two as near the usual one
    found = [(time(near, clock.minute), "near and usual" if near == usual else "near")]
    if near != usual:
        found.append((time(usual, clock.minute), "usual"))
    return found


def is_whole(occurrence: Occurrence) -> bool:
    """Whether an event takes whole days."""
    return occurrence.event.is_whole_day


def find_timings(chart: Chart, targets: TargetSet) -> Iterator[Timing]:
    """All ways to read another time; of a shift those that way which the text says, if it says one."""
    ways = cues_of(chart.text.lows) & _WAYS
    for each in _every_timing(chart, targets):
        if not ways or each.kind not in _WAYS or each.kind in ways:
            yield each


_WAYS = {"later", "earlier", "longer", "shorter"}


def _every_timing(chart: Chart, targets: TargetSet) -> Iterator[Timing]:
    old = targets.first
    lasts = old.end - old.start
    days: list[Piece[Days] | None] = [each for each in chart.days if each not in targets.used or len(chart.days) == 1]
    parts = [each.value for each in chart.parts]
    clocks = chart.clocks[:6]
    in_stretch = [each for each in clocks if any(s.begin <= each.begin and each.end <= s.end for s in chart.stretches)]
    for day in [*days[:4], None]:
        part = (day.value.part if day is not None and day.value.part else "") or (parts[0] if parts else "")
        if day is not None:
            yield from _by_day(chart, day, old)
        if is_whole(old):
            for stretch in chart.stretches:
                if day is None:
                    yield from _by_stretch(chart, None, stretch, old, part)
            continue
        for stretch in chart.stretches[:3]:
            if day is None or not day.overlaps(stretch):
                yield from _by_stretch(chart, day, stretch, old, part)
        for clock in clocks:
            if day is not None and day.overlaps(clock):
                continue
            inside = clock in in_stretch
            for hour, how in _hours(clock.value, old.start, part):
                base = day.value.first if day is not None else None

                def start_at(each: Occurrence, hour: time = hour, base: date | None = base) -> tuple[Any, Any]:
                    start = datetime.combine(base or each.start.date(), hour)
                    return start, start + (each.end - each.start)

                marks = {f"hour {how}": 1.0, "half of a stretch": float(inside)}
                yield Timing(
                    "start" if day is None else "day and start", start_at, [clock, *([day] if day else [])], marks
                )
                for end in clocks:
                    if (
                        end.begin > clock.begin
                        and not end.overlaps(clock)
                        and end.value.lead in ("until", "to", "by")
                        and not inside
                    ):
                        for stop, how_end in _hours(end.value, old.end, ""):

                            def both(
                                each: Occurrence, hour: time = hour, stop: time = stop, base: date | None = base
                            ) -> tuple[Any, Any]:
                                start = datetime.combine(base or each.start.date(), hour)
                                last = datetime.combine(start.date(), stop)
                                return start, last if last > start else last + DAY

                            yield Timing(
                                "start and end",
                                both,
                                [clock, end, *([day] if day else [])],
                                {**marks, f"end {how_end}": 1.0},
                            )
                for length in chart.lengths[:2]:
                    if not length.overlaps(clock) and length.value.minutes and length.value.minutes <= 720:

                        def lasting(
                            each: Occurrence,
                            hour: time = hour,
                            base: date | None = base,
                            minutes: int = length.value.minutes,
                        ) -> tuple[Any, Any]:
                            start = datetime.combine(base or each.start.date(), hour)
                            return start, start + timedelta(minutes=minutes)

                        yield Timing("start and length", lasting, [clock, length, *([day] if day else [])], marks)
                if day is None:

                    def keeping_end(each: Occurrence, hour: time = hour) -> tuple[Any, Any]:
                        start = datetime.combine(each.start.date(), hour)
                        return (start if start < each.end else start - DAY), each.end

                    yield Timing("start, same end", keeping_end, [clock], marks)
            if day is None:
                for stop, how in _hours(clock.value, old.end, part):

                    def ending(each: Occurrence, stop: time = stop) -> tuple[Any, Any]:
                        last = datetime.combine(each.start.date(), stop)
                        return each.start, last if last >= each.start else last + DAY

                    yield Timing("end", ending, [clock], {f"hour {how}": 1.0, "half of a stretch": float(inside)})
    for length in chart.lengths[:3]:
        yield from _by_length(length, old, lasts)
    yield from _special(chart, targets)


def _special(chart: Chart, targets: TargetSet) -> Iterator[Timing]:
    """The whole day; behind or before another event; two that take each other's time."""
    lows, old = chart.text.lows, targets.first
    said = " ".join(lows)
    if not is_whole(old) and any(
        words in said for words in ("all day", "whole day", "all the day", "full day", "entire day")
    ):
        yield Timing("whole day", lambda each: (each.start.date(), each.start.date() + DAY), [])
    for anchor in chart.beside:
        if anchor.value[2] in {member.event.uid for member in targets.members} or any(
            i in targets.words for i in range(anchor.begin, anchor.begin + 1)
        ):
            continue
        way, moment, _ = anchor.value

        def beside(each: Occurrence, way: str = way, moment: datetime = moment) -> tuple[Any, Any]:
            lasts = each.end - each.start
            return (moment, moment + lasts) if way == "after" else (moment - lasts, moment)

        yield Timing(f"beside, {way}", beside, [anchor])
    if len(targets.members) == 2 and "swap" in cues_of(chart.text.lows):
        one, other = targets.members

        def swapped(each: Occurrence) -> tuple[Any, Any]:
            begin = (other if each is one else one).start
            return begin, begin + (each.end - each.start)

        yield Timing("swapped", swapped, [])


def _by_day(chart: Chart, day: Piece[Days], old: Occurrence) -> Iterator[Timing]:
    first, last = day.value.first, day.value.last
    if is_whole(old):

        def whole(each: Occurrence) -> tuple[Any, Any]:
            if last > first and not day.value.is_period:
                return first, last + DAY
            return first, first + (each.end - each.start)

        yield Timing("whole days", whole, [day], {"stretch of days": float(last > first)})

        def start_only(each: Occurrence) -> tuple[Any, Any]:
            return first, each.end.date()

        def last_only(each: Occurrence) -> tuple[Any, Any]:
            return each.start.date(), last + DAY

        if first < old.end.date():
            yield Timing("first day", start_only, [day])
        if last >= old.start.date():
            yield Timing("last day", last_only, [day])
        return
    if day.value.is_period and last > first:
        if not any(word in chart.text.lows for word in ("week", "month")) or (last - first).days != 6:
            return

        def other_week(each: Occurrence) -> tuple[Any, Any]:
            moved = datetime.combine(first + timedelta(days=each.start.weekday()), each.start.time())
            return moved, moved + (each.end - each.start)

        yield Timing("week", other_week, [day])
        return

    def other_day(each: Occurrence) -> tuple[Any, Any]:
        moved = datetime.combine(first, each.start.time())
        return moved, moved + (each.end - each.start)

    yield Timing("day", other_day, [day])


def _by_stretch(
    chart: Chart, day: Piece[Days] | None, stretch: Piece[Stretch], old: Occurrence, part: str
) -> Iterator[Timing]:
    for hour, how in _hours(stretch.value.begin, old.start, part):
        for stop in _stops(stretch.value.end, hour):

            def between(each: Occurrence, hour: time = hour, stop: time = stop) -> tuple[Any, Any]:
                start = datetime.combine(day.value.first if day is not None else each.start.date(), hour)
                last = datetime.combine(start.date(), stop)
                return start, last if last > start else last + DAY

            yield Timing(
                "stretch" if day is None else "day and stretch",
                between,
                [stretch, *([day] if day else [])],
                {f"hour {how}": 1.0},
            )


def _stops(clock: Clock, begin: time) -> list[time]:
    if not clock.is_open:
        return [time(clock.hour % 24, clock.minute)]
    both = [time(clock.hour % 24, clock.minute), time((clock.hour + 12) % 24, clock.minute)]
    later = sorted(each for each in both if each > begin)
    return later[:1] or [min(both)]


def _by_length(length: Piece[Length], old: Occurrence, lasts: timedelta) -> Iterator[Timing]:
    value = length.value
    if value.months:
        return
    span = timedelta(days=value.days, minutes=value.minutes)
    if not span or (is_whole(old) and value.minutes):
        return

    def plain(moment: datetime, each: Occurrence) -> Any:
        return moment.date() if is_whole(each) else moment

    yield Timing("later", lambda each: (plain(each.start + span, each), plain(each.end + span, each)), [length])
    yield Timing("earlier", lambda each: (plain(each.start - span, each), plain(each.end - span, each)), [length])
    yield Timing("longer", lambda each: (plain(each.start, each), plain(each.end + span, each)), [length])
    if span < lasts:
        yield Timing("shorter", lambda each: (plain(each.start, each), plain(each.end - span, each)), [length])
        yield Timing("start later", lambda each: (plain(each.start + span, each), plain(each.end, each)), [length])
    yield Timing("start earlier", lambda each: (plain(each.start - span, each), plain(each.end, each)), [length])
    if span != lasts:
        yield Timing("lasting", lambda each: (plain(each.start, each), plain(each.start + span, each)), [length])
