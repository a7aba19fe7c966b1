"""The setting `free` of a form's field: which free times it offers."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import time, timedelta
from typing import Any

from msgspec import Struct

from whenvoca.calendars.free_time import Window
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import SettingsFault
from whenvoca.language.days import NoDays, parse_days
from whenvoca.language.faults import Spot, nearest
from whenvoca.places.settings import PlaceSettings
from whenvoca.values.durations import parse_duration

_KEYS = ("calendars", "people", "length", "between", "days", "ahead", "every")
_BETWEEN = re.compile(r"(\d{1,2}:\d{2})\s*(?:-|–|to|and)\s*(\d{1,2}:\d{2})")
_EXAMPLE = 'free = { calendars = ["outreach"], length = "1 hour", between = "09:00-17:00", days = "weekdays" }'
_LONGEST_AHEAD = timedelta(days=366)
_SHORTEST_STEP = timedelta(minutes=5)


class FreeTimes(Struct, frozen=True, kw_only=True):
    """Which times a field offers: those at which all these calendars are free for ``length``, or, with ``people``
    (addresses), free of what concerns them. ``ahead``: how far from now they go."""

    calendars: tuple[str, ...]
    people: tuple[str, ...]
    length: timedelta
    window: Window
    ahead: timedelta
    every: timedelta


def read_free(settings: PlaceSettings, field: str, table: Any, workspace: Workspace) -> FreeTimes:
    """The setting of that field. Raises SettingsFault."""

    def refuse(said: str, fix: str = _EXAMPLE) -> SettingsFault:
        return settings.refuse("fields", f'field "{field}": {said}', fix)

    if not isinstance(table, Mapping):
        raise refuse("free is not a table")
    for key in table:
        if key not in _KEYS:
            raise refuse(f'free has no setting "{key}"', nearest(str(key), _KEYS) or f"there are: {', '.join(_KEYS)}")
    names = {name.lower(): name for name, one in workspace.places.items() if one.get("kind") == "calendar"}
    calendars = _texts(table.get("calendars"))
    for each in calendars:
        if each.lower() not in names:
            raise refuse(f'there is no calendar "{each}"', nearest(each, names.values()))
    if not calendars:
        raise refuse("free names no calendars")
    people = []
    for each in _texts(table.get("people")):
        person = workspace.people.find(each)
        if person is None or not person.mail:
            raise refuse(f'there is nobody "{each}" with an address in [people]')
        people.append(person.mail)
    length = _span(table, "length", "1 hour", refuse)
    every = _span(table, "every", "", refuse) or length
    ahead = _span(table, "ahead", "14 days", refuse)
    if ahead > _LONGEST_AHEAD:
        raise refuse("free goes too far ahead: a year at most", 'ahead = "14 days"')
    if every < _SHORTEST_STEP:
        raise refuse("the steps of free are too short: five minutes at least", 'every = "30 minutes"')
    return FreeTimes(
        calendars=tuple(names[each.lower()] for each in calendars),
        people=tuple(people),
        length=length,
        window=_window(table, workspace, refuse),
        ahead=ahead,
        every=every,
    )


def _texts(value: Any) -> list[str]:
    return [str(each) for each in value] if isinstance(value, list) else [value] if isinstance(value, str) else []


def _span(table: Mapping[str, Any], key: str, default: str, refuse: Any) -> timedelta:
    text = table.get(key, default)
    span = parse_duration(text) if isinstance(text, str) and text else None
    if text and (span is None or span.months or span.to_seconds() <= 0):
        raise refuse(f'{key} = "{text}" is not a duration', f'such as {key} = "30 minutes"')
    return timedelta(seconds=float(span.to_seconds())) if span is not None else timedelta()


def _window(table: Mapping[str, Any], workspace: Workspace, refuse: Any) -> Window:
    begin, end = workspace.hours
    if "between" in table:
        match = _BETWEEN.fullmatch(str(table["between"]).strip())
        try:
            begin, end = (time.fromisoformat(part.zfill(5)) for part in (match.groups() if match else ()))
        except ValueError:
            end = begin
        if begin == end:
            raise refuse(f'between = "{table["between"]}" is not understood', 'such as between = "09:00-17:00"')
    try:
        days = parse_days(str(table.get("days", "weekdays")), Spot(1, 1))
    except NoDays as error:
        raise refuse(f"days: {error}", 'such as days = "weekdays", or "tuesday, friday"') from error
    if not days.weekdays or days.days or days.nths:
        raise refuse("days names other days than weekdays", 'such as days = "weekdays", or "tuesday, friday"')
    return Window(begin, end, frozenset(days.weekdays))
