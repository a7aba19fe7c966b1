"""Every error that Whenvoca raises on purpose, as a tree whose branches say who can mend it.

WhenvocaError
├── RequestFault     the command's words, a file or a setting is wrong      exit 2
│   ├── SettingsFault    whenvoca.toml
│   └── SourceFault      a sheet, calendar or workflow file that cannot be understood
├── RowFault         one row, cell or value; the other rows go on           exit 1
└── PlaceTrouble     a place does not answer, is full, locked or read-only  exit 3
    └── LedgerTrouble    the ledger cannot be kept, or is damaged
"""

from __future__ import annotations

import os
from enum import IntEnum

_ROOM = 1 << 17  # bytes that a small ledger needs to grow


class ExitCode(IntEnum):
    """What the process says when it ends; the table stands in docs/json.md."""

    DONE = 0
    FAILED = 1
    WRONG = 2
    UNREACHABLE = 3
    NEEDS_YES = 4
    UNFORESEEN = 70
    INTERRUPTED = 130


class WhenvocaError(Exception):
    """The root: ``message`` says what is wrong, ``where`` names the spot, ``fix`` what to do about it."""

    exit_code = ExitCode.UNFORESEEN

    def __init__(self, message: str, *, where: str = "", fix: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.where = where
        self.fix = fix

    @property
    def reason(self) -> str:
        """The spot and what is wrong, without what to do about it."""
        return f"{self.where}: {self.message}" if self.where else self.message

    def __str__(self) -> str:
        return f"{self.reason}; {self.fix}" if self.fix else self.reason


class RequestFault(WhenvocaError):
    """The request cannot be carried out as it stands; nothing was done."""

    exit_code = ExitCode.WRONG


class SettingsFault(RequestFault):
    """``whenvoca.toml`` is wrong."""


class SourceFault(RequestFault):
    """A file that should be read cannot be understood."""


class RowFault(WhenvocaError):
    """One row, cell or value is wrong; only its own run fails."""

    exit_code = ExitCode.FAILED


class PlaceTrouble(WhenvocaError):
    """A place cannot be reached or written just now; what was asked of it stays pending.

    ``is_passing``: trouble that may pass by itself (a server that is away), so that it is tried again for long.
    ``is_refusal``: the place has understood, and does not take it; it is asked a few times.
    """

    exit_code = ExitCode.UNREACHABLE

    def __init__(
        self, message: str, *, where: str = "", fix: str = "", is_passing: bool = False, is_refusal: bool = False
    ) -> None:
        super().__init__(message, where=where, fix=fix)
        self.is_passing = is_passing
        self.is_refusal = is_refusal


class LedgerTrouble(PlaceTrouble):
    """The ledger cannot be read or kept: the disk is full, or its file is damaged. ``error`` is what SQLite says."""

    def __init__(self, error: Exception, where: str = ".whenvoca/ledger.sqlite") -> None:
        said = str(error)
        message, fix = f"the ledger cannot be kept: {said}", ""
        if "disk is full" in said or (said == "disk I/O error" and _is_full(where)):
            message, fix = "the ledger cannot be kept: the disk is full", "make room and run again; nothing is lost"
        elif "malformed" in said or "not a database" in said:
            message = f"the ledger is damaged ({said})"
            fix = (
                "move the folder .whenvoca aside and run again: what was made is found by its marks and not made "
                "twice; "
                "messages and emails may be sent again"
            )
        super().__init__(message, where=where, fix=fix)


def _is_full(path: str) -> bool:
    """Whether hardly any room is left on the disk where a file stands."""
    try:
        disk = os.statvfs(os.path.dirname(path) or ".")
    except OSError:
        return False
    return disk.f_bavail * disk.f_frsize < _ROOM
