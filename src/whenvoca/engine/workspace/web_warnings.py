"""What is worth saying of the forms and hooks of a workspace before anybody uses them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from whenvoca.engine.workspace.settings import Workspace
from whenvoca.language import tree
from whenvoca.language.definitions import PlaceInfo


def web_warnings(workspace: Workspace, infos: Iterable[PlaceInfo], workflows: Iterable[tree.Workflow]) -> Iterator[str]:
    """Each as a sentence that names its place."""
    followed = {
        place.lower()
        for each in workflows
        if {"changed", "lost"} <= set(each.trigger.happenings)
        for place in each.trigger.places
    }
    by_path: dict[str, str] = {}
    if workspace.web is not None and workspace.web.board:
        by_path[workspace.web.board] = "the board"
    for info in infos:
        if info.web is None:
            continue
        if workspace.web is None:
            yield f"{info.name}: there is no [web] in whenvoca.toml, so nothing serves it"
        if info.web.path in by_path:
            yield f"{info.name}: {by_path[info.web.path]} has the same path, {info.web.path}; only one is served"
        elif info.web.path:
            by_path[info.web.path] = info.name
        if info.web.promises_change and info.name.lower() not in followed:
            said = "no workflow follows what is changed, so nobody gets a link to change anything"
            yield f"{info.name}: change-until is set, and {said}; its trigger: gains, changes or loses"
        if info.web.is_unsigned and workspace.web is not None and not workspace.web.is_local:
            yield (
                f"{info.name}: calls from outside are not signed; whoever learns its address can call it: signature = …"
            )
