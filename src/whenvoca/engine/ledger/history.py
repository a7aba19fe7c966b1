"""Which runs an undo is about."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.errors import RequestFault


def choose_runs(ledger: Ledger, numbers: Sequence[int]) -> list[RunRecord]:
    """The runs to take back, those that their effects set off first, newest first. Raises RequestFault."""
    found: dict[int, RunRecord] = {}
    known = {record.number: record for record in ledger.runs(numbers=numbers, limit=len(numbers) or 1)}
    for number in numbers:
        if number not in known:
            raise RequestFault(f"there is no run {number}", fix="whenvoca runs lists them")
        if known[number].undone:
            raise RequestFault(f"run {number} was taken back already, by run {known[number].undone}")
    pending = list(numbers)
    while pending:
        number = pending.pop()
        if number in found:
            continue
        (record,) = ledger.runs(numbers=[number], limit=1)
        if record.undone is None:
            found[number] = record
            pending += ledger.runs_set_off(number)
    return [found[number] for number in sorted(found, reverse=True)]


def failed_and_last(ledger: Ledger, limit: int = 1_000_000) -> list[RunRecord]:
    """The runs that failed and are the last of their subject, in order, of so many that failed last."""
    found = []
    for record in ledger.runs(failed=True, limit=limit):
        if record.kind == "request":
            continue
        newest = ledger.runs(workflow=record.workflow, subject=record.subject, limit=1)
        if newest and newest[0].number == record.number:
            found.append(record)
    return sorted(found, key=lambda record: record.number)
