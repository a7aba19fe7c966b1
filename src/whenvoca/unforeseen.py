"""Errors that nobody foresaw: one line for the person, the whole story in a file."""

from __future__ import annotations

import os

from whenvoca import __version__
from whenvoca.errors import LedgerTrouble, RowFault


def tell_unforeseen(error: Exception) -> str:
    """What happened, in a line that names the file of the report. Raises LedgerTrouble where SQLite raised it: then
    nothing can go on."""
    if type(error).__module__ == "sqlite3":
        raise LedgerTrouble(error) from error
    import tempfile
    import traceback

    if os.environ.get("WHENVOCA_TRACEBACK"):
        traceback.print_exc()
    text = "".join(traceback.format_exception(error))
    try:
        with tempfile.NamedTemporaryFile(
            "w", prefix="whenvoca-report-", suffix=".txt", delete=False, encoding="utf-8"
        ) as file:
            file.write(f"whenvoca {__version__}\n{text}")
        told = f"the report is in {file.name}"
    except OSError:
        told = "the report could not be written"
    first = str(error).splitlines()[0] if str(error) else type(error).__name__
    return f"something unforeseen happened ({first}); {told}"


def to_fault(error: Exception) -> RowFault:
    """The same as the failure of one run, so that the others go on. Raises LedgerTrouble as ``tell_unforeseen``
    does."""
    return RowFault(tell_unforeseen(error))
