"""Effects on events and tasks: created, changed, deleted, put back, or found as they were made."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.event import Event, changed_fields, from_content
from whenvoca.calendars.patch import property_lines
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.state import event_key, from_state, to_state
from whenvoca.engine.acting.dated_changes import shown_fields, to_change, to_deletion
from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import Effect, Receipt, show_brief, show_changes, show_fields
from whenvoca.engine.place_protocols import RowState, StoredEvent
from whenvoca.steps.effect_words import titled, when
from whenvoca.values.texts import show_value

_UNKNOWN = "unknown"  # a version that nothing has: somebody changed it before we knew that it is there
_SHOWN_FIRST = ("title", "start", "end", "due")
# Which attributes of Event stand behind a field of the language, where they are not called as it is.
ATTRIBUTES = {
    "optional": ("attendees",),
    "reminder": ("alarms",),
    "repeat": ("rule",),
    "category": ("categories",),
    "due": ("end",),
    "meeting-link": ("meeting_link",),
    "person": ("person", "person_mail"),
}


def _target(effect: Effect) -> str:
    title = (effect.after or {}).get("title") or (effect.before or {}).get("title")
    if not title and effect.stored is not None:
        title = effect.stored.event.title
    if not title and effect.event is not None:
        title = effect.event.title
    return show_brief(title or effect.target)


def _made(effect: Effect) -> str:
    fields = {name: value for name, value in (effect.after or {}).items() if name not in _SHOWN_FIRST}
    filled = [f"{name} {show_brief(value, name)}" for name, value in fields.items() if value not in ("yes", [])]
    return "; ".join([when(effect.after or {}), *filled])


# --- undoing


def _found(stage: Stage, effect: Effect, left: list[str]) -> StoredEvent | None:
    """What stands of it; ``left`` hears of one that is gone."""
    stored = stage.find_event(effect.place, effect.target)
    if stored is None:
        title = (effect.after or effect.before or {}).get("title") or effect.target
        left.append(f'{effect.place}: "{title}" is no longer there')
    return stored


def _undo_creation(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    stored = _found(stage, effect, left)
    if stored is None:
        return
    content = shown_fields(stored.event)
    changed = [name for name, value in content.items() if not _is_same(value, (effect.after or {}).get(name))]
    if changed:
        title = stored.event.title
        left.append(f'{effect.place}: "{title}" was changed since ({", ".join(changed)}) and is left there')
        return
    yield to_deletion(stored, effect.place, effect.target, lineage=effect.lineage, number=effect.number)


def _undo_deletion(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    stored = stage.find_event(effect.place, effect.target)
    if stored is not None:
        left.append(f'{effect.place}: "{stored.event.title}" stands there again')
        return
    known = stage.made(effect.place, effect.lineage) if effect.lineage else None
    base = dict(known.base) if known is not None and known.base is not None else None
    yield replace(
        effect, verb=f"put back {effect.noun}", before=None, after=effect.before, version="", notes=(), base=base
    )


def _undo_change(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    stored = _found(stage, effect, left)
    if stored is None:
        return
    new, names = _restored(effect, stored, stage, left)
    known = stage.made(effect.place, effect.lineage) if effect.lineage else None
    base = _base_with(known.base, new, names) if names and known is not None and known.base is not None else None
    change = to_change(
        stored, new, effect.place, effect.target, lineage=effect.lineage, number=effect.number, base=base
    )
    if names and change is not None:
        yield change


def _restored(effect: Effect, stored: StoredEvent, stage: Stage, left: list[str]) -> tuple[Event, list[str]]:
    """The event with the changed fields as they were, and which these are; one that was changed again since stays."""
    now = stored.event.content()
    given: dict[str, Any] = {}
    names: list[str] = []
    old = _kept_event(effect, stage)
    for name, value in (effect.after or {}).items():
        if not _is_same(now[name], value) and _is_same(now[name], (effect.before or {}).get(name)):
            continue  # it is so again: by somebody, or by an undo whose answer was lost
        if not _is_same(now[name], value):
            said = f"{name} is {show_value(now[name]) or 'empty'} now"
            left.append(f'{effect.place}: "{stored.event.title}" was changed since, {said}; it is left so')
            continue
        is_derived = old.occurrence != stored.event.occurrence  # an occurrence that had no VEVENT of its own
        was = (effect.before or {}).get(name)
        for attribute in ATTRIBUTES.get(name, (name,)):
            given[attribute] = was if is_derived and name in ("start", "end") else getattr(old, attribute)
        names.append(name)
    is_whole = stored.event.occurrence is None and len(old.excluded) == len(stored.event.excluded)
    if is_whole and given.keys() & {"start", "rule"}:
        # the single dates of a series move back with it
        given |= {"excluded": old.excluded, "added": old.added, "periods": old.periods}
    if old.occurrence == stored.event.occurrence and set(names) == set(effect.after or {}):
        given["extra"] = property_lines(effect.kept.encode(), effect.target, names, stage.calendar(effect.place).zone)
    return replace(stored.event, sequence=stored.event.sequence + 1, **given), names


def _kept_event(effect: Effect, stage: Stage) -> Event:
    """The event as it stood before the effect."""
    zone = stage.calendar(effect.place).zone
    events = read_events(effect.kept.encode(), zone, noun="task" if effect.noun == "task" else "event")
    exact = [event for event in events if event_key(event.uid, event.occurrence) == effect.target]
    return exact[0] if exact else events[0]


def _base_with(base: RowState, event: Event, names: Iterable[str]) -> dict[str, Any]:
    """A base with these fields of the event; what a step noted besides stays, but for what was disputed."""
    attributes = {attribute for name in names for attribute in ATTRIBUTES.get(name, (name,))}
    own = {name: value for name, value in base.items() if name in type(event).__struct_fields__ or name == "task"}
    known = replace(from_state(own), **{name: getattr(event, name) for name in attributes})
    return {
        **{name: value for name, value in base.items() if name not in own and name != "disputed"},
        **to_state(known),
    }


def _is_same(one: Any, other: Any) -> bool:
    return one == other or (not one and not other)


def _undo_nothing(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    yield from ()


# --- found as it was intended


def _find_created(stage: Stage, effect: Effect) -> tuple[Effect, Receipt] | None:
    stored = stage.find_event(effect.place, effect.target)
    if stored is None or stored.event.origin != effect.lineage:
        return None
    intended = from_content(effect.target, type(stored.event), effect.after or {})
    version = _UNKNOWN if changed_fields(intended, stored.event) else stored.version
    return replace(effect, base=to_state(intended)), Receipt(version, stored.address)


def _find_changed(stage: Stage, effect: Effect) -> tuple[Effect, Receipt] | None:
    stored, after = stage.find_event(effect.place, effect.target), effect.after or {}
    if stored is None or not after:
        return None
    now = stored.event.content()
    if not all(_is_same(now[name], value) for name, value in after.items()):
        return None
    besides = changed_fields(_kept_event(effect, stage), stored.event).keys() - after.keys()
    known = stage.made(effect.place, effect.lineage) if effect.lineage else None
    base = _base_with(known.base, stored.event, after) if known is not None and known.base is not None else None
    return replace(effect, base=base), Receipt(_UNKNOWN if besides else stored.version, stored.address)


def _find_deleted(stage: Stage, effect: Effect) -> tuple[Effect, Receipt] | None:
    return None if stage.find_event(effect.place, effect.target) is not None else (effect, Receipt())


# --- the kinds


class DatedEffects(Struct, frozen=True, kw_only=True):
    """The kinds of effects on events, or on tasks."""

    create: EffectKind
    change: EffectKind
    delete: EffectKind
    take: EffectKind
    leave: EffectKind


def _kinds(noun: str) -> DatedEffects:
    def changed(effect: Effect) -> str:
        return f"{noun} changed in {effect.place}: {', '.join(show_changes(effect))}"

    put_back = EffectKind(
        verb=f"put back {noun}",
        line=lambda effect: f"{noun} put back into {effect.place}",
        target=_target,
        detail=_made,
        invert=_undo_creation,
    )
    return DatedEffects(
        create=EffectKind(
            verb=f"create {noun}",
            line=lambda effect: f"{titled(effect.after or {}, noun)} {when(effect.after or {})} in {effect.place}",
            target=_target,
            detail=_made,
            invert=_undo_creation,
            find_done=_find_created,
        ),
        change=EffectKind(
            verb=f"change {noun}",
            line=changed,
            target=_target,
            detail=show_fields,
            counts_as=("change",),
            invert=_undo_change,
            find_done=_find_changed,
        ),
        delete=EffectKind(
            verb=f"delete {noun}",
            line=lambda effect: (
                f"{titled(effect.before or {}, noun)} {when(effect.before or {})} taken out of {effect.place}"
            ),
            target=_target,
            detail=lambda effect: when(effect.before or {}),
            counts_as=("deletion", "change"),
            invert=_undo_deletion,
            find_done=_find_deleted,
            inverses=(put_back,),
        ),
        take=EffectKind(
            verb=f"take {noun} as made",
            line=lambda effect: f"its {noun} stands already in {effect.place}",
            target=_target,
            detail=show_fields,
            invert=_undo_nothing,
        ),
        leave=EffectKind(
            verb=f"take {noun} as changed",
            line=lambda effect: f"left in {effect.place}",
            target=_target,
            detail=show_fields,
            invert=_undo_nothing,
        ),
    )


EVENT_EFFECTS = _kinds("event")
TASK_EFFECTS = _kinds("task")
