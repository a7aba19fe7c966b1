"""Effects on many occurrences of one series: one write, told and taken back occurrence by occurrence."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, tzinfo
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key, original_start, split_key
from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import Effect, Receipt, show_brief
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.errors import SettingsFault
from whenvoca.steps.dated_effects import ATTRIBUTES
from whenvoca.values.texts import show_value
from whenvoca.values.zones import load_zone

_MOST_SHOWN = 12
_ZONE = re.compile(r"DTSTART;TZID=\"?([^\":;]+)")  # whose days are told


def to_occurrences(stored: StoredEvent, place: str, pairs: Sequence[tuple[Event, Event]], **more: Any) -> Effect | None:
    """The effect that makes these occurrences what is wanted, as (before, after); None if they are so already."""
    before: dict[str, Any] = {}
    after: dict[str, Any] = {}
    parts = []
    for old, new in pairs:
        changes = changed_fields(old, new)
        name = split_key(event_key(old.uid, old.occurrence))[1]
        before |= {f"{name} {field}": was for field, (was, _) in changes.items()}
        after |= {f"{name} {field}": now for field, (_, now) in changes.items()}
        parts += [(old, new)] if changes else []
    if not parts:
        return None
    return Effect(
        verb="change occurrences",
        place=place,
        target=stored.event.uid,
        before=before,
        after=after,
        version=stored.version,
        stored=stored,
        kept=stored.data.decode("utf-8", "replace"),
        parts=tuple(parts),
        **more,
    )


def _found(stage: Stage, effect: Effect) -> tuple[StoredEvent, dict[str, Event]] | None:
    """The series as it stands, with the occurrences that the effect is about."""
    stored = stage.find_event(effect.place, effect.target)
    if stored is None:
        return None
    own = {split_key(event_key(each.uid, each.occurrence))[1]: each for each in stored.others}
    zone, found = stage.calendar(effect.place).zone, {}
    for name in dict.fromkeys(each.partition(" ")[0] for each in effect.after or {}):
        at = original_start(f"{effect.target} @ {name}")
        event = own.get(name) or (occurrence_at(stored.event, at, zone) if at is not None else None)
        if event is not None:
            found[name] = event
    return stored, found


def _undo(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    """Each field that is as it was written becomes what it was before; the others are left, and told."""
    found = _found(stage, effect)
    if found is None:
        left.append(f"{effect.place}: the series {effect.target} is no longer there")
        return
    stored, events = found
    wanted = dict(events)
    kept = read_events(effect.kept.encode(), stage.calendar(effect.place).zone)
    was = {split_key(event_key(each.uid, each.occurrence))[1]: each for each in kept if each.uid == effect.target}
    for name, value in (effect.after or {}).items():
        key, _, field = name.partition(" ")
        event = events.get(key)
        old = was.get(key) or was.get("")
        if event is None or old is None:
            continue
        now = event.content()[field]
        if now != value and (now or value):
            said = f"{field} is {show_value(now) or 'empty'} now"
            left.append(f'{effect.place}: "{event.title}" was changed since, {said}; it is left so')
            continue
        before = (effect.before or {})[name]
        given = {each: getattr(old, each) for each in ATTRIBUTES.get(field, (field,))}
        if field in ("start", "end"):
            given = {field: before}
        wanted[key] = replace(wanted[key], **given)
    pairs = [
        (event, replace(wanted[key], sequence=event.sequence + 1)) for key, event in events.items() if key in wanted
    ]
    more = {"lineage": effect.lineage, "number": effect.number, "base": _base(stage, effect)}
    change = to_occurrences(stored, effect.place, pairs, **more)
    if change is not None:
        yield change


def _find_done(stage: Stage, effect: Effect) -> tuple[Effect, Receipt] | None:
    found = _found(stage, effect)
    if found is None:
        return None
    stored, events = found
    for name, value in (effect.after or {}).items():
        key, _, field = name.partition(" ")
        if key not in events or events[key].content()[field] != value:
            return None
    return replace(effect, base=_base(stage, effect)), Receipt(stored.version, stored.address)


def _base(stage: Stage, effect: Effect) -> dict[str, Any] | None:
    """What is known of the series goes on being known."""
    known = stage.made(effect.place, effect.lineage) if effect.lineage else None
    return dict(known.base) if known is not None and known.base is not None else None


def _lines(effect: Effect) -> Iterator[str]:
    found = _ZONE.search(effect.kept)
    try:
        zone: tzinfo = load_zone(found[1]) if found else UTC
    except SettingsFault:
        zone = UTC
    for name, value in (effect.after or {}).items():
        key, _, field = name.partition(" ")
        at = original_start(f"x @ {key}")
        day = at.astimezone(zone).date() if isinstance(at, datetime) else at
        before = (effect.before or {}).get(name)
        what = "" if field == "title" else f"{field} "
        yield f"{show_value(day)}: {what}{show_brief(before, field)} → {show_brief(value, field)}"


def _count(effect: Effect) -> int:
    return len({name.partition(" ")[0] for name in effect.after or {}})


def _title(effect: Effect) -> str:
    return show_brief(effect.stored.event.title if effect.stored is not None else effect.target)


def _line(effect: Effect) -> str:
    lines = list(_lines(effect))
    more = f"; and {len(lines) - 1} more" if len(lines) > 1 else ""
    count = _count(effect)
    return f"{count} occurrence{'s' * (count != 1)} changed in {effect.place}: {lines[0]}{more}"


def _detail(effect: Effect) -> str:
    lines = list(_lines(effect))
    shown = lines if len(lines) <= _MOST_SHOWN else [*lines[:_MOST_SHOWN], f"and {len(lines) - _MOST_SHOWN} more"]
    return "\n".join(shown)


OCCURRENCE_EFFECT = EffectKind(
    verb="change occurrences",
    line=_line,
    target=_title,
    detail=_detail,
    counts_as=("change",),
    invert=_undo,
    find_done=_find_done,
)
