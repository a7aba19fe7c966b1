"""Workflows that set each other off."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from whenvoca.language import tree
from whenvoca.language.blocks import iter_steps


def find_circles(workflows: Iterable[tree.Workflow]) -> list[tuple[tree.Workflow, tree.Step, list[str]]]:
    """Workflows that would start each other without end: the first one, its step, and the names in turn.

    Only triggers without `where` count: a condition may break the circle, which a run then watches.
    """
    by_name = {workflow.name: workflow for workflow in workflows}
    starts: dict[str, list[tuple[str, tree.Step]]] = {name: [] for name in by_name}
    for name, workflow in by_name.items():
        for step in iter_steps(workflow):
            for other, target in by_name.items():
                trigger = target.trigger
                if other != name and not trigger.conditions and step.definition.adds and step.places:
                    same_place = step.places[-1].lower() in {place.lower() for place in trigger.places}
                    gains = "gained" in trigger.happenings
                    if gains and same_place and trigger.definition.subject == step.definition.adds:
                        starts[name].append((other, step))
    found = []
    for name in sorted(by_name):
        if path := _circle_from(name, starts):
            found.append((by_name[name], starts_step(starts, name, path[1]), path))
    return found


def starts_step(starts: Mapping[str, list[tuple[str, tree.Step]]], name: str, follower: str) -> tree.Step:
    """The step of one workflow that starts the other."""
    return next(step for other, step in starts[name] if other == follower)


def _circle_from(name: str, starts: Mapping[str, list[tuple[str, tree.Step]]]) -> list[str]:
    paths = [[name, other] for other, _ in starts[name]]
    while paths:
        path = paths.pop(0)
        if path[-1] == name:
            return path
        paths += [[*path, other] for other, _ in starts[path[-1]] if other == name or other not in path]
    return []
