"""What the process that watches a workspace says of itself, for supervisors and for other commands."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from whenvoca.engine.workspace.settings import Workspace

HEALTH_FILE, WAKE_FILE = "watch.json", "wake"


def write_health(workspace: Workspace, health: Mapping[str, Any]) -> None:
    """Writes that it is alive, and what it waits for."""
    path = _path(workspace)
    temporary = path.with_suffix(".tmp")
    with suppress(OSError):
        temporary.write_text(json.dumps(health), encoding="utf-8")
        os.replace(temporary, path)


def end_health(workspace: Workspace) -> None:
    """It is over."""
    with suppress(OSError):
        _path(workspace).unlink(missing_ok=True)


def read_health(workspace: Workspace) -> dict[str, Any] | None:
    """What the process that watches this workspace last said of itself; None where none does."""
    try:
        found: dict[str, Any] = json.loads(_path(workspace).read_text(encoding="utf-8"))
        os.kill(int(found["process"]), 0)
    except PermissionError:
        return found
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return found


def _path(workspace: Workspace) -> Path:
    return workspace.state_folder / HEALTH_FILE
