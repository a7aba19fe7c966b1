"""Changes within an iCalendar text by content line: everything that does not change stays byte for byte.

So properties, parameters and components that we do not know survive.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.calendars.writer import PROPERTIES, alarm_lines, event_lines, field_lines, join_lines, zones_of

_LINE = re.compile(rb"[^\n]*\n|[^\n]+\Z")
_NAME = re.compile(rb"[A-Za-z0-9-]+")


@dataclass(frozen=True, slots=True)
class Component:
    """Where a component stands in the text, and which one it is."""

    name: str
    begin: int
    end: int
    uid: str
    occurrence: str
    origin: str


def iter_components(data: bytes) -> Iterator[Component]:
    """The components directly below VCALENDAR, in order."""
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
                yield Component(
                    name,
                    begin,
                    end,
                    details.get("UID", ""),
                    details.get("RECURRENCE-ID", ""),
                    details.get("X-WHENVOCA-ORIGIN", ""),
                )
            depth -= 1
        elif (
            depth == 2
            and (found := _NAME.match(upper))
            and found[0] in (b"UID", b"RECURRENCE-ID", b"X-WHENVOCA-ORIGIN", b"TZID")
        ):
            key = found[0].decode()
            details["UID" if key == "TZID" else key] = unescape_text(
                line.partition(b":")[2].strip().decode("utf-8", "replace")
            )


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
    """The text with the fields in which ``new`` differs written anew in the event's own VEVENT."""
    place = next(
        each for each in iter_components(data) if each.name == "VEVENT" and each.uid == old.uid and not each.occurrence
    )
    names = set(changed_fields(old, new))
    if names & {"start", "end"}:
        names |= {"start", "end"}
    replaced = {each for name in names if name != "alarm" for each in PROPERTIES[name]} | {
        "DTSTAMP",
        "LAST-MODIFIED",
        "SEQUENCE",
    }
    fresh = [line for name in names - {"optional", "alarm"} for line in field_lines(name, new)]
    if "optional" in names and "attendees" not in names:
        fresh += field_lines("attendees", new)
    fresh += [f"DTSTAMP:{stamp.astimezone(UTC):%Y%m%dT%H%M%SZ}", f"SEQUENCE:{new.sequence}"]
    alarms = [line for span in new.alarms for line in alarm_lines(span, new.title)] if "alarm" in names else None
    body = b"".join(_patched(data[place.begin : place.end], replaced, fresh, alarms))
    return with_zones(data[: place.begin] + body + data[place.end :], [new])


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
    components = list(iter_components(data))
    known = {each.uid for each in components if each.name == "VTIMEZONE"}
    wanted: dict[str, int] = {}
    for event in events:
        for zone, year in zones_of(event):
            if zone not in known:
                wanted[zone] = min(year, wanted.get(zone, 9999))
    if not wanted:
        return data
    text = b"".join(join_lines(list(vtimezone_lines(zone, year))) for zone, year in sorted(wanted.items()))
    where = components[0].begin if components else len(data) - len(_end_of(data))
    return data[:where] + text + data[where:]


def _insert_before_end(data: bytes, added: bytes) -> bytes:
    tail = _end_of(data)
    return data[: len(data) - len(tail)] + added + tail


def _end_of(data: bytes) -> bytes:
    return data[data.upper().rindex(b"END:VCALENDAR") :]
