"""Faults for people and as JSON."""

from __future__ import annotations

from typing import Any

from whenvoca.cli.common import Common
from whenvoca.cli.show.output import count_of, say, say_next, show_json, show_line
from whenvoca.engine.workspace.checking import CheckResult
from whenvoca.errors import ExitCode
from whenvoca.language.faults import Fault


def show_fault(fault: Fault, *, err: bool = False) -> None:
    """One fault with its line marked."""
    head, *rest = fault.show().split("\n")
    message = head.partition(f"{fault.where}: ")[2]
    show_line((f"{fault.where}: ", "bold"), (message, "yellow" if fault.in_data else "red"), err=err, wraps=False)
    for line in rest:
        show_line(line, err=err, wraps=False)


def fault_to_json(fault: Fault) -> dict[str, Any]:
    """A fault as JSON."""
    spot = fault.spot
    return {
        "file": fault.file,
        "line": spot.line if spot else None,
        "column": spot.column if spot else None,
        "length": spot.length if spot else None,
        "message": fault.message,
        "fix": fault.fix,
        "mend": fault.fix,  # its old name, until 0.2
        "source": fault.source,
        "in_data": fault.in_data,
    }


def said_waiting(fault: Fault) -> str:
    """Which workflow waits, and for what."""
    return f"{fault.where}: {fault.message}" + (f"; {fault.fix}" if fault.fix else "")


def refuse(result: CheckResult, common: Common) -> int:
    """Shows what is wrong with the workflows that should run; answers the exit status."""
    if common.as_json:
        show_json({"runs": [], "faults": [fault_to_json(fault) for fault in result.hard_faults]})
    else:
        for fault in result.hard_faults:
            show_fault(fault, err=True)
        say(f"nothing was run: {count_of(len(result.hard_faults), 'fault')} to fix first")
        say_next("fix what is marked, then: whenvoca check", quiet=common.quiet)
    only_unreachable = result.exits and all(fault.in_place for fault in result.hard_faults)
    return max(result.exits) if only_unreachable else ExitCode.WRONG
