"""What is answered: how a request was understood, and what came of it, in a sentence or two."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.speech.agenda import show_day, show_target
from whenvoca.speech.request import Request, Target, Wish
from whenvoca.speech.rules import show_rule
from whenvoca.values.texts import show_value

_MOST = 12
_MOST_DETAILED = 5
_SCOPES = {"this": "", "following": " and all after it", "all": ", the whole series"}


def show_wish(wish: Wish, zone: ZoneInfo, today: date | None = None) -> str:
    """A wished event as it is said back: Thu 18 Mar 10:40–11:25 mirror wash."""
    start, end = wish.start, wish.end
    if isinstance(start, datetime) and isinstance(end, datetime):
        local, last = start.astimezone(zone), end.astimezone(zone)
        near = last.date() == local.date() or (last - local < timedelta(days=1) and last.time() < local.time())
        when = (
            f"{show_day(local, today)} {local:%H:%M}–{last:%H:%M}"
            if near
            else f"{show_day(local, today)} {local:%H:%M} to {show_day(last, today)} {last:%H:%M}"
        )
    elif start is not None and end is not None:
        final = end - timedelta(days=1)
        when = (
            f"{show_day(start, today)} all day"
            if final == start
            else f"{show_day(start, today)} to {show_day(final, today)}"
        )
    else:
        when = ""
    more = [f"in {wish.location}"] if wish.location else []
    more += [f"with {', '.join(wish.attendees)}"] if wish.attendees else []
    more += [show_rule(wish.repeat, zone)] if wish.repeat else []
    more += [f"but not {', '.join(show_day(each, today) for each in wish.left_out)}"] if wish.left_out else []
    more += [f"reminder {wish.reminder} min before"] if wish.reminder is not None else []
    return " ".join(part for part in (when, wish.title, *more) if part)


def reply_to(request: Request, zone: ZoneInfo, *, done: bool = False) -> str:
    """The answer to a request; ``done`` where it was carried out."""
    if request.question:
        return request.question
    match request.intent:
        case "create":
            said = "; ".join(show_wish(each, zone, request.today) for each in request.events)
            return f"{'Made' if done else 'Understood'}: {said}"
        case "change":
            told = [
                f"{show_target(each, zone, request.today)}{_SCOPES[request.scope]}"
                f" → {_changes(request.changes_of(each), zone, request.today)}"
                for each in request.targets[:_MOST]
            ]
            return f"{'Changed' if done else 'Understood'}: " + "\n  ".join(told)
        case "delete":
            head = "Deleted" if done else "To be deleted"
            if len(request.targets) == 1:
                return f"{head}: {show_target(request.targets[0], zone, request.today)}{_SCOPES[request.scope]}"
            lines = [f"  {show_target(each, zone)}" for each in request.targets[:_MOST]]
            tail = [f"  and {len(request.targets) - _MOST} more"] if len(request.targets) > _MOST else []
            return "\n".join([f"{head}, {len(request.targets)} events:", *lines, *tail])
        case "query" if request.seconds is not None:
            return _total(request, zone)
        case "query":
            if not request.targets:
                return "Nothing."
            count = [f"{request.count}:"] if request.wants_count else []
            if request.wants_details:
                return "\n".join(_details(each, zone, request.today) for each in request.targets[:_MOST_DETAILED])
            if len(request.targets) == 1:
                return "\n".join([*count, _in_full(request.targets[0], zone, request.today)])
            found = [show_target(each, zone, request.today) for each in request.targets[:_MOST]]
            more = [f"and {len(request.targets) - _MOST} more"] if len(request.targets) > _MOST else []
            return "\n".join([*count, *found, *more])
        case "free":
            return _free(request, zone)
        case "undo":
            return "There is nothing to undo."
        case "yes" | "no" | "choose":
            return "There is no question open."
    return request.answer or 'That is not a request I understand; nothing was changed. Say "help" for what I can do.'


def _total(request: Request, zone: ZoneInfo) -> str:
    """How much time it took, and the events behind that; of whom how much."""
    assert request.period is not None
    assert request.seconds is not None
    low, last = request.period[0].astimezone(zone), request.period[1].astimezone(zone) - timedelta(days=1)
    when = show_day(low, request.today)
    when += f" to {show_day(last, request.today)}" if last.date() > low.date() else ""
    count = len(request.targets)
    head = f"{_hours(request.seconds)} in {count} event{'s' * (count != 1)}, {when}"
    if request.shares is not None:
        return "\n".join([head, *(f"  {name}: {_hours(seconds)}" for name, seconds in request.shares[:_MOST])])
    found = [f"  {show_target(each, zone, request.today)}" for each in request.targets[:_MOST]]
    more = [f"  and {count - _MOST} more"] if count > _MOST else []
    return "\n".join([head, *found, *more])


def _hours(seconds: int) -> str:
    hours = round(seconds / 3600, 2)
    return f"{hours:g} hour{'s' * (hours != 1)}"


def tell_offer(request: Request, zone: ZoneInfo, today: date | None) -> str:
    """A reading that is offered, as what would be done."""
    match request.intent:
        case "create":
            return "make " + "; ".join(show_wish(each, zone, today) for each in request.events)
        case "change":
            told = [
                f"{show_target(each, zone, today)} → {_changes(request.changes_of(each), zone, today)}"
                for each in request.targets[:_MOST_DETAILED]
            ]
            return "change " + "; ".join(told) + _SCOPES[request.scope]
        case "delete":
            told = [show_target(each, zone, today) for each in request.targets[:_MOST_DETAILED]]
            more = len(request.targets) - len(told)
            return "delete " + "; ".join(told) + (f" and {more} more" if more else "") + _SCOPES[request.scope]
    assert request.period is not None
    low, high = (each.astimezone(zone) for each in request.period)
    what = "whether you are free" if request.intent == "free" else "what is on"
    if request.intent == "query" and len(request.targets) == 1:
        return f"tell about {show_target(request.targets[0], zone, today)}"
    if high - low > timedelta(days=300):
        return f"tell {what} from {show_day(low, today)} on"
    if (low.hour, low.minute, high.hour, high.minute) == (0, 0, 0, 0):
        last = high - timedelta(days=1)
        span = (
            show_day(low, today) if last.date() == low.date() else f"{show_day(low, today)} to {show_day(last, today)}"
        )
        return f"tell {what}{' on' if request.intent == 'free' else ''} {span}"
    return f"tell {what} {show_day(low, today)} {low:%H:%M}–{high:%H:%M}"


def _in_full(target: Target, zone: ZoneInfo, today: date | None) -> str:
    """An event with its place and its people."""
    event = target.event
    place = f" in {event.location}" if event.location else ""
    people = ", ".join(each.name or each.address for each in event.attendees)
    return show_target(target, zone, today) + place + (f" with {people}" if people else "")


def _details(target: Target, zone: ZoneInfo, today: date | None) -> str:
    """All that an event says, a line each."""
    event = target.event
    people = [each.name or each.address for each in event.attendees]
    reminders = [f"{show_value(-each)} before" if each.to_seconds() < 0 else show_value(each) for each in event.alarms]
    found = {
        "place": [event.location] if event.location else [],
        "people": people,
        "organizer": [event.organizer] if event.organizer else [],
        "repeats": [show_rule(event.rule, zone)] if event.rule else ["yes"] if event.occurrence is not None else [],
        "reminder": reminders,
        "details": [event.details] if event.details else [],
        "calendar": [target.calendar],
    }
    return "\n".join(
        [show_target(target, zone, today), *[f"  {name}: {', '.join(each)}" for name, each in found.items() if each]]
    )


def _changes(changes: dict[str, Any], zone: ZoneInfo, today: date | None) -> str:
    parts = []
    for name, value in changes.items():
        if isinstance(value, datetime):
            local = value.astimezone(zone)
            parts.append(f"{name} {show_day(local, today)} {local:%H:%M}")
        elif isinstance(value, date):
            is_end = name == "end"  # the first day free again
            parts.append(f"{'last' if is_end else 'first'} day {show_day(value - timedelta(days=is_end), today)}")
        elif isinstance(value, list):
            parts.append(f"{name} {', '.join(value)}")
        else:
            parts.append(f"{name} {value}")
    return ", ".join(parts)


def _free(request: Request, zone: ZoneInfo) -> str:
    slots = [
        f"{show_day(low.astimezone(zone))} {low.astimezone(zone):%H:%M}–{high.astimezone(zone):%H:%M}"
        for low, high in request.slots[:_MOST]
    ]
    if request.searches:
        more = f"; and {len(request.slots) - _MOST} more" if len(request.slots) > _MOST else ""
        return f"Free: {'; '.join(slots)}{more}" if slots else "Nothing is free then."
    if request.free and not request.targets:
        return "No, free." if request.asks_busy else "Yes, free."
    taken = "; ".join(show_target(each, zone, request.today) for each in request.targets[:5])
    if request.free:
        return "Free: " + "; ".join(slots)
    return f"{'Yes, busy' if request.asks_busy else 'No'}: {taken}" + (f"\nFree: {'; '.join(slots)}" if slots else "")
