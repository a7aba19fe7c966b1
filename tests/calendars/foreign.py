"""Calendars as other programs write them, for tests."""

from __future__ import annotations

from collections.abc import Iterable

VTIMEZONE = """BEGIN:VTIMEZONE
TZID:{name}
BEGIN:STANDARD
DTSTART:16010101T030000
TZOFFSETFROM:+0200
TZOFFSETTO:+0100
RRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10
END:STANDARD
BEGIN:DAYLIGHT
DTSTART:16010101T020000
TZOFFSETFROM:+0100
TZOFFSETTO:+0200
RRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=3
END:DAYLIGHT
END:VTIMEZONE
"""


def event(uid: str, *lines: str, start: str = "DTSTART:20270317T100000Z") -> str:
    """A VEVENT with these lines."""
    head = ["BEGIN:VEVENT", *([f"UID:{uid}"] if uid else []), "DTSTAMP:20270101T000000Z"]
    return "\n".join([*head, *([start] if start else []), f"SUMMARY:{uid}", *lines, "END:VEVENT"]) + "\n"


def calendar(*parts: str, newline: str = "\r\n") -> bytes:
    """A VCALENDAR of these parts."""
    text = "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\n" + "".join(parts) + "END:VCALENDAR\n"
    return text.replace("\n", newline).encode()


def zone(name: str) -> str:
    """The rules of Central Europe under another name."""
    return VTIMEZONE.format(name=name)


def lines_of(data: bytes) -> list[str]:
    """The content lines, as they stand."""
    return data.decode().replace("\r\n ", "").replace("\r\n", "\n").split("\n")


def without(lines: Iterable[str], *names: str) -> list[str]:
    """The lines but for these properties."""
    return [line for line in lines if line.replace(";", ":").split(":")[0] not in names]
