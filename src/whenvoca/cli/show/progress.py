"""A progress bar for work that takes longer than a second, where somebody looks."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_AFTER_SECONDS = 1.0


@contextmanager
def progress_bar(what: str, silent: bool) -> Iterator[Callable[[int, int], None]]:
    """A function to be called with (done, total); the bar appears on stderr after a second."""
    if silent or not sys.stderr.isatty():
        yield lambda done, total: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

    began = time.monotonic()
    bar = Progress(
        TextColumn("{task.description}"),
        BarColumn(),
        MofNCompleteColumn(),
        TextColumn("{task.fields[rate]}"),
        TimeElapsedColumn(),
        console=Console(stderr=True),
        transient=True,
    )
    task = bar.add_task(what, total=None, rate="")
    shown = False

    def tell(done: int, total: int) -> None:
        nonlocal shown
        spent = time.monotonic() - began
        if not shown and spent > _AFTER_SECONDS:
            bar.start()
            shown = True
        if shown:
            bar.update(task, completed=done, total=total, rate=f"{done / spent:,.0f}/s")

    try:
        yield tell
    finally:
        if shown:
            bar.stop()
