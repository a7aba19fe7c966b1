"""Rows that wait for a run and give no end, though their step says where it comes from: found before it fails."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.rehearsing.row_values import RowValues, Unknown
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.language import tree
from whenvoca.values.kinds import is_empty

_MOST_NAMED = 5


def find_empty_ends(program: OpenProgram, waiting: Sequence[Occurrence]) -> Iterator[str]:
    """For each step that every run reaches: how many rows have a start and leave the end or length empty, and which."""
    values = RowValues(program)
    for step in program.workflow.body.statements:
        if not isinstance(step, tree.Step) or step.definition.field("length") is None or not step.definition.is_making:
            continue
        lines = {each.word: each for each in step.fields}
        given = lines.get("end") or lines.get("length")
        if "start" not in lines or given is None:
            continue
        empty = [
            occurrence.label
            for occurrence in waiting
            if _is_empty(values, occurrence, given.value) and not _is_empty(values, occurrence, lines["start"].value)
        ]
        if empty:
            named = ", ".join(empty[:_MOST_NAMED])
            named += f" and {len(empty) - _MOST_NAMED} more" if len(empty) > _MOST_NAMED else ""
            yield (
                f"{program.workflow.name}: {len(empty)} row{'s have' if len(empty) > 1 else ' has'} no {given.word} "
                "and will "
                f"fail: {named}; fill it, or give a default in line {given.spot.line}: … or 1 hour"
            )


def _is_empty(values: RowValues, occurrence: Occurrence, node: tree.Node) -> bool:
    """Whether a value comes to nothing for a row; no where that is not known before its run."""
    try:
        return is_empty(values.of(occurrence, node))
    except Unknown:
        return False
