"""Hands a command over to the process that watches the workspace, and waits for what comes of it."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Sequence
from pathlib import Path

from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.workspace.settings import load_workspace
from whenvoca.engine.workspace.watch_status import WAKE_FILE, read_health
from whenvoca.errors import PlaceTrouble

_PATIENCE = 600.0  # seconds to wait for the other process
_STEP = 0.05


def hand_over(arguments: Sequence[str], folder: Path) -> int | None:
    """Lets the watching process do it, prints what it would have printed, and answers its status; None if that process
    is gone meanwhile, so that the command can be done here. Raises PlaceTrouble where it does not answer."""
    workspace = load_workspace(folder.parent)
    ledger = SqliteLedger(folder / "ledger.sqlite")
    try:
        number = ledger.add_job(_with_workspace(arguments, folder.parent))
        (folder / WAKE_FILE).write_text(str(number), encoding="ascii")
        waited = 0.0
        while waited < _PATIENCE:
            job = ledger.job(number)
            if job is None or (job.state != "done" and read_health(workspace) is None):
                ledger.drop_job(number)
                return None
            if job.state == "done":
                ledger.drop_job(number)
                sys.stdout.write(job.out)
                sys.stderr.write(job.err)
                return job.code
            time.sleep(_STEP)
            waited += _STEP
        ledger.drop_job(number)
    finally:
        ledger.close()
    raise PlaceTrouble(
        "the process that watches this workspace does not answer", where=str(folder.parent), fix="stop it and run again"
    )


def _with_workspace(arguments: Sequence[str], folder: Path) -> list[str]:
    """The command with the workspace written out, since the other process stands elsewhere."""
    found = [
        each
        for index, each in enumerate(arguments)
        if each != "--workspace" and (not index or arguments[index - 1] != "--workspace")
    ]
    kept = [each for each in found if not each.startswith("--workspace=")]
    return [*kept, "--workspace", os.fspath(folder.resolve())]
