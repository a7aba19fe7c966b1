"""Zones that only a calendar file defines (VTIMEZONE, RFC 5545 3.6.5): used as the file says, and written back
by the name that it gives them."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from functools import lru_cache
from zoneinfo import ZoneInfo

from whenvoca.errors import SourceFault, WhenvocaError
from whenvoca.values.rules import walls_between
from whenvoca.values.zones import load_zone

_LAST_YEAR = 2100  # up to which the changes of the clocks are worked out; later ones are as that year
_MOST_CHANGES = 4000
_OFFSET = re.compile(r"([+-])(\d\d)(\d\d)(\d\d)?\Z")


class _Observance:
    """A change of the clocks: at which instant (naive UTC), from which offset to which, and its name then."""

    __slots__ = ("after", "at", "before", "is_summer", "name")

    def __init__(self, at: datetime, before: timedelta, after: timedelta, name: str, *, is_summer: bool) -> None:
        self.at, self.before, self.after, self.name, self.is_summer = at, before, after, name, is_summer


class FileZone(tzinfo):
    """A zone as a file defines it: ``key`` is its TZID there, ``text`` the lines of its VTIMEZONE, one a line.

    One object for each definition (see ``file_zone``): times of one zone are compared by the wall clock.
    """

    def __init__(self, key: str, text: str) -> None:
        self.key, self.text = key, text
        self._changes = sorted(_changes_of(text), key=lambda each: each.at)
        self._instants = [each.at for each in self._changes]
        self._walls = [each.at + min(each.before, each.after) for each in self._changes]

    def __repr__(self) -> str:
        return f"FileZone({self.key!r})"

    def __reduce__(self) -> tuple[object, tuple[str, str]]:
        return file_zone, (self.key, self.text)

    def _change_at(self, moment: datetime | None) -> tuple[_Observance, bool]:
        """The change that holds at a wall time, and whether what was before it holds still (RFC 5545 3.3.5, PEP
        495)."""
        if moment is None:
            return self._changes[-1], False
        wall = moment.replace(tzinfo=None, fold=0)
        index = bisect_right(self._walls, wall) - 1
        if index < 0:
            return self._changes[0], True
        change = self._changes[index]
        is_odd = wall < change.at + max(change.before, change.after)  # skipped, or there twice
        return change, is_odd and not moment.fold

    def utcoffset(self, dt: datetime | None) -> timedelta:
        """The offset at that wall time."""
        change, is_before = self._change_at(dt)
        return change.before if is_before else change.after

    def dst(self, dt: datetime | None) -> timedelta:
        """An hour in summer, as far as the file tells."""
        change, is_before = self._change_at(dt)
        return timedelta(hours=1) if change.is_summer and not is_before else timedelta()

    def tzname(self, dt: datetime | None) -> str:
        """The name at that wall time."""
        change, is_before = self._change_at(dt)
        return self.key if is_before else change.name

    def fromutc(self, dt: datetime) -> datetime:
        """The wall time at an instant, told apart by its fold where it comes twice."""
        instant = dt.replace(tzinfo=None, fold=0)
        index = bisect_right(self._instants, instant) - 1
        if index < 0:
            return (instant + self._changes[0].before).replace(tzinfo=self)
        change = self._changes[index]
        wall = instant + change.after
        comes_twice = change.after < change.before and wall < change.at + change.before
        return wall.replace(tzinfo=self, fold=int(comes_twice))


@lru_cache(maxsize=256)
def file_zone(key: str, text: str) -> FileZone:
    """The zone of that definition, the same object for the same one. Raises SourceFault where it cannot be used."""
    return FileZone(key, text)


def _changes_of(text: str) -> Iterator[_Observance]:
    found = False
    for kind, lines in _observances(text):
        given = {line.partition(":")[0].partition(";")[0]: line.partition(":")[2] for line in lines}
        before, after = _offset(given.get("TZOFFSETFROM", "")), _offset(given.get("TZOFFSETTO", ""))
        name = given.get("TZNAME", "")
        for wall in _onsets(lines, given, before):
            found = True
            yield _Observance(wall - before, before, after, name, is_summer=kind == "DAYLIGHT")
    if not found:
        raise SourceFault("its definition (VTIMEZONE) holds no STANDARD and no DAYLIGHT")


def _observances(text: str) -> Iterator[tuple[str, list[str]]]:
    kind, lines = "", list[str]()
    for line in text.split("\n"):
        if line in ("BEGIN:STANDARD", "BEGIN:DAYLIGHT"):
            kind, lines = line[6:], []
        elif line.startswith("END:") and kind:
            yield kind, lines
            kind = ""
        elif kind:
            lines.append(line)


def _onsets(lines: list[str], given: dict[str, str], before: timedelta) -> list[datetime]:
    """The wall times at which an observance begins, in the offset that ends then."""
    start = _wall(given.get("DTSTART", ""))
    onsets = {start}
    for line in lines:
        name, value = line.partition(":")[0].partition(";")[0], line.partition(":")[2]
        if name == "RDATE":
            onsets |= {_wall(each) for each in value.split(",")}
        elif name == "RRULE":
            last = datetime(max(_LAST_YEAR, start.year + 1), 1, 1)
            try:
                for wall in walls_between(value, start, start, last, timezone(before)):
                    onsets.add(wall)
                    if len(onsets) > _MOST_CHANGES:
                        raise SourceFault("its definition (VTIMEZONE) changes the clocks too often")
            except WhenvocaError as error:
                raise SourceFault(f"its definition (VTIMEZONE) cannot be read: {error.message}") from error
    return sorted(onsets)


def _wall(text: str) -> datetime:
    try:
        return datetime.fromisoformat(text.strip().rstrip("Z")[:15])
    except ValueError as error:
        raise SourceFault(f'its definition (VTIMEZONE) has no moment "{text}"') from error


def _offset(text: str) -> timedelta:
    found = _OFFSET.match(text.strip())
    if found is None:
        raise SourceFault(f'its definition (VTIMEZONE) has no offset "{text}"')
    span = timedelta(hours=int(found[2]), minutes=int(found[3]), seconds=int(found[4] or 0))
    if span >= timedelta(days=1):
        raise SourceFault(f'its definition (VTIMEZONE) has no offset "{text}"')
    return -span if found[1] == "-" else span


def agrees(zone: ZoneInfo, defined: FileZone, first: int, last: int) -> bool:
    """Whether a zone of the system has the same offsets as the file says, all days of these years."""
    day = datetime(max(first, 1901), 1, 1, 12, tzinfo=UTC)
    while day.year <= last:
        if day.astimezone(zone).utcoffset() != day.astimezone(defined).utcoffset():
            return False
        day += timedelta(days=1)
    return True


@lru_cache(maxsize=256)
def known_zone(name: str) -> ZoneInfo | None:
    """The zone of the system that a TZID names: by its IANA name in whatever case, or behind a prefix
    ("/example.org/Europe/Berlin"), or by a name of Windows (CLDR's table)."""
    bare = name.strip().strip('"')
    for piece in (bare, *(bare[index + 1 :] for index, sign in enumerate(bare) if sign == "/")):
        if zone := _of_iana(piece):
            return zone
    from icalendar.timezone.windows_to_olson import WINDOWS_TO_OLSON

    return _of_iana(WINDOWS_TO_OLSON.get(bare, ""))


def _of_iana(name: str) -> ZoneInfo | None:
    if not name or len(name) > 64:
        return None
    try:
        return load_zone(_iana_names().get(name.lower(), name))
    except WhenvocaError:
        return None


@lru_cache(maxsize=1)
def _iana_names() -> dict[str, str]:
    from zoneinfo import available_timezones

    return {name.lower(): name for name in available_timezones()}
