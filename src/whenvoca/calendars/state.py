"""Events as plain states, for the ledger: what stood, so that a change can be told and an old one shown again."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC, date, datetime
from typing import Any

from msgspec import NODEFAULT

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.task import Task

_LEFT_OUT = ("sequence", "extra", "later")  # bookkeeping, and what events of their own say
_DEFAULTS = {
    cls: dict.fromkeys(cls.__struct_fields__, NODEFAULT)
    | dict(zip(reversed(cls.__struct_fields__), reversed(cls.__struct_defaults__), strict=False))
    for cls in (Event, Task)
}
_OCCURRENCE_KEY = re.compile(r"(.*) @ (\d{8}(?:T\d{6}Z)?)", re.DOTALL)
_TASK = "task"  # stands in the state of a task


def to_state(event: Event) -> dict[str, Any]:
    """The event's filled fields, by the names of ``Event``; equal states are equal events for people."""
    state: dict[str, Any] = {_TASK: True} if isinstance(event, Task) else {}
    for name, default in _DEFAULTS[type(event)].items():
        value = getattr(event, name)
        if name in _LEFT_OUT or value == default:
            continue
        if name == "attendees":
            value = [
                [a.address, a.optional, a.answer, a.answer_wanted, a.name, *([a.comment] if a.comment else [])]
                for a in value
            ]
        elif isinstance(value, tuple):
            value = [list(each) if isinstance(each, tuple) else each for each in value]
        state[name] = value
    return state


def from_state(state: Mapping[str, Any]) -> Event:
    """The event of such a state."""
    given = dict(state)
    cls = Task if given.pop(_TASK, False) else Event
    given["attendees"] = tuple(Attendee(*each) for each in state.get("attendees", ()))
    for name in ("alarms", "categories", "excluded", "exception_rules", "added"):
        given[name] = tuple(state.get(name, ()))
    given["periods"] = tuple((start, end) for start, end in state.get("periods", ()))
    return cls(**given)


def event_key(uid: str, occurrence: datetime | date | None = None) -> str:
    """What makes an event the same event: its UID, for an occurrence of a series with its original start."""
    if occurrence is None:
        return uid
    if isinstance(occurrence, datetime):
        return f"{uid} @ {occurrence.astimezone(UTC):%Y%m%dT%H%M%SZ}"
    return f"{uid} @ {occurrence:%Y%m%d}"


def original_start(key: str) -> datetime | date | None:
    """The original start that a key names; None for a whole event."""
    occurrence = split_key(key)[1]
    if not occurrence:
        return None
    if "T" in occurrence:
        return datetime.strptime(occurrence, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
    return datetime.strptime(occurrence, "%Y%m%d").replace(tzinfo=UTC).date()


def split_key(key: str) -> tuple[str, str]:
    """The UID, and the original start as ``event_key`` writes it, empty for a whole event."""
    if " @ " in key and (found := _OCCURRENCE_KEY.fullmatch(key)):
        return found[1], found[2]
    return key, ""
