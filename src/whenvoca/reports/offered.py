"""How much of the hours that are on offer was used: each night from eight to five, say, at each location."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.calendars.free_time import joined
from whenvoca.reports.hours import Booking, Labels, Reckoning, counted


class Offer(Struct, frozen=True):
    """The hours on offer each day; one that ends no later than it begins goes on past midnight."""

    begin: time
    end: time

    def windows(self, low: datetime, high: datetime, zone: ZoneInfo) -> Iterator[tuple[datetime, datetime]]:
        """The hours on offer that begin in a stretch of time, in UTC."""
        day = low.astimezone(zone).date()
        while (begin := datetime.combine(day, self.begin, zone).astimezone(UTC)) < high:
            until = day + timedelta(days=self.end <= self.begin)
            if begin >= low:
                yield begin, datetime.combine(until, self.end, zone).astimezone(UTC)
            day += timedelta(days=1)


def read_offer(text: str) -> Offer | None:
    """The offer that is written 20:00-05:00; None where it is none."""
    try:
        begin, end = (time.fromisoformat(each.strip()) for each in text.replace("\u2013", "-").split("-"))
    except ValueError:
        return None
    return Offer(begin, end)


class Used(Struct, frozen=True):
    """Of one location: the seconds that were on offer, and those of them that were taken, each once."""

    location: str
    used: int
    offered: int


def use_of(bookings: Sequence[Booking], offer: Offer, how: Reckoning) -> list[Used]:
    """How much of an offer was used at each location that the bookings name, the most used first."""
    windows = list(offer.windows(how.begin, how.end, how.zone))
    offered = sum(_seconds(*each) for each in windows)
    kept = counted(bookings, how)[0]
    labels = Labels(kept, ("location",), how)
    taken: dict[str, list[tuple[datetime, datetime]]] = {}
    for each in kept:
        for (location,) in labels(each, each.start):
            taken.setdefault(location, []).append((each.start, each.end))
    found = [Used(location, _within(joined(spans), windows), offered) for location, spans in taken.items()]
    return sorted(found, key=lambda each: (-each.used, each.location))


def _within(spans: Sequence[tuple[datetime, datetime]], windows: Sequence[tuple[datetime, datetime]]) -> int:
    return sum(
        _seconds(max(start, begin), min(end, until))
        for start, end in spans
        for begin, until in windows
        if start < until and end > begin
    )


def _seconds(begin: datetime, end: datetime) -> int:
    return round((end - begin).total_seconds())
