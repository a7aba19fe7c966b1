"""Changes that carry the version they were decided on: if the thing moved on, it is read and decided anew."""

from __future__ import annotations

from collections.abc import Callable, Generator
from typing import Any

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.task import Task
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.place_protocols import MovedOn, StoredEvent
from whenvoca.language.definitions import FieldDefinition
from whenvoca.steps.event_fields import shown_fields

_ATTEMPTS = 3
THIS_ONE, LATER, ALL = "this one", "this and later", "all of them"
WHICH = FieldDefinition(
    "which",
    "choice",
    "Of an occurrence of a series: that one alone, it and those after it, or the whole series.",
    choices=(THIS_ONE, LATER, ALL),
    default=THIS_ONE,
)


def retry_on_conflict(decide: Callable[[], Effect | None]) -> Generator[Effect, Receipt, tuple[Effect, Receipt] | None]:
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
        verb="change task" if isinstance(new, Task) else "change event",
        place=place,
        target=key,
        before={name: old for name, (old, _) in changes.items()},
        after={name: value for name, (_, value) in changes.items()},
        version=stored.version,
        stored=stored,
        event=new,
        kept=to_text(stored),
        notes=tuple(notes),
        **more,
    )


def to_deletion(stored: StoredEvent, place: str, key: str, **more: Any) -> Effect:
    """The effect that takes the event away."""
    return Effect(
        verb="delete task" if isinstance(stored.event, Task) else "delete event",
        place=place,
        target=key,
        before=shown_fields(stored.event),
        version=stored.version,
        stored=stored,
        kept=to_text(stored),
        **more,
    )


def to_text(stored: StoredEvent) -> str:
    """What stands there whole, for an undo."""
    return stored.data.decode("utf-8", "replace")
