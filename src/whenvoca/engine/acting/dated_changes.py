"""Effects on events and tasks, made of what is there and what is wanted; decided again where the event moved on."""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from typing import Any

from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.series import moved_whole
from whenvoca.calendars.task import Task
from whenvoca.calendars.valid import refuse_invalid
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.place_protocols import MovedOn, StoredEvent

_ATTEMPTS = 3
_TIMES = {"start", "end", "due", "repeat"}


def retry_on_conflict(decide: Callable[[], Effect | None]) -> Generator[Effect, Receipt, tuple[Effect, Receipt] | None]:
    """Yields the effect that ``decide`` gives; anew, three times at most, while its event moves on meanwhile. Raises
    MovedOn after that."""
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


def shown_fields(event: Event) -> dict[str, Any]:
    """The filled fields, for the journal and the history."""
    return {name: value for name, value in event.content().items() if value or name in ("start", "end")}


def to_creation(event: Event, place: str, number: int, notes: Sequence[str] = (), **more: Any) -> Effect:
    """The effect that creates the event, the n-th of the lineage that is its origin. Raises RowFault where a calendar
    cannot hold it."""
    refuse_invalid(event)
    return Effect(
        verb=f"create {_noun(event)}",
        place=place,
        target=event.uid,
        after=shown_fields(event),
        event=event,
        lineage=event.origin,
        number=number,
        notes=tuple(notes),
        **more,
    )


def to_change(
    stored: StoredEvent, new: Event, place: str, key: str, notes: Sequence[str] = (), **more: Any
) -> Effect | None:
    """The effect that makes the event what is wanted, None if it is so already. Raises RowFault where a calendar cannot
    hold it."""
    if stored.event.occurrence is None:
        new = moved_whole(stored.event, new)
    changes = changed_fields(stored.event, new)
    if not changes:
        return None
    if _TIMES & changes.keys():
        refuse_invalid(new)
    before = {name: old for name, (old, _) in changes.items()}
    after = {name: value for name, (_, value) in changes.items()}
    return _on_stored(
        f"change {_noun(new)}", stored, place, key, before, after=after, event=new, notes=tuple(notes), **more
    )


def to_deletion(stored: StoredEvent, place: str, key: str, **more: Any) -> Effect:
    """The effect that takes the event away."""
    return _on_stored(f"delete {_noun(stored.event)}", stored, place, key, shown_fields(stored.event), **more)


def _on_stored(verb: str, stored: StoredEvent, place: str, key: str, before: dict[str, Any], **more: Any) -> Effect:
    """With the version that it was decided on, and what stood there whole, for an undo."""
    kept = stored.data.decode("utf-8", "replace")
    return Effect(
        verb=verb, place=place, target=key, before=before, version=stored.version, stored=stored, kept=kept, **more
    )


def _noun(event: Event) -> str:
    return "task" if isinstance(event, Task) else "event"
