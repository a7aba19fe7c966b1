"""Paths on the web at which places are served."""

from __future__ import annotations

import re

from whenvoca.places.settings import PlaceSettings

_PATH = re.compile(r"/[a-z0-9][a-z0-9/_-]*[a-z0-9]|/[a-z0-9]")
_TAKEN_PATHS = ("/hooks", "/style.css", "/desk.js", "/board", "/feeds")  # of the door itself


def read_path(settings: PlaceSettings, key: str = "path") -> str:
    """A path on the web. Raises SettingsFault."""
    path = settings.text(key)
    if not _PATH.fullmatch(path) or any(path == each or path.startswith(f"{each}/") for each in _TAKEN_PATHS):
        said = f'"{path}" cannot be a path' if _PATH.fullmatch(path) is None else f'"{path}" belongs to the door itself'
        raise settings.refuse(key, said, 'small letters, digits and hyphens after a slash, such as path = "/lending"')
    return path
