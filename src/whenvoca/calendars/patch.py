"""Changes within an iCalendar text by content line: everything that does not change stays byte for byte.

So properties, parameters and components that we do not know survive.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.state import event_key, split_key
from whenvoca.calendars.task import PROPERTIES as TASK_PROPERTIES
from whenvoca.calendars.task import Task
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.calendars.writer import (
    ORIGIN,
    PROPERTIES,
    alarm_lines,
    empty_calendar,
    event_lines,
    field_lines,
    join_lines,
    moment_line,
    zones_of,
)
from whenvoca.calendars.zone_book import ZoneBook, definition_of
from whenvoca.values.file_zones import FileZone
from whenvoca.values.zones import load_zone

_LINE = re.compile(rb"[^\n]*\n|[^\n]+\Z")
_NAME = re.compile(rb"[A-Za-z0-9-]+")
_TZID = re.compile(r';TZID=(?:"([^"]*)"|([^";:]+))', re.IGNORECASE)
_ZONE_NAMED = re.compile(rb';TZID=(?:"([^"\r\n]*)"|([^";:\r\n]+))', re.IGNORECASE)


class Component(Struct, frozen=True):
    """Where a component stands in the text, and which one it is; ``occurrence`` is what follows RECURRENCE-ID.

    An event without a UID goes by one that its text gives, until it is changed and gets that one for good.
    """

    name: str
    begin: int
    end: int
    uid: str
    occurrence: str
    origin: str
    sequence: int = 0


@lru_cache(maxsize=4)  # a change looks through the same text several times
def list_components(data: bytes) -> tuple[Component, ...]:
    """The components directly below VCALENDAR, in order."""
    return tuple(_iter_components(data))


def _iter_components(data: bytes) -> Iterator[Component]:
    depth, begin, name = 0, 0, ""
    details: dict[str, str] = {}
    for start, end, line in _content_lines(data):
        upper = line[:40].upper()
        if upper.startswith(b"BEGIN:"):
            depth += 1
            if depth == 2:
                begin, name, details = start, line[6:].strip().decode().upper(), {}
        elif upper.startswith(b"END:"):
            if depth == 2:
                sequence = details.get("SEQUENCE", "")
                yield Component(
                    name,
                    begin,
                    end,
                    details.get("UID", "") or _uid_by_text(data[begin:end]),
                    details.get("RECURRENCE-ID", ""),
                    details.get("X-WHENVOCA-ORIGIN", ""),
                    int(sequence) if sequence.isdecimal() else 0,
                )
            depth -= 1
        elif (
            depth == 2
            and (found := _NAME.match(upper))
            and found[0] in (b"UID", b"RECURRENCE-ID", b"X-WHENVOCA-ORIGIN", b"TZID", b"SEQUENCE")
        ):
            key = found[0].decode()
            if key == "RECURRENCE-ID":
                details[key] = line[len(key) :].strip().decode("utf-8", "replace")
                continue
            details["UID" if key == "TZID" else key] = unescape_text(
                line.partition(b":")[2].strip().decode("utf-8", "replace")
            )


def _uid_by_text(text: bytes) -> str:
    digest = hashlib.sha256(text.replace(b"\r\n", b"\n")).hexdigest()
    return f"without-uid-{digest[:24]}"


def unescape_text(text: str) -> str:
    """The text of a TEXT value."""
    return re.sub(r"\\(.)", lambda found: "\n" if found[1] in "nN" else found[1], text)


def _content_lines(data: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Each content line unfolded, with the stretch of bytes it takes."""
    pending: list[bytes] = []
    begin = end = 0
    for found in _LINE.finditer(data):
        raw = found[0]
        if raw[:1] in (b" ", b"\t") and pending:
            pending.append(raw[1:].rstrip(b"\r\n"))
            end = found.end()
            continue
        if pending:
            yield begin, end, b"".join(pending)
        pending, begin, end = [raw.rstrip(b"\r\n")], found.start(), found.end()
    if pending:
        yield begin, end, b"".join(pending)


def change_event(data: bytes, old: Event, new: Event, stamp: datetime) -> bytes:
    """The text with the fields in which ``new`` differs written anew in the event's own VEVENT.

    An occurrence of a series that is changed for the first time gets a VEVENT of its own, a copy of its master's.
    """
    place = _find_component(data, event_key(old.uid, old.occurrence), old.occurrence)
    if place is None:
        data = _with_own_occurrence(data, old)
        place = _find_component(data, event_key(old.uid, old.occurrence), old.occurrence)
    assert place is not None
    names = set(changed_fields(old, new))
    if names & {"start", "end"}:
        names |= {"start", "due" if isinstance(new, Task) else "end"}
    properties = TASK_PROPERTIES if isinstance(new, Task) else PROPERTIES
    replaced = {each for name in names if name != "reminder" for each in properties[name]} | {
        "DTSTAMP",
        "LAST-MODIFIED",
        "SEQUENCE",
    }
    fresh = [line for name in names - {"optional", "reminder"} for line in field_lines(name, new)]
    if "optional" in names and "attendees" not in names:
        fresh += field_lines("attendees", new)
    for name, before, after in (("EXDATE", old.excluded, new.excluded), ("RDATE", old.added, new.added)):
        # a series that moved, with what was taken out of it and put into it
        if before != after and old.occurrence is None:
            replaced.add(name)
            fresh += [moment_line(name, value) for value in after]
    fresh += [f"DTSTAMP:{stamp.astimezone(UTC):%Y%m%dT%H%M%SZ}", f"SEQUENCE:{new.sequence}"]
    alarms = [line for span in new.alarms for line in alarm_lines(span, new.title)] if "reminder" in names else None
    if not re.search(rb"^UID[;:]", data[place.begin : place.end], re.MULTILINE | re.IGNORECASE):
        fresh.insert(0, f"UID:{old.uid}")
    body = b"".join(_patched(data[place.begin : place.end], replaced, fresh, alarms))
    return with_zones(data[: place.begin] + body + data[place.end :], [new])


_OF_SERIES = {"RRULE", "EXDATE", "RDATE", "DTSTART", "DTEND", "DURATION", "RECURRENCE-ID"}


def _events_of(data: bytes, uid: str) -> list[Component]:
    return [each for each in list_components(data) if each.name in ("VEVENT", "VTODO") and each.uid == uid]


def _find_component(data: bytes, key: str, asked: datetime | date | None = None) -> Component | None:
    """The VEVENT of an event's key: a master, or a changed occurrence; ``asked`` is its original start, by whose clock
    one without a zone is known."""
    uid, occurrence = split_key(key)
    book = book_of(data)
    wall = f":{asked:%Y%m%dT%H%M%S}" if isinstance(asked, datetime) else ""
    found = [
        each
        for each in _events_of(data, uid)
        if _original_start(each.occurrence, book) == occurrence or (wall and each.occurrence == wall)
    ]
    return max(found, key=lambda each: each.sequence, default=None)  # older ones are kept in the file and not shown


@lru_cache(maxsize=4)
def book_of(data: bytes) -> ZoneBook:
    """The zones that the object defines."""
    found = (unfolded(data[each.begin : each.end]) for each in list_components(data) if each.name == "VTIMEZONE")
    return ZoneBook(load_zone("UTC"), dict(definition_of(lines) for lines in found))


def unfolded(data: bytes) -> list[str]:
    """The content lines of a text."""
    return [line.decode("utf-8", "replace") for _, _, line in _content_lines(data)]


def _original_start(text: str, book: ZoneBook) -> str:
    """What follows RECURRENCE-ID as an event's key has it; empty for a master."""
    if not text:
        return ""
    parameters, _, value = text.rpartition(":")
    found = _TZID.search(parameters)
    if len(value) == 8 or value.endswith("Z") or not found:
        return value
    wall = datetime.fromisoformat(value)
    wall = wall.replace(tzinfo=book.zone(found[1] or found[2], wall.year))
    return f"{wall.astimezone(UTC):%Y%m%dT%H%M%SZ}"


def _with_own_occurrence(data: bytes, occurrence: Event) -> bytes:
    """The text with a VEVENT for that occurrence behind its master's, the same in everything but its time."""
    master = _find_component(data, occurrence.uid)
    assert master is not None
    assert occurrence.occurrence is not None
    lines = [moment_line("RECURRENCE-ID", occurrence.occurrence), *field_lines("start", occurrence)]
    lines += field_lines("end", occurrence)
    own = b"".join(_patched(data[master.begin : master.end], _OF_SERIES, lines, None))
    return with_zones(data[: master.end] + own + data[master.end :], [occurrence])


def remove_event(data: bytes, uid: str) -> bytes:
    """The text without any VEVENT of that UID."""
    for each in reversed(_events_of(data, uid)):
        data = data[: each.begin] + data[each.end :]
    return data


def remove_occurrence(data: bytes, event: Event, stamp: datetime) -> bytes:
    """The text with an occurrence taken out of its series: an EXDATE, and no VEVENT of its own (RFC 5545 3.8.5.1)."""
    assert event.occurrence is not None
    own = _find_component(data, event_key(event.uid, event.occurrence), event.occurrence)
    if own is not None:
        data = data[: own.begin] + data[own.end :]
    master = _find_component(data, event.uid)
    assert master is not None
    fresh = [moment_line("EXDATE", event.occurrence), f"DTSTAMP:{stamp.astimezone(UTC):%Y%m%dT%H%M%SZ}"]
    body = b"".join(_patched(data[master.begin : master.end], {"DTSTAMP", "LAST-MODIFIED"}, fresh, None))
    return with_zones(data[: master.begin] + body + data[master.end :], [event])


def put_back(data: bytes, kept: bytes, key: str) -> bytes:
    """The text with what ``kept`` holds of that key: a whole event, or one occurrence of a series that stands."""
    uid, occurrence = split_key(key)
    if not occurrence:
        return _with_components(remove_event(data, uid), kept, _events_of(kept, uid))
    own = _find_component(data, key)
    if own is not None:
        data = data[: own.begin] + data[own.end :]
    master = _find_component(data, uid)
    if master is None:
        return data
    body = b"".join(_without_exdate(data[master.begin : master.end], occurrence, book_of(data)))
    data = data[: master.begin] + body + data[master.end :]
    before = _find_component(kept, key)
    return data if before is None else _with_components(data, kept, [before])


def _without_exdate(event: bytes, occurrence: str, book: ZoneBook) -> Iterator[bytes]:
    for start, end, line in _content_lines(event):
        if line[:7].upper().startswith(b"EXDATE"):
            head, _, values = line.decode("utf-8", "replace").rpartition(":")
            kept = [each for each in values.split(",") if _original_start(f"{head[6:]}:{each}", book) != occurrence]
            if len(kept) < len(values.split(",")):
                if kept:
                    yield join_lines([f"{head}:{','.join(kept)}"])
                continue
        yield event[start:end]


def extract_event(data: bytes, uid: str) -> bytes:
    """An iCalendar object with only the components of that UID, and the time zones."""
    return _with_components(empty_calendar(), data, _events_of(data, uid))


_UNDERSTOOD = {
    *(each for names in PROPERTIES.values() for each in names),
    *("UID", "DTSTAMP", "CREATED", "LAST-MODIFIED", "SEQUENCE", "EXDATE", "RDATE", "RECURRENCE-ID"),
    *("ORGANIZER", "URL", "BEGIN", "END", ORIGIN),
}


def extra_lines(data: bytes, uid: str) -> tuple[str, ...]:
    """The content lines of a whole event that no field of the language stands for: X- properties, places on the map."""
    found: list[str] = []
    depth = 0
    for each in [one for one in _events_of(data, uid) if not one.occurrence][:1]:
        for line in unfolded(data[each.begin : each.end]):
            name = re.split("[;:]", line, maxsplit=1)[0].upper()
            depth += (name == "BEGIN") - (name == "END")
            if depth == 1 and name not in _UNDERSTOOD:
                found.append(line)
    return tuple(found)


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


def has_event(data: bytes, uid: str) -> bool:
    """Whether a VEVENT of that UID stands in the text."""
    return bool(_events_of(data, uid))


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
    depth, skipping = 0, False
    for start, end, line in _content_lines(event):
        upper = line[:40].upper()
        if upper.startswith(b"BEGIN:"):
            depth += 1
            if depth == 2 and alarms is not None and upper.startswith(b"BEGIN:VALARM"):
                skipping = True
        if upper.startswith(b"END:"):
            depth -= 1
            if depth == 0:
                yield join_lines([*fresh, *(alarms or [])])
            elif depth == 1 and skipping:
                skipping = False
                continue
        name = _NAME.match(upper)
        if skipping or (depth == 1 and name and name[0].decode() in replaced):
            continue
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
