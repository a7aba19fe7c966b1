"""The addresses at which the door serves places, for people."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.workspace.settings import Workspace
from whenvoca.engine.workspace.web_key import FILE, WebKey, load_key
from whenvoca.places.form.place import Form
from whenvoca.places.hook.place import Hook


def path_of_hook(key: WebKey, hook: Hook, first_name: str = "") -> str:
    """The path of a hook, which nobody can guess; ``first_name``: what it was called before it was renamed."""
    return f"/hooks/{hook.name.lower()}/{key.of_hook(first_name or hook.name)}"


def feed_of(workspace: Workspace, name: str) -> str:
    """The link of a calendar that is served to be looked at; empty where it is not served."""
    path = str(workspace.places[name].get("feed") or "")
    if not path or workspace.web is None or not (workspace.state_folder / FILE).exists():
        return ""
    first_name = workspace.former_places.get(name.lower(), name).lower()
    return f"{workspace.web.shown}/feeds/{load_key(workspace.state_folder).token('feed', first_name)}{path}"


def address_of(workspace: Workspace, place: Any) -> str:
    """The whole address of a form or a hook; empty for other places, and while it has none."""
    if workspace.web is None:
        return ""
    if isinstance(place, Form):
        return f"{workspace.web.shown}{place.path}"
    folder = workspace.state_folder
    if isinstance(place, Hook) and (folder / FILE).exists():
        first_name = workspace.former_places.get(place.name.lower(), "")
        return f"{workspace.web.shown}{path_of_hook(load_key(folder), place, first_name)}"
    return ""
