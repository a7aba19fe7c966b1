"""Changes that carry the version they were decided on: if the thing moved on, it is read and decided anew."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from typing import Any

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.recurrence import iter_occurrences
from whenvoca.calendars.task import Task
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.faces import MovedOn, StoredEvent
from whenvoca.engine.step_call import StepCall
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition
from whenvoca.steps.event_fields import shown_fields

_ATTEMPTS = 3
THIS_ONE, LATER, ALL = "this one", "this and later", "all of them"
WHICH = FieldDefinition(
    name="which", type="choice", choices=(THIS_ONE, LATER, ALL), default=THIS_ONE,
    meaning="Of an occurrence of a series: that one alone, it and those after it, or the whole series.",
)  # fmt: skip


def decided(decide: Callable[[], Effect | None]) -> Generator[Effect, Receipt, tuple[Effect, Receipt] | None]:
    """Yields the effect that ``decide`` gives; anew, three times at most, while its thing moves on meanwhile."""
    for attempt in range(_ATTEMPTS):
        effect = decide()
        if effect is None:
            return None
        try:
            receipt = yield effect
        except MovedOn:
            if attempt == _ATTEMPTS - 1:
                raise
        else:
            return effect, receipt
    return None


def to_change(stored: StoredEvent, new: Event, place: str, notes: list[str], key: str, **more: Any) -> Effect | None:
    """The effect that makes the event what is wanted, None if it is so already."""
    changes = changed_fields(stored.event, new)
    if not changes:
        return None
    return Effect(
        verb="change task" if isinstance(new, Task) else "change event", place=place, target=key,
        before={name: old for name, (old, _) in changes.items()},
        after={name: value for name, (_, value) in changes.items()}, version=stored.version, stored=stored, event=new,
        kept=to_text(stored), notes=tuple(notes), **more,
    )  # fmt: skip


def to_deletion(stored: StoredEvent, place: str, key: str, **more: Any) -> Effect:
    """The effect that takes the event away."""
    return Effect(
        verb="delete task" if isinstance(stored.event, Task) else "delete event", place=place, target=key,
        before=shown_fields(stored.event), version=stored.version,
        stored=stored, kept=to_text(stored), **more,
    )  # fmt: skip


def to_text(stored: StoredEvent) -> str:
    """What stands there whole, for an undo."""
    return stored.data.decode("utf-8", "replace")


def ended_before(master: Event, occurrence: Event, others: tuple[Event, ...]) -> Event:
    """The series without that occurrence and those after it. Raises RowFault where changed ones would be lost."""
    at = occurrence.occurrence
    assert at is not None
    later = [each for each in others if each.occurrence is not None and _is_after(each.occurrence, at)]
    if later:
        raise RowFault(
            f'of "{master.title}" {len(later)} occurrences after {at:%Y-%m-%d} were changed one by one and would be lost',
            mend="change or delete those first",
        )
    parts = [part for part in master.rule.split(";") if part.split("=")[0].upper() not in ("UNTIL", "COUNT")]
    last = at - (timedelta(seconds=1) if isinstance(at, datetime) else timedelta(days=1))
    until = f"{last.astimezone(UTC):%Y%m%dT%H%M%SZ}" if isinstance(last, datetime) else f"{last:%Y%m%d}"
    return replace(master, rule=";".join([*parts, f"UNTIL={until}"]), sequence=master.sequence + 1)


def _is_after(moment: datetime | date, other: datetime | date) -> bool:
    if isinstance(moment, datetime) and isinstance(other, datetime):
        return moment > other
    return f"{moment:%Y%m%d}" > f"{other:%Y%m%d}"


def rest_of(call: StepCall, master: Event, occurrence: Event) -> Event:
    """The series from that occurrence on, to be changed and made as one of its own."""
    at, zone = occurrence.occurrence, call.scope.zone
    assert at is not None
    rule = master.rule
    parts = dict(part.split("=", 1) for part in rule.split(";") if "=" in part)
    if "COUNT" in parts:
        begin, end = master.span(zone)[0], occurrence.span(zone)[0]
        before = sum(
            1 for each in iter_occurrences(replace(master, excluded=()), begin, end, zone) if each.span(zone)[0] < end
        )
        parts["COUNT"] = str(max(1, int(parts["COUNT"]) - before))
        rule = ";".join(f"{name}={value}" for name, value in parts.items())
    excluded = tuple(each for each in master.excluded if _is_after(each, at))
    return replace(
        master, start=occurrence.start, end=occurrence.end, rule=rule, excluded=excluded, occurrence=None, sequence=0
    )


def moved_series(master: Event, occurrence: Event, changed: Event) -> Event:
    """The whole series with what was changed in one of its occurrences; times move by as much."""
    new = replace(
        changed, start=master.start, end=master.end, rule=master.rule, excluded=master.excluded, added=master.added,
        occurrence=None, sequence=master.sequence + 1,
    )  # fmt: skip
    if (changed.start, changed.end) == (occurrence.start, occurrence.end):
        return new
    if (
        isinstance(changed.start, datetime)
        and isinstance(occurrence.start, datetime)
        and isinstance(master.start, datetime)
    ):
        shift = changed.start.replace(tzinfo=None) - occurrence.start.replace(tzinfo=None)
        start = (master.start.replace(tzinfo=None) + shift).replace(tzinfo=master.start.tzinfo)
        length: timedelta = changed.end - changed.start
        return replace(new, start=start, end=(start.astimezone(UTC) + length).astimezone(start.tzinfo))
    if not isinstance(changed.start, datetime) and not isinstance(master.start, datetime):
        assert not isinstance(occurrence.start, datetime)
        first = master.start + (changed.start - occurrence.start)
        return replace(new, start=first, end=first + (changed.end - changed.start))  # type: ignore[operator]
    raise RowFault("a series cannot go from whole days to times, or back, by one of its occurrences")
