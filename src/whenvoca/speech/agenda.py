"""Events as requests speak of them: how one is shown, whether words mean it, and what is free between them."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from whenvoca.speech.request import Surroundings, Target

_DAY = timedelta(days=1)


def show_moment(moment: datetime) -> str:
    """A moment in a sentence: Thu 18 Mar 10:40."""
    return f"{moment:%a} {moment.day} {moment:%b %H:%M}"


def show_day(day: date, today: date | None = None) -> str:
    """A day, with its year where that is another one: Thu 18 Mar."""
    year = f" {day.year}" if today is not None and day.year != today.year else ""
    return f"{day:%a} {day.day} {day:%b}{year}"


def show_target(target: Target, zone: ZoneInfo, today: date | None = None) -> str:
    """An event in a sentence: Thu 18 Mar 10:40–11:25 mirror wash."""
    event = target.event
    if not isinstance(event.start, datetime) or not isinstance(event.end, datetime):
        last = event.end - _DAY
        more = f"–{show_day(last, today)}" if last != event.start else ""
        return f"{show_day(event.start, today)}{more} {event.title}"
    start, end = (each.astimezone(zone) for each in (event.start, event.end))
    is_near = end.date() == start.date() or (end - start < _DAY and end.time() < start.time())
    other = f"{end:%H:%M}" if is_near else f"{show_day(end, today)} {end:%H:%M}"
    return f"{show_day(start, today)} {start:%H:%M}–{other} {event.title}"


def free_gaps(
    low: datetime,
    high: datetime,
    taken: list[tuple[datetime, datetime]],
    around: Surroundings,
    length: timedelta | None,
) -> list[tuple[datetime, datetime]]:
    """The free stretches between two moments, within working hours, that hold the length."""
    least = length or timedelta(minutes=15)
    found = []
    day = low.astimezone(around.zone).date()
    while day <= high.astimezone(around.zone).date():
        if day.weekday() in around.workdays or (high - low) <= _DAY:
            begin = max(low, datetime.combine(day, around.hours[0], tzinfo=around.zone), around.now)
            end = min(high, datetime.combine(day, around.hours[1], tzinfo=around.zone))
            for start, stop in sorted(taken):
                if stop <= begin or start >= end:
                    continue
                if start - begin >= least:
                    found.append((begin, start))
                begin = max(begin, stop)
            if end - begin >= least:
                found.append((begin, end))
        day += _DAY
    return found
