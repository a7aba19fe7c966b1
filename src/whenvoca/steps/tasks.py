"""The steps of tasks: create, change, finish, delete and find them in a list."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.task import Task
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.things.task import task_type
from whenvoca.language.definitions import FieldDefinition, PlaceInfo, Sentence, StepDefinition
from whenvoca.language.types import Type, list_of
from whenvoca.steps.change_event import change_things
from whenvoca.steps.create_event import create_thing
from whenvoca.steps.dated_effects import TASK_EFFECTS
from whenvoca.steps.delete_event import delete_things
from whenvoca.steps.looking_up import MISSING, MISSING_OR_MADE, SEVERAL, WHERE, choose, find_targets, look_up
from whenvoca.steps.task_fields import TASK_FIELDS, check_task_fields


def _finish(call: StepCall) -> Acting:
    things: list[Any] = find_targets(call)
    for thing in things:

        def decide(thing: Any = thing) -> Effect | None:
            stored = call.stage.find_event(thing.place, thing.key)
            if stored is None or not isinstance(stored.event, Task) or stored.event.finished is not None:
                return None
            new = replace(stored.event, finished=call.now, sequence=stored.event.sequence + 1)
            return to_change(stored, new, thing.place, thing.key)

        yield from retry_on_conflict(decide)
    now = [
        call.stage.to_thing(each.place, stored.event)
        for each in things
        if (stored := call.stage.find_event(each.place, each.key))
    ]
    return now[0] if len(now) == 1 else now or None


def _find(call: StepCall) -> Acting:
    yield from ()
    found = look_up(call)
    if call.definition.field("missing") is None:
        return found
    chosen = choose(call, found)
    return chosen if call.text("several") == "all" else chosen[0] if chosen else None


def _tasks(place: PlaceInfo | None) -> Type:
    return list_of(task_type(place))


def _step(words: str, meaning: str, fields: tuple[FieldDefinition, ...], **more: Any) -> StepDefinition:
    return StepDefinition(sentence=Sentence(words), meaning=meaning, fields=fields, thing="task", **more)


_CHANGES = "Changes the fields that stand below it; the others stay as they are. `empty` clears a field."
_FINISHES = "Ticks the task off, at the moment of the run. One that is ticked off already stays as it is."
_DELETES = "Takes the task out of its list. The brake counts it."
_ALONE = " Alone it means the task that the workflow is about; with a name that one, or each of a list."
_LOOKED_UP = " The task is looked up."

TASK_STEPS: tuple[StepDefinition, ...] = (
    _step(
        "create task in TASKS",
        "Makes one task in a list. Its identity comes from what the run is about, so that a second run makes no "
        "second one. source remembers what it was made from.",
        TASK_FIELDS,
        makes=task_type,
        is_making=True,
        effects=(TASK_EFFECTS.create, TASK_EFFECTS.change, TASK_EFFECTS.take),
        adds="task",
        check_fields=check_task_fields,
        act=create_thing,
        example='create task in chores\n  title   "Note on {event.title}"\n  due     tomorrow at 12:00\n  person  '
        '"ines"',
    ),
    _step(
        "change task in TASKS",
        _CHANGES + _LOOKED_UP,
        (WHERE, MISSING_OR_MADE, SEVERAL, *TASK_FIELDS),
        looks_up=True,
        makes=task_type,
        example="change task in chores\n  where  source is event.uid\n  due    event.start - 1 day",
        effects=(TASK_EFFECTS.create, TASK_EFFECTS.change),
        act=change_things,
    ),
    _step(
        "change task [NAME]",
        _CHANGES + _ALONE,
        TASK_FIELDS,
        makes=task_type,
        example='change task\n  section  "done"',
        effects=(TASK_EFFECTS.create, TASK_EFFECTS.change),
        act=change_things,
    ),
    _step(
        "finish task in TASKS",
        _FINISHES + _LOOKED_UP,
        (WHERE, MISSING, SEVERAL),
        looks_up=True,
        makes=task_type,
        example="finish task in chores\n  where    source is event.uid\n  missing  pass",
        effects=(TASK_EFFECTS.change,),
        act=_finish,
    ),
    _step(
        "finish task [NAME]",
        _FINISHES + _ALONE,
        (),
        makes=task_type,
        example="finish task",
        effects=(TASK_EFFECTS.change,),
        act=_finish,
    ),
    _step(
        "delete task in TASKS",
        _DELETES + _LOOKED_UP,
        (WHERE, MISSING, SEVERAL),
        looks_up=True,
        effects=(TASK_EFFECTS.delete,),
        example="delete task in chores\n  where    source is event.uid\n  missing  pass",
        act=delete_things,
    ),
    _step(
        "delete task [NAME]",
        _DELETES + _ALONE,
        (),
        effects=(TASK_EFFECTS.delete,),
        example="delete task",
        act=delete_things,
    ),
    _step(
        "find tasks in TASKS",
        "Gives the tasks that fit, in order of start: a list, perhaps empty.",
        (WHERE,),
        looks_up=True,
        reads_only=True,
        makes=_tasks,
        example="find tasks in chores as open-ones\n  where  finished is empty",
        act=_find,
    ),
    _step(
        "find task in TASKS",
        "Gives exactly one task; missing and several say what else may be.",
        (WHERE, MISSING, SEVERAL),
        looks_up=True,
        reads_only=True,
        makes=task_type,
        example="find task in chores as chore\n  where  source is event.uid",
        act=_find,
    ),
)
