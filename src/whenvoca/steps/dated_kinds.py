"""What steps do alike for events and tasks: how one is made of fields, changed, and compared field by field."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from msgspec import Struct, field

from whenvoca.calendars.event import Event
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.steps.event_fields import changed_event, to_event
from whenvoca.steps.task_fields import changed_task, to_task

Groups = Mapping[str, tuple[tuple[str, ...], tuple[str, ...]]]


class DatedKind(Struct, frozen=True):
    """Events, or tasks. ``groups`` is what is compared as one: fields of the language, and the attributes behind them;
    ``shown`` the fields that tell such a group, where they are others than its name."""

    noun: str
    make: Callable[[StepCall, str, str, list[str]], Event]
    change: Callable[[StepCall, Event, list[str]], Event]
    groups: Groups
    shown: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def verb(self, action: str) -> str:
        """The verb of an effect that does this to such a thing."""
        return f"take {self.noun} as made" if action == "take" else f"{action} {self.noun}"


EVENT = DatedKind(
    "event",
    to_event,
    changed_event,
    {
        "time": (("start", "end", "length", "first-day", "last-day", "zone", "repeat"), ("start", "end", "rule")),
        "title": (("title",), ("title",)),
        "location": (("location",), ("location",)),
        "details": (("details",), ("details",)),
        "attendees": (("attendees", "optional"), ("attendees", "organizer")),
        "reminder": (("reminder",), ("alarms",)),
        "busy": (("busy",), ("busy",)),
        "priority": (("priority",), ("priority",)),
        "colour": (("colour",), ("colour",)),
        "category": (("category",), ("categories",)),
        "private": (("private",), ("private",)),
        "meeting-link": (("meeting-link",), ("meeting_link",)),
    },
    {"time": ("start", "end", "repeat"), "attendees": ("attendees", "optional")},
)

TASK = DatedKind(
    "task",
    to_task,
    changed_task,
    {
        "time": (("start", "due"), ("start", "end")),
        "title": (("title",), ("title",)),
        "section": (("section",), ("section",)),
        "person": (("person",), ("person", "person_mail")),
        "details": (("details",), ("details",)),
        "priority": (("priority",), ("priority",)),
        "reminder": (("reminder",), ("alarms",)),
        "finished": (("finished",), ("finished",)),
    },
    {"time": ("start", "due")},
)


def kind_of(call: StepCall) -> DatedKind:
    """The kind of thing that the step is about."""
    return TASK if "task" in (call.definition.thing, call.definition.adds) else EVENT
