"""Faults for people and as JSON."""

from __future__ import annotations

from typing import Any

from whenvoca.cli.show.output import show_line
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
        "mend": fault.fix,
        "source": fault.source,
        "in_data": fault.in_data,
    }
