"""The trigger of a list of tasks: one is ticked off."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from whenvoca.engine.seeing.changes import CHANGES
from whenvoca.engine.things.task import task_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition


def _is_finished(task: Any, said: Mapping[str, Sequence[str]]) -> bool:
    return task.value_of("finished") is not None


FINISHED = TriggerDefinition(
    sentence=Sentence("TASKS finishes a task"),
    meaning="Starts when a task of the list is ticked off, whoever does it; once, until it is opened again. `existing "
    "yes` counts those that were finished before the first run as well.",
    subject="task",
    subject_type=task_type,
    settings=(
        FieldDefinition(
            "where", "condition", "Which tasks count. Several lines must all hold.", example='section is "packing"'
        ),
        FieldDefinition("existing", "yes-no", "Whether tasks finished before the first run count.", default="no"),
    ),
    strategy=CHANGES,
    existing_by_default=False,
    happening="gained",
    admits=_is_finished,
    example='when chores finishes a task\n  where  section is "packing"',
)
