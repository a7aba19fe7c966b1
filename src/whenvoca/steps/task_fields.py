"""The fields of a task in a step: what they are, and how they become a task or change one."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import date, datetime
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.task import Task
from whenvoca.calendars.writer import carried
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.operations import to_instant
from whenvoca.steps.event_fields import EVENT_FIELDS, to_priority, to_reminders, to_title
from whenvoca.values.addresses import to_address
from whenvoca.values.texts import show_value
from whenvoca.values.usable import refuse_unusable
from whenvoca.values.zones import told_apart

_OF_EVENTS = {each.name: each for each in EVENT_FIELDS}


def to_task(call: StepCall, uid: str, mark: str, notes: list[str]) -> Task:
    """The task that the step's fields describe; its source is what the run is about.

    Raises RowFault where a field cannot be read.
    """
    return _with_fields(call, Task(uid=uid, origin=mark, source=_source_of(call)))


def changed_task(call: StepCall, old: Event, notes: list[str]) -> Task:
    """The task with the fields that stand in the step; an empty one clears what was there. Raises RowFault."""
    assert isinstance(old, Task)
    return _with_fields(call, replace(old, sequence=old.sequence + 1))


def _source_of(call: StepCall) -> str:
    subject: Any = call.subject
    return str(getattr(subject, "uid", "") or getattr(subject, "key", "") or "")


def _with_fields(call: StepCall, task: Task) -> Task:
    given: dict[str, Any] = {}
    if call.gives("title"):
        given["title"] = to_title(call)
    for word, attribute in (("start", "start"), ("due", "end")):
        if call.gives(word):
            given[attribute] = _moment(call, word)
    for word in ("section", "details"):
        if call.gives(word):
            given[word] = carried(call.text(word))
    if call.gives("person"):
        given["person"], given["person_mail"] = _person(call)
    if call.gives("priority"):
        given["priority"] = to_priority(call)
    if call.gives("reminder"):
        given["alarms"] = to_reminders(call)
    if call.gives("finished"):
        finished = _moment(call, "finished")
        given["finished"] = (
            finished if finished is None or isinstance(finished, datetime) else to_instant(finished, call.scope.zone)
        )
    new = replace(task, **given)
    _refuse_turned(new)
    return new


def _moment(call: StepCall, word: str) -> datetime | date | None:
    """A moment in the zone that is meant, or a whole day."""
    value = call.value(word)
    if isinstance(value, date):
        refuse_unusable(value, word)
    if isinstance(value, datetime):
        value = value.replace(microsecond=0)  # iCalendar counts whole seconds
        has_zone = value.tzinfo is not None and hasattr(value.tzinfo, "key")
        return told_apart(value if has_zone else value.astimezone(call.scope.zone))
    if value is None or isinstance(value, date):
        return value
    raise RowFault(f"{word}: {show_value(value)} is no moment")


def _refuse_turned(task: Task) -> None:
    if task.start is None or task.end is None:
        return
    if isinstance(task.start, datetime) != isinstance(task.end, datetime):
        raise RowFault(
            "start and due are of two kinds, a whole day and a moment", fix="give both with a time, or both without"
        )
    if isinstance(task.start, datetime) and isinstance(task.end, datetime) and task.end < task.start:
        raise RowFault(f"due {show_value(task.end)} comes before the start {show_value(task.start)}")


def _person(call: StepCall) -> tuple[str, str]:
    """A name from [people] with its address, or an address alone."""
    text = call.text("person").strip()
    person = call.people.find(text) if text else None
    address = to_address(text)
    if text and person is None and not address:
        raise RowFault(
            f'person: there is nobody "{text}" in [people]', fix="add them to whenvoca.toml, or give an address"
        )
    return (person.name, to_address(person.mail)) if person is not None else (address, address)


def check_task_fields(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    """What is wrong with the fields of a new task together."""
    if "title" not in given:
        yield "", "the title is missing", 'below it: title "…"'


TASK_FIELDS: tuple[FieldDefinition, ...] = (
    FieldDefinition("title", "text", "What is to be done.", example='"Pack for {event.title}"'),
    FieldDefinition("start", "moment", "When it may begin; a date is a whole day.", example="event.start - 2 days"),
    FieldDefinition("due", "moment", "By when it is to be done.", example="event.start - 1 day"),
    FieldDefinition("section", "text", "The section of the list it stands in.", example='"packing"'),
    FieldDefinition("person", "people", "Whose task it is: a name from [people], or an address.", example='"tomas"'),
    FieldDefinition("details", "text", "What else there is to say.", example="event.details"),
    _OF_EVENTS["priority"],
    _OF_EVENTS["reminder"],
    FieldDefinition("finished", "moment", "When it was ticked off; empty opens it again.", example="now"),
)
