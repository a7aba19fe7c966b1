"""The task as a thing in a workflow: its fields by the language's names."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event, to_start
from whenvoca.calendars.task import Task
from whenvoca.engine.things.event import EventThing
from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.types import DURATION, MOMENT, NUMBER, TEXT, Type, list_of, thing


def task_type(place: PlaceInfo | None = None) -> Type:
    """The type of a task: each field that a workflow can read."""
    fields: dict[str, Type] = dict.fromkeys(
        ("title", "section", "person", "details", "uid", "source", "address", "calendar"), TEXT
    )
    fields |= {"start": MOMENT, "due": MOMENT, "finished": MOMENT, "priority": NUMBER, "reminder": list_of(DURATION)}
    return thing("task", fields)


TASK_FIELDS = frozenset(task_type().fields)


class TaskThing(EventThing):
    """A task in its list: ``place`` is the list's name."""

    __slots__ = ()

    def __init__(self, task: Task, place: str, address: str, zone: ZoneInfo) -> None:
        super().__init__(task, place, address, zone)

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is no field of a task."""
        task: Any = self.event
        match word:
            case "start" | "due":
                value = task.start if word == "start" else task.end
                return None if value is None else to_start(value, self._zone)
            case "finished":
                return None if task.finished is None else task.finished.astimezone(self._zone)
            case "reminder" | "alarm":
                return list(task.alarms)
            case "calendar":
                return self.place
            case "address":
                return self._address or None
        return {
            "title": task.title,
            "section": task.section,
            "person": task.person,
            "details": task.details,
            "uid": task.uid,
            "source": task.source,
            "priority": task.priority,
        }[word]


def to_thing(
    event: Event, place: str, address: str, zone: ZoneInfo, travel: Callable[[str], Sequence[Event]] = lambda key: ()
) -> EventThing:
    """An event or a task as workflows see it; ``travel`` answers what travel stands around an event of that key."""
    if isinstance(event, Task):
        return TaskThing(event, place, address, zone)
    return EventThing(event, place, address, zone, travel)
