"""What the time zones of one iCalendar object are: of the system where it says the same, else as the file defines
them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import tzinfo
from functools import lru_cache
from zoneinfo import ZoneInfo

from whenvoca.calendars.vtimezone import vtimezone_lines
from whenvoca.errors import SourceFault, WhenvocaError
from whenvoca.values.file_zones import agrees, file_zone, known_zone

_YEARS = 2  # after that of an event, over which a zone of the system has to agree with the file
_DEFAULT_ZONE = re.compile(rb"^X-WR-TIMEZONE(?:;[^:\r\n]*)?:([^\r\n]+)", re.MULTILINE)


class ZoneBook:
    """The zones of an object; ``default`` is meant where a time carries none."""

    def __init__(self, default: ZoneInfo, definitions: Mapping[str, str]) -> None:
        self.default = default
        self.definitions = definitions

    def zone(self, name: str, year: int) -> tzinfo:
        """The zone of a TZID, for times of that year and after. Raises SourceFault for one that nobody knows."""
        return _zone(name, self.definitions.get(name, ""), year)


@lru_cache(maxsize=1024)
def _zone(name: str, text: str, year: int) -> tzinfo:
    known = known_zone(name)
    if text:
        try:
            defined = file_zone(name, text)
        except WhenvocaError as error:
            if known is not None and known.key == name:
                return known
            raise SourceFault(f'the time zone "{name[:60]}" cannot be used: {error.message}') from error
        return (
            known
            if known is not None and known.key == name and agrees(known, defined, year, year + _YEARS)
            else defined
        )
    if known is None:
        raise SourceFault(
            f'there is no time zone "{name[:60]}", and the file does not say what it is', fix="correct the zone there"
        )
    if known.key == name:
        return known
    lines = [f"TZID:{name}" if line.startswith("TZID:") else line for line in vtimezone_lines(known, year)]
    return file_zone(name, "\n".join(lines))


def definition_of(lines: list[str]) -> tuple[str, str]:
    """The TZID and the text of a VTIMEZONE, given its unfolded lines."""
    name = next((line.partition(":")[2] for line in lines if line.partition(":")[0].partition(";")[0] == "TZID"), "")
    return re.sub(r"\\(.)", r"\1", name), "\n".join(lines)


def meant_by(data: bytes) -> ZoneInfo | None:
    """The zone that a calendar names for times without one, as several programs write it."""
    if b"X-WR-TIMEZONE" not in data:
        return None
    found = _DEFAULT_ZONE.search(data)
    return known_zone(found[1].decode("utf-8", "replace").strip()) if found else None
