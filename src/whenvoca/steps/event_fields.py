"""The fields of an event in a step: what they are, and how they become an event or change one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.writer import carried
from whenvoca.engine.acting.meeting_links import with_link, without_link
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.things.entry import EntryThing
from whenvoca.errors import RowFault
from whenvoca.language.colours import COLOURS
from whenvoca.language.definitions import FieldDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.operations import to_instant
from whenvoca.language.repeats import NoRepeat, parse_repeat, split_until
from whenvoca.steps.meeting_links import LINK_FIELD
from whenvoca.values.addresses import split_addresses, to_address
from whenvoca.values.dates import shape_date
from whenvoca.values.durations import Duration, add_to_moment
from whenvoca.values.kinds import is_empty
from whenvoca.values.rules import first_wall
from whenvoca.values.texts import show_value
from whenvoca.values.usable import refuse_unusable, within_the_calendar
from whenvoca.values.zones import to_moment, told_apart

_HOUR = Duration(seconds=3600)
_BUSY = ("yes", "no", "tentative", "unavailable")
_CLASH = ("allow", "refuse", "tentative", "ask")
TIMES = ("start", "end", "length", "first-day", "last-day")


def to_event(call: StepCall, uid: str, mark: str, notes: list[str]) -> Event:
    """The event that the step's fields describe. Raises RowFault where a field cannot be read."""
    return event_at(call, uid, mark, *_usable(_times, call, notes))


def event_at(call: StepCall, uid: str, mark: str, start: datetime | date, end: datetime | date) -> Event:
    """The event that the step's fields describe at that time. Raises RowFault where a field cannot be read."""
    wanted = call.value("answer-wanted", False)
    invite = invites(call)
    attendees = [
        *_attendees(call, "attendees", optional=False, invite=invite, wanted=wanted),
        *_attendees(call, "optional", optional=True, invite=invite, wanted=wanted),
    ]
    return Event(
        uid=uid,
        title=to_title(call),
        start=start,
        end=end,
        location=carried(call.text("location")),
        details=carried(call.text("details")),
        attendees=tuple({each.address.lower(): each for each in reversed(attendees)}.values())[::-1],
        organizer=call.people.organizer if invite and attendees else "",
        alarms=to_reminders(call),
        rule=_rule(call, start),
        busy=_word(call, "busy", _BUSY, "yes"),  # type: ignore[arg-type]
        priority=to_priority(call),
        colour=_colour(call),
        categories=tuple(_texts(call, "category")),
        private=bool(call.value("private", False)),
        origin=mark,
    )


def invites(call: StepCall) -> bool:
    """Whether the event invites its attendees: as the step says, else as its calendar does."""
    return bool(call.value("invite", call.stage.calendar(call.place).invite in ("us", "server")))


def to_title(call: StepCall) -> str:
    """The title that the step gives, in one line."""
    return " ".join(carried(call.text("title")).split())


def changed_event(call: StepCall, old: Event, notes: list[str]) -> Event:
    """The event with the fields that stand in the step; an empty one clears what was there. Raises RowFault."""
    new = replace(old, sequence=old.sequence + 1)
    if any(call.gives(word) for word in TIMES):
        start, end = _usable(_changed_times, call, old, notes)
        new = replace(new, start=start, end=end)
    given: dict[str, Any] = {}
    if call.gives("title"):
        given["title"] = to_title(call)
    for word in ("location", "details"):
        if call.gives(word):
            given[word] = carried(call.text(word))
    if call.gives("details") and without_link(old.details, old) != old.details:  # the link stays in them
        given["details"] = with_link(replace(old, details=given["details"]), old.meeting_link).details
    if call.gives("attendees") or call.gives("optional") or call.gives("invite") or call.gives("answer-wanted"):
        given["attendees"] = _changed_attendees(call, old)
        if call.value("invite", bool(old.organizer)) and given["attendees"]:
            given["organizer"] = old.organizer or call.people.organizer
    if call.gives("reminder"):
        given["alarms"] = to_reminders(call)
    if call.gives("repeat"):
        given["rule"] = _rule(call, new.start)
    if call.gives("busy"):
        given["busy"] = _word(call, "busy", _BUSY, "yes")
    if call.gives("priority"):
        given["priority"] = to_priority(call)
    if call.gives("colour"):
        given["colour"] = _colour(call)
    if call.gives("category"):
        given["categories"] = tuple(_texts(call, "category"))
    if call.gives("private"):
        given["private"] = bool(call.value("private", False))
    return replace(new, **given)


def _usable(
    times: Callable[..., tuple[datetime | date, datetime | date]], *given: Any
) -> tuple[datetime | date, datetime | date]:
    """Start and end as they are written. Raises RowFault where a calendar cannot hold them."""
    with within_the_calendar("its time"):
        start, end = times(*given)
    refuse_unusable(start, "start")
    refuse_unusable(end, "end")
    return told_apart(start), told_apart(end)


def _changed_times(call: StepCall, old: Event, notes: list[str]) -> tuple[datetime | date, datetime | date]:
    """New times; what is given alone keeps the other: a new start keeps the length, a new end or length the start."""
    is_whole = call.value("first-day") is not None or call.value("last-day") is not None
    if is_whole and call.value("first-day") is None and not isinstance(old.start, datetime):
        return _whole_days(old.start, call.value("last-day"))
    if is_whole or (call.value("start") is not None and (call.gives("end") or call.gives("length"))):
        return _times(call, notes)
    if (call.gives("start") or call.gives("first-day")) and call.value("start") is None:
        raise RowFault("the start is empty", fix="an event cannot be without a start")
    if not isinstance(old.start, datetime) or not isinstance(old.end, datetime):
        return _times(call, notes)  # from whole days to a time
    start = _in_zone(call.value("start"), call) if call.gives("start") else old.start
    end, length = _end_of_value(call, start), call.value("length")
    if end is not None:
        pass
    elif isinstance(length, Duration):
        end = add_to_moment(start, length)
    else:
        end = (start.astimezone(UTC) + (old.end - old.start)).astimezone(start.tzinfo)
    if end.astimezone(UTC) <= start.astimezone(UTC) and end - start != old.end - old.start:
        raise RowFault(f"the end {show_value(end)} does not come after the start {show_value(start)}")
    return start, end


def _changed_attendees(call: StepCall, old: Event) -> tuple[Attendee, ...]:
    """Who comes now; who stays keeps the answer that was given."""
    invite, wanted = call.value("invite", bool(old.organizer)), call.value("answer-wanted", False)
    before = {each.address.lower(): each for each in old.attendees}
    found: dict[str, Attendee] = {}
    for word in ("attendees", "optional"):
        optional = word == "optional"
        if call.gives(word):
            fresh = list(_attendees(call, word, optional=optional, invite=invite, wanted=wanted))
        else:
            fresh = [each for each in old.attendees if each.optional == optional]
        for each in fresh:
            key = each.address.lower()
            stays = before.get(key)
            found.setdefault(key, replace(stays, optional=optional) if stays is not None else each)
    return tuple(found.values())


def _times(call: StepCall, notes: list[str]) -> tuple[datetime | date, datetime | date]:
    first_day, last_day = call.value("first-day"), call.value("last-day")
    start, length = call.value("start"), call.value("length")
    if first_day is not None or last_day is not None:
        if start is not None:
            raise RowFault("both start and first-day have a value", fix="an event has a start, or whole days")
        return _whole_days(first_day, last_day)
    if start is None:
        raise RowFault("the start is empty", fix="give a start, or first-day and last-day")
    start = _in_zone(start, call)
    end = _end(call, start, notes)
    if end is None:
        if length is None and (given := next((word for word in ("end", "length") if call.gives(word)), "")):
            raise RowFault(f"the {given} is empty", fix=f"fill it, or give a default behind the {given}: … or 1 hour")
        span = length if length is not None else _HOUR
        if not isinstance(span, Duration):
            raise RowFault(f"the length {show_value(span)} is no duration")
        end = add_to_moment(start, span)
    elif length is not None:
        raise RowFault("both end and length have a value", fix="give one of them")
    first, last = start.astimezone(UTC), end.astimezone(UTC)
    if last == first:
        raise RowFault(f"start and end are the same, {show_value(start)}", fix="give a later end")
    if last < first:
        raise RowFault(f"the end {show_value(end)} comes before the start {show_value(start)}", fix="give a later end")
    return start, end


def _end_of_value(call: StepCall, start: datetime) -> datetime | None:
    """The end as it is given: a moment, or a length from the start (… or 1 hour)."""
    end = call.value("end")
    if isinstance(end, Duration):
        return add_to_moment(start, end)
    return None if end is None else _in_zone(end, call)


def _end(call: StepCall, start: datetime, notes: list[str]) -> datetime | None:
    """The end; one written `DATE at TIME` with the start's date goes over midnight by itself."""
    if not call.shares_day("start", "end"):
        return _end_of_value(call, start)
    parts = call.at_parts("end")
    assert parts is not None
    day, clock = parts
    if day is None or clock is None:
        return _end_of_value(call, start)
    if clock < start.time():
        day += timedelta(days=1)
        notes.append(f"{clock.isoformat('minutes')} is the next day")
    return _named_zone(to_moment(datetime.combine(day, clock), call.scope.zone))


def _in_zone(value: Any, call: StepCall) -> datetime:
    return _named_zone(to_instant(value, call.scope.zone), call.scope.zone)


def _named_zone(moment: datetime, zone: ZoneInfo | None = None) -> datetime:
    """A moment as it is written: in whole seconds, and one with a bare offset in the zone that is meant."""
    moment = moment.replace(microsecond=0) if moment.microsecond else moment
    return moment if hasattr(moment.tzinfo, "key") or zone is None else moment.astimezone(zone)


def _whole_days(first: Any, last: Any) -> tuple[date, date]:
    if first is None:
        raise RowFault("the first-day is empty and the last-day is not", fix="give both")
    first = first.date() if isinstance(first, datetime) else first
    last = first if last is None else last.date() if isinstance(last, datetime) else last
    if last < first:
        raise RowFault(f"the last day {show_value(last)} comes before the first day {show_value(first)}")
    return first, last + timedelta(days=1)


def _texts(call: StepCall, word: str) -> list[str]:
    value = call.value(word)
    if value is None:
        return []
    found: list[str] = []
    for item in value if isinstance(value, list | tuple) else [value]:
        if not is_empty(item):
            found += [carried(show_value(item))]
    return found


def _attendees(call: StepCall, word: str, *, optional: bool, invite: bool, wanted: bool) -> Iterator[Attendee]:
    for text in _texts(call, word):
        for piece in split_addresses(text):
            address = to_address(call.people.to_address(piece))
            if not address:
                raise RowFault(
                    f'{word}: "{piece}" is neither an email address nor a name from [people]',
                    fix="correct it, or add the person to whenvoca.toml",
                )
            yield Attendee(address, optional, "NEEDS-ACTION" if invite or wanted else "", bool(wanted))


def to_reminders(call: StepCall) -> tuple[Duration, ...]:
    """The reminders that the step gives. Raises RowFault."""
    value = call.value("reminder")
    spans = value if isinstance(value, list) else [] if value is None else [value]
    for span in spans:
        if not isinstance(span, Duration):
            raise RowFault(f"the reminder {show_value(span)} is no duration")
    return tuple(dict.fromkeys(span.in_days() for span in spans))


def _rule(call: StepCall, start: datetime | date) -> str:
    value = call.value("repeat")
    if value is None:
        return ""
    parts, until = value if isinstance(value, tuple) else _read_repeat(show_value(value))
    rule = ";".join(f"{name}={each}" for name, each in parts.items())
    if until is not None:
        rule += ";UNTIL=" + _until(until, start, call)
    wall = start.replace(tzinfo=None) if isinstance(start, datetime) else datetime(start.year, start.month, start.day)
    first = first_wall(rule, wall, start.tzinfo if isinstance(start, datetime) else call.scope.zone)
    if first is None:
        raise RowFault(f"the repetition gives no day from its start {show_value(start)} on")
    if first.date() != wall.date():
        raise RowFault(
            f"the start {show_value(start)} is no day of its repetition; the first one would be "
            f"{show_value(first.date())}",
            fix="begin on a day on which it takes place",
        )
    return rule


def _read_repeat(text: str) -> tuple[dict[str, str], date | None]:
    phrase, _, until = split_until(text)
    try:
        parts = parse_repeat(phrase)
    except NoRepeat as error:
        raise RowFault(str(error)) from error
    if not until:
        return parts, None
    shaped = shape_date(until)
    if shaped is None or not shaped.is_settled:
        raise RowFault(f'"{until}" is no date that can be read in one way', fix="write it 2027-06-30")
    return parts, shaped.fits[""]


def _until(until: Any, start: datetime | date, call: StepCall) -> str:
    """UNTIL has the type of DTSTART, and is in UTC where that has a zone (RFC 5545 3.3.10)."""
    if not isinstance(start, datetime):
        day: date = until.date() if isinstance(until, datetime) else until
        return day.strftime("%Y%m%d")
    if not isinstance(until, datetime):
        zone = start.tzinfo if hasattr(start.tzinfo, "key") else call.scope.zone
        until = datetime(until.year, until.month, until.day, 23, 59, 59, tzinfo=zone)
    return f"{until.astimezone(UTC):%Y%m%dT%H%M%SZ}"


def _word(call: StepCall, word: str, choices: tuple[str, ...], default: str) -> str:
    value = call.value(word)
    text = default if value is None else show_value(value).lower()
    if text not in choices:
        raise RowFault(f'{word} is never "{text}"', fix=f"it is one of: {', '.join(choices)}")
    return text


def to_priority(call: StepCall) -> int:
    """The priority that the step gives. Raises RowFault."""
    value = call.value("priority", 0)
    if not isinstance(value, int) or not 0 <= value <= 9:
        raise RowFault(f"the priority {show_value(value)} is no whole number from 0 to 9")
    return value


def _colour(call: StepCall) -> str:
    text = call.text("colour").lower().replace(" ", "")
    if text and text not in COLOURS:
        raise RowFault(f'"{text}" is no colour name of CSS', fix="such as teal, crimson, steelblue")
    return text


def _taken(begin: datetime, end: datetime) -> str:
    """When time is taken; of whole days the last one too, which is not free yet."""
    if begin.time() != end.time() or begin.time() != time() or end <= begin:
        return f"{show_value(begin)} to {show_value(end)}"
    last = end.date() - timedelta(days=1)
    days = show_value(last) if last == begin.date() else f"{show_value(begin.date())} up to {show_value(last)}"
    return f"{days}; it is free again from {show_value(end.date())} on"


def heed_clashes(call: StepCall, event: Event, clash: str, notes: list[str]) -> Event:
    """The event, tentative if something takes its time and the step, or somebody who is asked, says so.

    Raises RowFault where they say no; WaitingFault where nobody is there to be asked.
    """
    if clash == "allow" or not event.takes_time:
        return event
    if clash not in _CLASH:
        raise RowFault(f'clash is never "{clash}"', fix=f"it is one of: {', '.join(_CLASH)}")
    others = call.stage.find_clashes(call.place, event)
    if not others:
        return event
    zone = call.scope.zone
    other = others[0]
    begin, end = (each.astimezone(zone) for each in other.span(zone))
    more = f" and {len(others) - 1} more" if len(others) > 1 else ""
    title = "something" if isinstance(call.subject, EntryThing) else f'"{other.title}"'  # strangers hear only when
    said = f"{title} takes that time, {_taken(begin, end)}{more}"
    if clash == "ask":
        about = f"{event.title} {event.start.isoformat()}"
        text = f'{said}. Put "{event.title}" there all the same?'
        clash = call.ask(Question("clash", text, choices=("yes", "no", "tentative"), about=about))
    if clash == "yes":
        return event
    if clash in ("refuse", "no"):
        raise RowFault(said)
    notes.append(f"tentative: {said}")
    return replace(event, busy="tentative")


# --- the definition


def check_changed_fields(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    """What is wrong with the fields of a changed event together."""
    if "end" in given and "length" in given:
        yield "length", "end and length do not go together", "leave one of them"


def check_fields(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    """What is wrong with the fields of a new event together, as (field, message, mend)."""
    if "start" not in given and "first-day" not in given:
        yield "", "the start is missing", "give start, or first-day and last-day"
    yield from check_changed_fields(given)
    if "last-day" in given and "first-day" not in given:
        yield "last-day", "last-day stands without first-day", "give both"
    if "end" in given and "start" not in given:
        yield "end", "end stands without start", "give both"


def _field(name: str, kind: Any, meaning: str, **more: Any) -> FieldDefinition:
    return FieldDefinition(name=name, type=kind, meaning=meaning, **more)


EVENT_FIELDS: tuple[FieldDefinition, ...] = (
    _field("title", "text", "What it is called.", example='"{Target} with {Instrument}"'),
    _field("start", "moment", "When it begins; a date is the first moment of that day.", example="Night-of at From"),
    _field(
        "end",
        "moment",
        "The first moment free again. Written DATE at TIME with the start's date it goes over midnight by itself.",
        example="Night-of at To",
    ),
    _field("length", "duration", "How long it takes, instead of an end.", default="1 hour", example="90 minutes"),
    _field("first-day", "date", "The first whole day taken.", example="Closed-from"),
    _field(
        "last-day", "date", "The last whole day taken; taken as well.", default="the first day", example="Closed-to"
    ),
    _field("zone", "zone", "The zone in which the fields of this step are read.", example='"Europe/Lisbon"'),
    _field("location", "text", "Where it is.", example="Venue"),
    _field("details", "text", "What else there is to say.", example="Notes"),
    _field("attendees", "addresses", "Who comes: addresses or names from [people].", example="Observers"),
    _field("optional", "addresses", "Who may come.", example='"rui"'),
    _field(
        "invite",
        "yes-no",
        "Whether the attendees get an invitation by email, and what changes of it; who sends it says the calendar's "
        "`invite`.",
        default="as the calendar says, else no",
    ),
    _field("answer-wanted", "yes-no", "Whether an answer is asked of them (RSVP).", default="no"),
    _field(
        "reminder",
        "reminders",
        "When to remind, before or after the start; one, several, or none.",
        default="none",
        example="40 minutes before, 25 minutes before",
    ),
    _field(
        "repeat", "repeat", "How it repeats: a phrase, or an RRULE.", example="every month on the last friday, 10 times"
    ),
    _field("busy", "choice", "Whether it makes its time taken.", default="yes", choices=_BUSY),
    _field(
        "clash",
        "choice",
        "What happens if something else takes that time. With ask somebody at the prompt says yes, no or tentative; "
        "while nobody is there the run waits, and `run` asks.",
        choices=_CLASH,
        default="the calendar's setting, else allow",
    ),
    _field("priority", "number", "From 1, highest, to 9; 0 is none.", default="0", example="1", span=(0, 9)),
    _field("colour", "colour", "A colour name of CSS.", example='"teal"'),
    _field("category", "value", "A category, or several.", example='"school"'),
    _field("private", "yes-no", "Whether others see no more than the time.", default="no"),
    LINK_FIELD,
)
