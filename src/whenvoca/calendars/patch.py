"""Changes within an iCalendar text by content line: everything that does not change stays byte for byte.

So properties, parameters and components that we do not know survive.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.components import (
    Component,
    by_name,
    content_lines,
    list_components,
    unfolded,
    without_leap_second,
)
from whenvoca.calendars.event import COMMENT, Attendee, Event, changed_fields
from whenvoca.calendars.state import event_key, split_key
from whenvoca.calendars.task import PROPERTIES as TASK_PROPERTIES
from whenvoca.calendars.task import Task
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.calendars.writer import (
    ORIGIN,
    PROPERTIES,
    added_lines,
    alarm_lines,
    empty_calendar,
    event_lines,
    field_lines,
    join_lines,
    moment_line,
    zones_of,
)
from whenvoca.calendars.zone_book import ZoneBook, definition_of, meant_by
from whenvoca.errors import RowFault
from whenvoca.values.file_zones import FileZone
from whenvoca.values.zones import load_zone

_NAME = re.compile(rb"[A-Za-z0-9-]+(?=[;:])")
_DAY = len("20270317")
_TEXTS = ("SUMMARY", "LOCATION", "DESCRIPTION", "CATEGORIES")
_HEAD = re.compile(r'[A-Za-z0-9-]+((?:;[A-Za-z0-9-]+=(?:"[^"]*"|[^";:])*)*):')
_PARAMETER = re.compile(r';([A-Za-z0-9-]+)=(?:"[^"]*"|[^";:])*')
_TZID = re.compile(r';TZID=(?:"([^"]*)"|([^";:]+))', re.IGNORECASE)
_ZONE_NAMED = re.compile(rb';TZID=(?:"([^"\r\n]*)"|([^";:\r\n]+))', re.IGNORECASE)


def change_event(
    data: bytes, old: Event, new: Event, stamp: datetime, zone: ZoneInfo, *, with_answers: bool = False
) -> bytes:
    """The text with the fields in which ``new`` differs written anew in the event's own VEVENT.

    An occurrence of a series that is changed for the first time gets a VEVENT of its own, a copy of its master's.
    ``zone`` is meant where a time carries none.
    """
    place = find_component(data, event_key(old.uid, old.occurrence), zone)
    if place is None:
        data = with_own_occurrence(data, old, zone)
        place = find_component(data, event_key(old.uid, old.occurrence), zone)
    assert place is not None
    refuse_carrier(place, old)
    own = data[place.begin : place.end]
    body, names_zone = changed_component(own, old, new, stamp, with_answers=with_answers)
    changed = data[: place.begin] + body + data[place.end :]
    return with_zones(changed, [new]) if names_zone else changed


def changed_component(
    own: bytes, old: Event, new: Event, stamp: datetime, *, with_answers: bool = False
) -> tuple[bytes, bool]:
    """The VEVENT with the fields in which the two differ written anew; and whether zones are named in what is new."""
    stood, given = by_name(unfolded(own)), by_name(new.extra)
    names = set(changed_fields(old, new, with_answers=with_answers))
    if names & {"start", "end"}:
        names |= {"start", "due" if isinstance(new, Task) else "end"}
        if _end_still_holds(old, new, stood):
            names.remove("end")
    if names & {"optional", "attendees"}:
        names = names - {"optional", "answers"} | {"attendees"}
    replaced = {each for name in names for each in _properties_of(name, new)} | {"DTSTAMP", "LAST-MODIFIED", "SEQUENCE"}
    fresh = [line for name in names - {"reminder"} for line in _fresh_lines(name, old, new, stood, given)]
    if old.occurrence is None:  # a series that moved, with what was left out of it and put into it
        if old.excluded != new.excluded:
            replaced.add("EXDATE")
            fresh += given.get("EXDATE") or [moment_line("EXDATE", value) for value in new.excluded]
        if (old.added, old.periods) != (new.added, new.periods):
            replaced.add("RDATE")
            fresh += given.get("RDATE") or added_lines(new)
    if new.organizer and new.organizer != old.organizer:
        replaced.add("ORGANIZER")
        fresh.append(f"ORGANIZER:mailto:{new.organizer}")
    fresh = _as_floating(fresh, old, stood)
    fresh += [f"SEQUENCE:{new.sequence}", *_stamps(stood, given, stamp)]
    alarms = [line for span in new.alarms for line in alarm_lines(span, new.title)] if "reminder" in names else None
    if "UID" not in stood:
        fresh.insert(0, f"UID:{old.uid}")
    return b"".join(_patched(own, replaced, fresh, alarms)), any(";TZID=" in line for line in fresh)


def _end_still_holds(old: Event, new: Event, stood: dict[str, list[str]]) -> bool:
    """Whether a DURATION, or no end at all, says of the new start what is wanted (RFC 5545 3.6.1)."""
    if isinstance(new, Task) or "DTEND" in stood:
        return False
    if isinstance(old.start, datetime) != isinstance(new.start, datetime):
        return False
    spans = {new.end - new.start, old.end - old.start}
    if isinstance(new.start, datetime) and isinstance(old.start, datetime):
        utc = load_zone("UTC")
        for start, end in (new.span(utc), old.span(utc)):
            spans.add(end.astimezone(UTC) - start.astimezone(UTC))
    return len(spans) == 1


def _as_floating(lines: list[str], event: Event, stood: dict[str, list[str]]) -> list[str]:
    """The lines without the zone that was meant where the event's start names none: it stays on whichever clock is
    looked at, and other programs find the occurrences that they know."""
    head, _, value = stood.get("DTSTART", [":Z"])[0].rpartition(":")
    if not isinstance(event.start, datetime) or value.endswith("Z") or "TZID=" in head.upper():
        return lines
    meant = f";TZID={getattr(event.start.tzinfo, 'key', '')}:"
    return [line.replace(meant, ":", 1) for line in lines]


def _stamps(stood: dict[str, list[str]], given: dict[str, list[str]], stamp: datetime) -> list[str]:
    """DTSTAMP, and LAST-MODIFIED where it stood, anew unless it is given."""
    now = f"{stamp.astimezone(UTC):%Y%m%dT%H%M%SZ}"
    changed = given.get("LAST-MODIFIED") or [f"LAST-MODIFIED:{now}"]
    return [f"DTSTAMP:{now}", *(changed if "LAST-MODIFIED" in stood else ())]


def _properties_of(name: str, event: Event) -> tuple[str, ...]:
    return () if name == "reminder" else (TASK_PROPERTIES if isinstance(event, Task) else PROPERTIES)[name]


def _fresh_lines(
    name: str, old: Event, new: Event, stood: dict[str, list[str]], given: dict[str, list[str]]
) -> Iterable[str]:
    """The lines of a changed field: those that are given for it, else written anew, with what still holds of before."""
    if lines := [line for each in _properties_of(name, new) for line in given.get(each, ())]:
        return lines
    if name in ("attendees", "answers"):
        return _attendee_lines(old, new, stood.get("ATTENDEE", []), with_answers=name == "answers")
    return [_with_language(line, stood) for line in field_lines(name, new)]


def _with_language(line: str, stood: dict[str, list[str]]) -> str:
    """A text with the LANGUAGE, and the X- parameters, that it had; an ALTREP is of the text that is gone."""
    name, _, value = line.partition(":")
    if name not in _TEXTS or name not in stood or not (head := _HEAD.match(stood[name][0])):
        return line
    kept = [each[0] for each in _PARAMETER.finditer(head[1]) if each[1].upper().startswith(("LANGUAGE", "X-"))]
    return f"{name}{''.join(kept)}:{value}"


def _attendee_lines(old: Event, new: Event, stood: list[str], *, with_answers: bool) -> list[str]:
    """Whoever is asked as before keeps the line, with what they answered and what other programs noted in it."""
    fresh = zip(new.attendees, field_lines("attendees", new), strict=True)
    if len(stood) != len(old.attendees):
        return [line for _, line in fresh]
    line_of = {
        _asked(each): ((each.answer, each.comment), line) for each, line in zip(old.attendees, stood, strict=True)
    }
    lines = []
    for each, line in fresh:
        answer, before = line_of.get(_asked(each), (("", ""), ""))
        keeps = before and (not with_answers or (each.answer, each.comment) == answer)
        lines.append(before if keeps else _with_answer(before, each) if before else line)
    return lines


def _asked(attendee: Attendee) -> tuple[str, bool]:
    return attendee.address.lower(), attendee.optional


def _with_answer(line: str, attendee: Attendee) -> str:
    """The line of an attendee with what they answer now, and nothing more asked of them."""
    head = _HEAD.match(line)
    if head is None:
        return line
    old = ("PARTSTAT", "RSVP", COMMENT)
    kept = [each[0] for each in _PARAMETER.finditer(head[1]) if each[1].upper() not in old]
    said = f';{COMMENT}="{attendee.comment}"' if attendee.comment else ""
    return f"ATTENDEE{''.join(kept)};PARTSTAT={attendee.answer}{said}:{line[head.end() :]}"


def property_lines(data: bytes, key: str, names: Iterable[str], zone: ZoneInfo) -> tuple[str, ...]:
    """The content lines of these fields in the component of that key, of the dates of a series, and its LAST-MODIFIED,
    as they stand; none where it has no component of its own."""
    place = find_component(data, key, zone)
    if place is None:
        return ()
    properties = TASK_PROPERTIES if place.name == "VTODO" else PROPERTIES
    names = set(names)
    if names & {"start", "end", "due"}:
        names |= {"start", "due" if place.name == "VTODO" else "end"}
    wanted = {each for name in names if name != "reminder" for each in properties[name]}
    wanted |= {"LAST-MODIFIED", "EXDATE", "RDATE"}
    stood = by_name(unfolded(data[place.begin : place.end]))
    return tuple(line for name, lines in stood.items() if name in wanted for line in lines)


_OF_SERIES = {"RRULE", "EXDATE", "RDATE", "DTSTART", "DTEND", "DURATION", "RECURRENCE-ID"}


def events_of(data: bytes, uid: str) -> list[Component]:
    """The components of a UID."""
    return [each for each in list_components(data) if each.name in ("VEVENT", "VTODO") and each.uid == uid]


def find_component(data: bytes, key: str, zone: ZoneInfo) -> Component | None:
    """The VEVENT of an event's key: a master, or a changed occurrence. ``zone`` is meant where a time carries none."""
    uid, occurrence = split_key(key)
    book = book_of(data, zone)
    found = [
        each
        for each in events_of(data, uid)
        if original_start(each.occurrence, book) == occurrence
        or (len(occurrence) == _DAY and each.occurrence.rpartition(":")[2][:_DAY] == occurrence)
    ]
    return max(found, key=lambda each: each.sequence, default=None)  # older ones are kept in the file and not shown


@lru_cache(maxsize=4)
def book_of(data: bytes, zone: ZoneInfo) -> ZoneBook:
    """The zones that the object defines, and the one that is meant where a time carries none."""
    found = (unfolded(data[each.begin : each.end]) for each in list_components(data) if each.name == "VTIMEZONE")
    return ZoneBook(meant_by(data) or zone, dict(definition_of(lines) for lines in found))


def original_start(text: str, book: ZoneBook) -> str:
    """What follows RECURRENCE-ID as an event's key has it; empty for a master."""
    if not text:
        return ""
    parameters, _, value = text.rpartition(":")
    value = without_leap_second(value.encode()).decode()
    if len(value) == _DAY or value.endswith("Z"):
        return value
    found = _TZID.search(parameters)
    wall = datetime.fromisoformat(value)
    zone = book.zone(found[1] or found[2], wall.year) if found else book.default
    return f"{wall.replace(tzinfo=zone).astimezone(UTC):%Y%m%dT%H%M%SZ}"


def refuse_carrier(place: Component, event: Event) -> None:
    """Raises RowFault for an occurrence that cannot be changed by itself: what is changed in it holds for all later
    ones too."""
    if carries(place):
        raise RowFault(
            f'"{event.title}" carries a change of all later occurrences (RANGE=THISANDFUTURE)',
            fix="change it in the program that made that, or the whole series",
        )


def carries(place: Component) -> bool:
    """Whether it is a change of all later occurrences."""
    return "RANGE=THISANDFUTURE" in place.occurrence.upper()


def given_by(data: bytes, occurrence: Event, zone: ZoneInfo) -> Component:
    """The VEVENT that says what an occurrence is that has none of its own: the last change of "this and later" before
    it, or the master."""
    key = split_key(event_key(occurrence.uid, occurrence.occurrence))[1]
    book = book_of(data, zone)
    carriers = {
        original_start(each.occurrence, book): each for each in events_of(data, occurrence.uid) if carries(each)
    }
    before = max((begin for begin in carriers if begin <= key), default="")
    found = carriers.get(before) or find_component(data, occurrence.uid, zone)
    assert found is not None
    return found


def with_own_occurrence(data: bytes, occurrence: Event, zone: ZoneInfo) -> bytes:
    """The text with a VEVENT for that occurrence behind the one that gives it, the same in everything but its time."""
    given = given_by(data, occurrence, zone)
    own, names_zone = own_text(data[given.begin : given.end], occurrence)
    data = data[: given.end] + own + data[given.end :]
    return with_zones(data, [occurrence]) if names_zone else data


def own_text(given: bytes, occurrence: Event) -> tuple[bytes, bool]:
    """The VEVENT of an occurrence made of the one that gives it; and whether it names a zone."""
    assert occurrence.occurrence is not None
    lines = [moment_line("RECURRENCE-ID", occurrence.occurrence), *field_lines("start", occurrence)]
    lines = _as_floating([*lines, *field_lines("end", occurrence)], occurrence, by_name(unfolded(given)))
    return b"".join(_patched(given, _OF_SERIES, lines, None)), any(";TZID=" in line for line in lines)


def with_times(own: bytes, event: Event, occurrence: Any, start: Any, end: Any) -> bytes:
    """The VEVENT of an occurrence, as that of another original start, at these times."""
    moved = replace(event, start=start, end=end)
    lines = [moment_line("RECURRENCE-ID", occurrence), *field_lines("start", moved), *field_lines("end", moved)]
    stood = by_name(unfolded(own))
    return b"".join(
        _patched(own, {"RECURRENCE-ID", "DTSTART", "DTEND", "DURATION"}, _as_floating(lines, event, stood), None)
    )


def remove_event(data: bytes, uid: str) -> bytes:
    """The text without any VEVENT of that UID."""
    for each in reversed(events_of(data, uid)):
        data = data[: each.begin] + data[each.end :]
    return data


def remove_occurrence(data: bytes, event: Event, stamp: datetime, zone: ZoneInfo) -> bytes:
    """The text with an occurrence taken out of its series: an EXDATE, and no VEVENT of its own (RFC 5545 3.8.5.1)."""
    assert event.occurrence is not None
    own = find_component(data, event_key(event.uid, event.occurrence), zone)
    if own is not None:
        refuse_carrier(own, event)
        data = data[: own.begin] + data[own.end :]
    master = find_component(data, event.uid, zone)
    assert master is not None
    stood = by_name(unfolded(data[master.begin : master.end]))
    fresh = _as_floating([moment_line("EXDATE", event.occurrence)], event, stood) + _stamps(stood, {}, stamp)
    body = b"".join(_patched(data[master.begin : master.end], {"DTSTAMP", "LAST-MODIFIED"}, fresh, None))
    data = data[: master.begin] + body + data[master.end :]
    return with_zones(data, [event]) if any(";TZID=" in line for line in fresh) else data


def put_back(data: bytes, kept: bytes, key: str, zone: ZoneInfo) -> bytes:
    """The text with what ``kept`` holds of that key: a whole event, or one occurrence of a series that stands."""
    uid, occurrence = split_key(key)
    if not occurrence:
        return _with_components(remove_event(data, uid), kept, events_of(kept, uid))
    own = find_component(data, key, zone)
    if own is not None:
        data = data[: own.begin] + data[own.end :]
    master = find_component(data, uid, zone)
    if master is None:
        return data
    body = b"".join(_without_exdate(data[master.begin : master.end], occurrence, book_of(data, zone)))
    data = data[: master.begin] + body + data[master.end :]
    before = find_component(kept, key, zone)
    return data if before is None else _with_components(data, kept, [before])


def _without_exdate(event: bytes, occurrence: str, book: ZoneBook) -> Iterator[bytes]:
    for start, end, line in content_lines(event):
        if line[:7].upper().startswith(b"EXDATE"):
            head, _, values = line.decode("utf-8", "replace").rpartition(":")
            kept = [each for each in values.split(",") if original_start(f"{head[6:]}:{each}", book) != occurrence]
            if len(kept) < len(values.split(",")):
                if kept:
                    yield join_lines([f"{head}:{','.join(kept)}"])
                continue
        yield event[start:end]


def extract_event(data: bytes, uid: str) -> bytes:
    """An iCalendar object with only the components of that UID, the time zones, and the one that is meant without."""
    return _with_components(empty_calendar(meant_by(data)), data, events_of(data, uid))


_UNDERSTOOD = {
    *(each for names in PROPERTIES.values() for each in names),
    *("UID", "DTSTAMP", "CREATED", "LAST-MODIFIED", "SEQUENCE", "EXDATE", "RDATE", "RECURRENCE-ID"),
    *("ORGANIZER", "URL", ORIGIN),
}


def extra_lines(data: bytes, uid: str) -> tuple[str, ...]:
    """The content lines of a whole event that no field of the language stands for: X- properties, places on the map."""
    for each in [one for one in events_of(data, uid) if not one.occurrence][:1]:
        stood = by_name(unfolded(data[each.begin : each.end]))
        return tuple(line for name, lines in stood.items() if name not in _UNDERSTOOD for line in lines)
    return ()


def only_event(data: bytes, uid: str) -> bytes:
    """The text as it is without the events and tasks of other UIDs."""
    for each in reversed(list_components(data)):
        if each.name in ("VEVENT", "VTODO") and each.uid != uid:
            data = data[: each.begin] + data[each.end :]
    return data


def without_events(data: bytes) -> bytes:
    """The text as it is without any event or task."""
    return only_event(data, "")


def event_text(data: bytes, uid: str) -> bytes:
    """What is said of the event of that UID: the whole text where it holds no other, else its components; empty where
    it is not there."""
    events = [each for each in list_components(data) if each.name in ("VEVENT", "VTODO")]
    mine = [each for each in events if each.uid == uid]
    if mine and len(mine) == len(events):
        return data
    return b"".join(data[each.begin : each.end] for each in mine)


def says_cancelled(data: bytes, key: str, zone: ZoneInfo) -> bool:
    """Whether the event of that key is cancelled there (RFC 5545 3.8.1.11)."""
    place = find_component(data, key, zone) if data else None
    stood = by_name(unfolded(data[place.begin : place.end])) if place else {}
    return any(line.upper().endswith(":CANCELLED") for line in stood.get("STATUS", ()))


def has_event(data: bytes, uid: str) -> bool:
    """Whether a VEVENT of that UID stands in the text."""
    return bool(events_of(data, uid))


def holds_anything(data: bytes) -> bool:
    """Whether an event or a task stands in the text."""
    return any(each.name in ("VEVENT", "VTODO") for each in list_components(data))


def _with_components(data: bytes, source: bytes, events: list[Component]) -> bytes:
    """The text with these components of another one, and the time zones of that one that it has not."""
    known = {each.uid for each in list_components(data) if each.name == "VTIMEZONE"}
    texts = b"".join(source[each.begin : each.end] for each in events)
    zones = [each for each in list_components(source) if each.name == "VTIMEZONE" and each.uid not in known]
    named = {found[1] or found[2] for found in _ZONE_NAMED.finditer(texts)}
    added = b"".join(source[each.begin : each.end] for each in zones if each.uid.encode() in named)
    return _insert_before_end(data, added + texts)


def _patched(event: bytes, replaced: set[str], fresh: list[str], alarms: list[str] | None) -> Iterator[bytes]:
    """The lines of a component with fresh ones where those of their name stood, the others behind its properties."""
    depth, skipping, pending = 0, False, by_name(fresh)
    for start, end, line in content_lines(event):
        upper = line[:40].upper()
        if depth == 1 and upper.startswith((b"BEGIN:", b"END:")):
            yield join_lines([each for lines in pending.values() for each in lines])
            pending = {}
        if upper.startswith(b"BEGIN:"):
            depth += 1
            if depth == 2 and alarms is not None and upper.startswith(b"BEGIN:VALARM"):
                skipping = True
        if upper.startswith(b"END:"):
            depth -= 1
            if depth == 0:
                yield join_lines(alarms or [])
            elif depth == 1 and skipping:
                skipping = False
                continue
        found = _NAME.match(upper)
        name = found[0].decode() if found and depth == 1 else ""
        if skipping:
            continue
        if name in replaced:
            yield join_lines(pending.pop(name, []))
        else:
            yield event[start:end]


def add_events(data: bytes, events: Iterable[Event], stamp: datetime) -> bytes:
    """The text with these events put in before its end, and their zones if they are not there yet."""
    events = list(events)
    added = b"".join(join_lines(event_lines(event, stamp)) for event in events)
    return with_zones(_insert_before_end(data, added), events)


def with_zones(data: bytes, events: Iterable[Event]) -> bytes:
    """The text with a VTIMEZONE for every zone that these events name."""
    components = list(list_components(data))
    known = {each.uid for each in components if each.name == "VTIMEZONE"}
    wanted: dict[ZoneInfo | FileZone, int] = {}
    for event in events:
        for zone, year in zones_of(event):
            if zone.key not in known:
                wanted[zone] = min(year, wanted.get(zone, 9999))
    if not wanted:
        return data
    in_order = sorted(wanted.items(), key=lambda each: each[0].key)
    text = b"".join(join_lines(list(vtimezone_lines(zone, year))) for zone, year in in_order)
    where = components[0].begin if components else len(data) - len(_end_of(data))
    return data[:where] + text + data[where:]


def _insert_before_end(data: bytes, added: bytes) -> bytes:
    tail = _end_of(data)
    return data[: len(data) - len(tail)] + added + tail


def _end_of(data: bytes) -> bytes:
    return data[data.upper().rindex(b"END:VCALENDAR") :]
