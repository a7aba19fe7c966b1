"""Effects turned round: what a run did, backwards, as far as nobody has changed it since."""

from __future__ import annotations

from collections.abc import Generator, Iterable, Sequence
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.state import event_key, from_state, to_state
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import TELLING, Effect, Receipt, Verb, deed_of, noun_of
from whenvoca.engine.ledger.protocol import JournalEntry, Ledger, RunRecord
from whenvoca.engine.place_protocols import Presence, RowState, StoredEvent
from whenvoca.errors import RequestFault, RowFault
from whenvoca.values.texts import show_value

# Which attributes of Event stand behind a field of the language.
_ATTRIBUTES = {
    "attendees": "attendees",
    "optional": "attendees",
    "alarm": "alarms",
    "repeat": "rule",
    "category": "categories",
    "due": "end",
}


def choose_runs(ledger: Ledger, numbers: Sequence[int]) -> list[RunRecord]:
    """The runs to take back, those that their effects set off first, newest first. Raises RequestFault."""
    found: dict[int, RunRecord] = {}
    known = {record.number: record for record in ledger.runs(numbers=numbers, limit=len(numbers) or 1)}
    for number in numbers:
        if number not in known:
            raise RequestFault(f"there is no run {number}", fix="whenvoca runs lists them")
        if known[number].undone:
            raise RequestFault(f"run {number} was taken back already, by run {known[number].undone}")
    pending = list(numbers)
    while pending:
        number = pending.pop()
        if number in found:
            continue
        (record,) = ledger.runs(numbers=[number], limit=1)
        if record.undone is None:
            found[number] = record
            pending += ledger.runs_set_off(number)
    return [found[number] for number in sorted(found, reverse=True)]


def invert_runs(stage: Stage, records: Sequence[RunRecord], left: list[str]) -> Generator[Effect, Receipt, None]:
    """The effects of these runs turned round, the last one first; what was told to others is passed over. ``left``
    hears of what another hand changed since."""
    for record in records:
        for entry in reversed(stage.ledger.effects_done(record.number)):
            if entry.effect.verb in TELLING:
                continue
            inverting = invert(stage, entry, left)
            answer: Receipt | None = None
            while True:
                try:
                    effect = next(inverting) if answer is None else inverting.send(answer)
                except StopIteration:
                    break
                try:
                    answer = yield effect
                except RowFault as fault:
                    left.append(f"{effect.place}: {fault.message}")
                    break


def invert(stage: Stage, entry: JournalEntry, left: list[str]) -> Generator[Effect, Receipt, None]:
    """One effect turned round on what stands now."""
    effect = entry.effect
    deed, noun = deed_of(effect.verb), noun_of(effect.verb)
    if deed == "take":
        return
    if effect.verb in TELLING:
        to = (
            ", ".join(as_list((effect.after or {}).get("to")))
            or (effect.after or {}).get("room")
            or (effect.after or {}).get("person")
        )
        said = (
            f"the {effect.verb.removeprefix('send ')} to {to}"
            if effect.verb != "call"
            else f"the call of {(effect.after or {}).get('address')}"
        )
        left.append(f"{effect.place}: {said} cannot be taken back")
        return
    if "presence" in effect.verb:
        yield from _invert_presence(stage, effect, left)
        return
    if effect.verb == "fill sheet":
        yield from _invert_table(stage, effect, left)
        return
    if effect.verb in ("change row", "add row", "delete row", "put back row"):
        yield from _invert_row(stage, effect, left)
        return
    stored = stage.find_event(effect.place, effect.target)
    known = stage.ledger.made(effect.place, effect.lineage) if effect.lineage else None
    more: dict[str, Any] = {
        "place": effect.place,
        "target": effect.target,
        "lineage": effect.lineage,
        "number": effect.number,
    }
    if deed == "delete":
        if stored is not None:
            left.append(f'{effect.place}: "{stored.event.title}" stands there again')
            return
        base = dict(known.base) if known is not None and known.base is not None else None
        yield Effect(verb=_verb("put back", noun), after=effect.before, kept=effect.kept, base=base, **more)
        return
    title = (effect.after or effect.before or {}).get("title") or effect.target
    if stored is None:
        left.append(f'{effect.place}: "{title}" is no longer there')
        return
    kept = stored.data.decode("utf-8", "replace")
    if deed in ("create", "put back"):
        changed = [
            name for name, value in _shown(stored.event).items() if not _is_same(value, (effect.after or {}).get(name))
        ]
        if changed:
            left.append(
                f'{effect.place}: "{stored.event.title}" was changed since ({", ".join(changed)}) and is left there'
            )
            return
        yield Effect(
            verb=_verb("delete", noun),
            before=_shown(stored.event),
            version=stored.version,
            stored=stored,
            kept=kept,
            **more,
        )
        return
    new, before, after = _restored(effect, stored, stage, left)
    if after:
        base = _base_before(known.base, new, after) if known is not None and known.base is not None else None
        yield Effect(
            verb=_verb("change", noun),
            before=before,
            after=after,
            version=stored.version,
            stored=stored,
            event=new,
            kept=kept,
            base=base,
            **more,
        )


def as_list(value: Any) -> list[str]:
    """A list of texts, of one or several."""
    return [str(each) for each in value] if isinstance(value, list | tuple) else [str(value)] if value else []


def _invert_presence(stage: Stage, effect: Effect, left: list[str]) -> Generator[Effect, Receipt, None]:
    """What a person showed comes back, unless somebody has changed it since."""
    person = stage.person_of(effect.target)
    now = None if person is None else stage.presence_of(effect.place, person)
    if now is None or now != Presence.of(effect.after or {}):
        left.append(f"{effect.place}: what {effect.target} shows was changed since; it is left so")
        return
    after = {**(effect.before or {}), "chat": (effect.after or {}).get("chat") or effect.target}
    yield Effect(verb="restore presence", place=effect.place, target=effect.target, before=now.to_dict(), after=after)


def _invert_table(stage: Stage, effect: Effect, left: list[str]) -> Generator[Effect, Receipt, None]:
    """The rows that stood below the headings come back, unless somebody has changed the table since."""
    sheet = stage.sheet(effect.place)
    after, before = effect.after or {}, effect.before or {}
    now = sheet.rows_below(after["columns"])
    if now != [
        [sheet.to_raw(name, value) for name, value in zip(after["columns"], row, strict=True)] for row in after["rows"]
    ]:
        left.append(f"{effect.place}: its rows were changed since; they are left so")
        return
    yield Effect(verb="fill sheet", place=effect.place, target="", before={**after, "rows": now}, after=before)


def _verb(deed: str, noun: str) -> Verb:
    return f"{deed} {noun}"  # type: ignore[return-value]


def _shown(event: Event) -> dict[str, Any]:
    return {name: value for name, value in event.content().items() if value or name in ("start", "end")}


def _kept_event(effect: Effect, stage: Stage) -> Event:
    """The event as it stood before the effect."""
    is_task = noun_of(effect.verb) == "task"
    zone = stage.calendar(effect.place).zone
    events = read_events(effect.kept.encode(), zone, noun="task" if is_task else "event")
    exact = [event for event in events if event_key(event.uid, event.occurrence) == effect.target]
    return exact[0] if exact else events[0]


def _restored(
    effect: Effect, stored: StoredEvent, stage: Stage, left: list[str]
) -> tuple[Event, dict[str, Any], dict[str, Any]]:
    """The event with the changed fields as they were; a field that was changed again since stays."""
    now = stored.event.content()
    given: dict[str, Any] = {}
    before: dict[str, Any] = {}
    after: dict[str, Any] = {}
    old = _kept_event(effect, stage)
    for name, value in (effect.after or {}).items():
        if not _is_same(now[name], value):
            said = f"{name} is {show_value(now[name]) or 'empty'} now"
            left.append(f'{effect.place}: "{stored.event.title}" was changed since, {said}; it is left so')
            continue
        attribute = _ATTRIBUTES.get(name, name)
        was = (effect.before or {}).get(name)
        is_derived = old.occurrence != stored.event.occurrence  # an occurrence that had no VEVENT of its own
        given[attribute] = was if is_derived and name in ("start", "end") else getattr(old, attribute)
        before[name], after[name] = now[name], was
    if (
        given.keys() & {"start", "rule"}
        and stored.event.occurrence is None
        and len(old.excluded) == len(stored.event.excluded)
    ):
        given |= {"excluded": old.excluded, "added": old.added}  # what was taken out of a series moves back with it
    return replace(stored.event, sequence=stored.event.sequence + 1, **given), before, after


def _base_before(base: RowState, restored: Event, names: Iterable[str]) -> dict[str, Any]:
    """A mirror's base with the fields that came back as they were; what was disputed stays so."""
    attributes = {_ATTRIBUTES.get(name, name) for name in names}
    known = from_state({name: value for name, value in base.items() if name != "disputed"})
    return to_state(replace(known, **{name: getattr(restored, name) for name in attributes}))


def _is_same(one: Any, other: Any) -> bool:
    return one == other or (not one and not other)


def _invert_row(stage: Stage, effect: Effect, left: list[str]) -> Generator[Effect, Receipt, None]:
    sheet = stage.sheet(effect.place)
    if effect.verb == "delete row":
        key = sheet.find_key(effect.before or {})
        if key and sheet.current(key) is not None:
            left.append(f"{effect.place}: a row {effect.target} stands there again")
            return
        yield Effect(
            place=effect.place, verb="put back row", target=effect.target, after=effect.before, version=effect.version
        )
        return
    key = effect.target or _find_added(stage, effect)
    state = sheet.current(key) if key else None
    if state is None or key is None:
        left.append(f"{effect.place}: the row {effect.target} is no longer there".replace("  ", " "))
        return
    wrote = {name: sheet.to_raw(name, value) for name, value in (effect.after or {}).items()}
    if effect.verb in ("add row", "put back row"):
        changed = [name for name in dict.fromkeys([*wrote, *state]) if state.get(name) != wrote.get(name)]
        if changed:
            left.append(
                f"{effect.place}: the row {sheet.label(key)} was changed since ({', '.join(changed)}) and is left"
            )
            return
        number = str(sheet.number_of(key))
        yield Effect(place=effect.place, verb="delete row", target=key, before=dict(state), version=number)
        return
    before: dict[str, Any] = {}
    after: dict[str, Any] = {}
    for name, raw in wrote.items():
        if state.get(name) != raw:
            left.append(
                f'{effect.place}: {sheet.label(key)}, {name} was changed since, to "{show_value(state.get(name))}"; '
                "it is left so"
            )
        elif (was := (effect.before or {}).get(name)) != raw:
            before[name], after[name] = raw, was
    if after:
        yield Effect(place=effect.place, verb="change row", target=key, before=before, after=after)


def _find_added(stage: Stage, effect: Effect) -> str | None:
    """The key of a row that was added without one: the last that holds exactly what was written."""
    sheet = stage.sheet(effect.place)
    wrote = {name: sheet.to_raw(name, value) for name, value in (effect.after or {}).items()}
    return next((key for key in reversed(sheet.keys()) if sheet.current(key) == wrote), None)
