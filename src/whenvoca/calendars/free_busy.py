"""Free and busy times as calendars exchange them: VFREEBUSY (RFC 5545 3.6.4), published as RFC 5546 3.3.1 says."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta

from msgspec import Struct

from whenvoca.calendars.components import unfolded
from whenvoca.calendars.event import Busy
from whenvoca.calendars.free_time import Span, joined
from whenvoca.calendars.writer import PRODUCT, join_lines
from whenvoca.errors import SourceFault

_TYPES: dict[Busy, str] = {"yes": "BUSY", "tentative": "BUSY-TENTATIVE", "unavailable": "BUSY-UNAVAILABLE"}
_LENGTH = re.compile(r"\+?P(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?\Z")


class FreeBusy(Struct, frozen=True):
    """Busy times between two moments, joined and in order; None where the text does not say from when until when."""

    begin: datetime | None
    end: datetime | None
    busy: list[Span]


def write_free_busy(
    busy: Mapping[Busy, list[Span]], span: Span, *, uid: str, stamp: datetime, organizer: str = ""
) -> bytes:
    """The iCalendar object that publishes these busy times between two moments."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", PRODUCT, "METHOD:PUBLISH", "BEGIN:VFREEBUSY", f"UID:{uid}"]
    lines += [f"DTSTAMP:{_in_utc(stamp)}", f"DTSTART:{_in_utc(span[0])}", f"DTEND:{_in_utc(span[1])}"]
    lines += [f"ORGANIZER:mailto:{organizer}"] if organizer else []
    for kind, name in _TYPES.items():
        lines += [f"FREEBUSY;FBTYPE={name}:{_in_utc(low)}/{_in_utc(high)}" for low, high in busy.get(kind, ())]
    return join_lines([*lines, "END:VFREEBUSY", "END:VCALENDAR"])


def read_free_busy(data: bytes, file: str) -> FreeBusy:
    """The busy times that a text publishes, those that are tentative too. Raises SourceFault where it holds none."""
    lines = unfolded(data)
    if not any(line.upper() == "BEGIN:VFREEBUSY" for line in lines):
        raise SourceFault("holds no free and busy times (VFREEBUSY)", where=file)
    ends: dict[str, datetime] = {}
    busy: list[Span] = []
    for number, line in enumerate(lines, 1):
        head, _, value = line.partition(":")
        name, *parameters = head.upper().split(";")
        try:
            if name in ("DTSTART", "DTEND"):
                ends[name] = _moment(value)
            elif name == "FREEBUSY" and "FBTYPE=FREE" not in parameters:
                busy += [_period(each) for each in value.split(",") if each.strip()]
        except (ValueError, OverflowError) as error:
            raise SourceFault(f'"{value[:60]}" cannot be read as {name}', where=f"{file}:{number}") from error
    return FreeBusy(ends.get("DTSTART"), ends.get("DTEND"), joined(busy))


def _period(text: str) -> Span:
    begin, _, rest = text.strip().partition("/")
    low = _moment(begin)
    if not rest.lstrip("+").startswith("P"):
        return low, _moment(rest)
    found = _LENGTH.match(rest)
    if found is None:
        raise ValueError(rest)
    weeks, days, hours, minutes, seconds = (int(part or 0) for part in found.groups())
    return low, low + timedelta(weeks=weeks, days=days, hours=hours, minutes=minutes, seconds=seconds)


def _moment(text: str) -> datetime:
    """A moment in UTC, as RFC 5545 has them here."""
    return datetime.strptime(text.strip().upper(), "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)


def _in_utc(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y%m%dT%H%M%SZ}"
