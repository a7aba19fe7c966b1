"""Events and tasks of the iCalendar library, which knows RFC 5545 whole, as our own."""

from __future__ import annotations

from collections.abc import Set
from datetime import UTC, date, datetime, timedelta
from typing import Any

from whenvoca.calendars.event import COMMENT, Attendee, Busy, Event, to_start
from whenvoca.calendars.task import Task, due_after
from whenvoca.calendars.writer import ORIGIN, PERSON
from whenvoca.calendars.zone_book import ZoneBook
from whenvoca.errors import SourceFault
from whenvoca.values.durations import Duration
from whenvoca.values.usable import LAST_YEAR


def to_event(component: Any, book: ZoneBook, *, counts_hours: Set[str] = frozenset()) -> Event:
    """The event of one VEVENT of the iCalendar library; ``counts_hours``: the properties whose spans name no days,
    which the library does not keep (PT24H). Raises SourceFault for what cannot be understood."""
    if not component.get("DTSTART"):
        raise SourceFault("it has no start", fix="give it one there, or take it away")
    start = _moment(component, "DTSTART", book)
    if start.year > LAST_YEAR:
        raise SourceFault(f"its start {start.isoformat()[:10]} lies outside the years that calendars can hold here")
    return Event(
        uid=_text(component, "UID"),
        title=_text(component, "SUMMARY"),
        start=start,
        end=_end_of(component, start, book, counts_hours="DURATION" in counts_hours),
        location=_text(component, "LOCATION"),
        details=_text(component, "DESCRIPTION"),
        attendees=tuple(_attendee(each) for each in _several(component.get("ATTENDEE"))),
        organizer=_address(_one(component, "ORGANIZER")) if "ORGANIZER" in component else "",
        alarms=_alarms(component),
        rule=_rule(component),
        excluded=tuple(_as_meant(each, start, book) for each in _dates(component, "EXDATE", book, start)),
        exception_rules=tuple(each.to_ical().decode() for each in _several(component.get("EXRULE"))),
        added=_dates(component, "RDATE", book, start),
        periods=_periods(component, book, start, counts_hours="RDATE" in counts_hours),
        occurrence=_moment(component, "RECURRENCE-ID", book) if "RECURRENCE-ID" in component else None,
        and_later="RECURRENCE-ID" in component and _is_range(_one(component, "RECURRENCE-ID").params),
        busy=_busy(component),
        priority=_number(component, "PRIORITY"),
        colour=_text(component, "COLOR"),
        categories=tuple(str(each) for group in _several(component.get("CATEGORIES")) for each in group.cats),
        private=_text(component, "CLASS").upper() in ("PRIVATE", "CONFIDENTIAL"),
        url=_text(component, "URL"),
        meeting_link=_meeting_link(component),
        origin=_text(component, ORIGIN),
        sequence=_number(component, "SEQUENCE"),
        cancelled=_text(component, "STATUS").upper() == "CANCELLED",
    )


def _one(component: Any, name: str) -> Any:
    """The property; of several the first, which other programs take too."""
    return _several(component[name])[0]


def _text(component: Any, name: str) -> str:
    return str(_one(component, name)) if name in component else ""


def _number(component: Any, name: str) -> int:
    """A whole number; 0 for what is none."""
    try:
        return int(_text(component, name) or 0)
    except ValueError:
        return 0


def _meeting_link(component: Any) -> str:
    """The first CONFERENCE that a browser opens; others are numbers to call."""
    links = [str(each).strip() for each in _several(component.get("CONFERENCE"))]
    return next((link for link in links if link.lower().startswith(("https://", "http://"))), "")


def _rule(component: Any) -> str:
    rules = _several(component.get("RRULE"))
    if len(rules) > 1:
        raise SourceFault("it has several rules of repetition (RRULE), which are not followed")
    return rules[0].to_ical().decode() if rules else ""


def _alarms(component: Any) -> tuple[Duration, ...]:
    return tuple(span for alarm in component.walk("VALARM") if (span := _alarm(alarm)) is not None)


def to_task(component: Any, book: ZoneBook) -> Task:
    """The task of one VTODO of the iCalendar library."""
    from urllib.parse import unquote

    start = _moment(component, "DTSTART", book) if "DTSTART" in component else None
    due = _moment(component, "DUE", book) if "DUE" in component else None
    if due is None and start is not None and "DURATION" in component:
        due = due_after(start, _one(component, "DURATION").dt)
    finished = _moment(component, "COMPLETED", book) if "COMPLETED" in component else None
    if finished is None and str(component.get("STATUS", "")).upper() == "COMPLETED":
        changed = next((name for name in ("LAST-MODIFIED", "DTSTAMP") if component.get(name)), "")
        finished = _moment(component, changed, book) if changed else datetime(1970, 1, 1, tzinfo=UTC)
    categories = [str(each) for group in _several(component.get("CATEGORIES")) for each in group.cats]
    people = _several(component.get("ATTENDEE"))
    mail, name = (_address(people[0]), str(people[0].params.get(PERSON, ""))) if people else ("", "")
    related = _several(component.get("RELATED-TO"))
    return Task(
        uid=_text(component, "UID"),
        title=_text(component, "SUMMARY"),
        start=start,
        end=due,
        section=categories[0] if categories else "",
        person=name or unquote(mail.removeprefix("urn:whenvoca:person:")),
        person_mail=mail if name or "@" in mail else "",
        details=_text(component, "DESCRIPTION"),
        priority=_number(component, "PRIORITY"),
        alarms=_alarms(component),
        finished=finished if isinstance(finished, datetime) or finished is None else to_start(finished, book.default),
        source=str(related[0]) if related else "",
        origin=_text(component, ORIGIN),
        sequence=_number(component, "SEQUENCE"),
        cancelled=_text(component, "STATUS").upper() == "CANCELLED",
    )


def _end_of(component: Any, start: datetime | date, book: ZoneBook, *, counts_hours: bool) -> datetime | date:
    """DTEND, or DURATION behind the start; days of it are on the calendar, its clock is exact (RFC 5545 3.3.6)."""
    if "DTEND" in component:
        return _moment(component, "DTEND", book)
    if "DURATION" not in component:
        return start if isinstance(start, datetime) else start + timedelta(days=1)
    span = _one(component, "DURATION").dt
    return start + span if not isinstance(start, datetime) else _after(start, span, counts_hours=counts_hours)


def _after(start: datetime, span: timedelta, *, counts_hours: bool) -> datetime:
    days = timedelta() if counts_hours else timedelta(days=span.days)
    wall: datetime = start + days
    clock: timedelta = span - days
    return (wall.astimezone(UTC) + clock).astimezone(start.tzinfo)


def _moment(component: Any, name: str, book: ZoneBook) -> datetime | date:
    """A DATE or DATE-TIME in its zone, as the file or the system knows that."""
    value = _one(component, name)
    return _in_zone(value.dt, str(value.params.get("TZID", "")), book, name)


def _in_zone(moment: Any, name: str, book: ZoneBook, line: str) -> datetime | date:
    if not isinstance(moment, date):
        raise SourceFault(f"its {line} {moment} is not a date")
    if not isinstance(moment, datetime):
        return moment
    if moment.tzinfo is not None and moment.tzname() == "UTC" and not name:
        return moment.replace(tzinfo=UTC)
    return moment.replace(tzinfo=book.zone(name, moment.year) if name else book.default)


def _several(value: Any) -> list[Any]:
    return [] if value is None else value if isinstance(value, list) else [value]


def _dates(component: Any, name: str, book: ZoneBook, start: datetime | date) -> tuple[datetime | date, ...]:
    """The moments of such lines; those without a zone are on the clock of the event."""
    book = _on_its_clock(book, start)
    return tuple(
        _in_zone(each.dt, str(group.params.get("TZID", "")), book, name)
        for group in _several(component.get(name))
        for each in group.dts
        if not isinstance(each.dt, tuple)
    )


def _as_meant(moment: datetime | date, start: datetime | date, book: ZoneBook) -> datetime | date:
    """An EXDATE; one in UTC beside a start without a zone that is the same time of day is on that clock too: as a
    moment it would take out nothing."""
    if not isinstance(moment, datetime) or not isinstance(start, datetime) or start.tzinfo is not book.default:
        return moment
    is_wall = moment.tzinfo is UTC and moment.time() == start.time() != moment.astimezone(start.tzinfo).time()
    return moment.replace(tzinfo=start.tzinfo) if is_wall else moment


def _periods(
    component: Any, book: ZoneBook, start: datetime | date, *, counts_hours: bool
) -> tuple[tuple[datetime, datetime], ...]:
    """Of RDATE what is a period, with an end or a length (RFC 5545 3.3.9)."""
    book, found = _on_its_clock(book, start), []
    for group in _several(component.get("RDATE")):
        zone = str(group.params.get("TZID", ""))
        for each in group.dts:
            if isinstance(each.dt, tuple):
                begin: Any = _in_zone(each.dt[0], zone, book, "RDATE")
                if isinstance(each.dt[1], timedelta):
                    end: Any = _after(begin, each.dt[1], counts_hours=counts_hours)
                else:
                    end = _in_zone(each.dt[1], zone, book, "RDATE")
                if end < begin:
                    raise SourceFault(f"a period of its RDATE ends before it begins, on {begin:%Y-%m-%d}")
                found.append((begin, end))
    return tuple(found)


def _on_its_clock(book: ZoneBook, start: datetime | date) -> ZoneBook:
    own: Any = start.tzinfo if isinstance(start, datetime) else None
    return book if own is None else ZoneBook(own, book.definitions)


def _is_range(parameters: Any) -> bool:
    return str(parameters.get("RANGE", "")).upper() == "THISANDFUTURE"


def _address(value: Any) -> str:
    text = str(value)
    return text[7:] if text.lower().startswith("mailto:") else text


def _attendee(value: Any) -> Attendee:
    parameters = value.params
    return Attendee(
        address=_address(value),
        optional=str(parameters.get("ROLE", "")).upper() == "OPT-PARTICIPANT",
        answer=str(parameters.get("PARTSTAT", "")).upper(),
        answer_wanted=str(parameters.get("RSVP", "")).upper() == "TRUE",
        name=str(parameters.get("CN", "")),
        comment=str(parameters.get(COMMENT, "")),
    )


def _alarm(component: Any) -> Duration | None:
    trigger = component.get("TRIGGER")
    span = getattr(trigger, "dt", None)
    if not isinstance(span, timedelta) or str(trigger.params.get("RELATED", "START")).upper() != "START":
        return None
    return Duration(seconds=round(span.total_seconds())).in_days()


def _busy(component: Any) -> Busy:
    if _text(component, "TRANSP").upper() == "TRANSPARENT":
        return "no"
    if _text(component, "STATUS").upper() == "TENTATIVE":
        return "tentative"
    return "unavailable" if _text(component, "X-WHENVOCA-BUSY").lower() == "unavailable" else "yes"
