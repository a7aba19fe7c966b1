"""What was booked for whoever sent an entry: in words, and as an event that names nobody else."""

from __future__ import annotations

from datetime import date, datetime, time
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Attendee, Event
from whenvoca.values.texts import show_value
from whenvoca.web.outcomes import Booked


def in_words(booked: Booked, zone: ZoneInfo) -> dict[str, str]:
    """Day, time and place as people read them."""
    start, end = booked.start, booked.end
    if not isinstance(start, datetime):
        return {"day": day_in_words(start), "time": "", "location": booked.location}
    start = start.astimezone(zone)
    told = {"day": day_in_words(start.date()), "time": f"{start:%H:%M}", "location": booked.location}
    if isinstance(end, datetime):
        end = end.astimezone(zone)
        if end.date() == start.date():
            told["time"] = f"{start:%H:%M} to {end:%H:%M}"
        elif start.time() == end.time() == time():  # whole days: it is free again on the last one
            told |= {"day": f"{day_in_words(start.date())} to {day_in_words(end.date())}", "time": ""}
        else:
            days = f"{day_in_words(start.date())}, {start:%H:%M}, to {day_in_words(end.date())}, {end:%H:%M}"
            told |= {"day": days, "time": ""}
    return told


def day_in_words(day: date) -> str:
    """A day with its weekday."""
    return f"{day:%A} {show_value(day)}"


def as_event(booked: Booked, address: str) -> Event:
    """The event with nobody but the sender at that address."""
    return Event(
        uid=booked.uid,
        title=booked.title,
        start=booked.start,
        end=booked.end or booked.start,
        location=booked.location,
        attendees=(Attendee(address),) if address else (),
    )
