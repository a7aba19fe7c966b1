"""Rows that wait for a run and give no end, though their step says where it comes from: found before it fails."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.language.evaluation import Compiler, Scope, Value
from whenvoca.language.names import fold_name
from whenvoca.values.kinds import is_empty

_MOST_NAMED = 5
_ENDS = ("end", "length")


def find_empty_ends(program: OpenProgram, waiting: Sequence[Occurrence]) -> Iterator[str]:
    """For each step that every run reaches: how many rows leave its end or length empty, and which."""
    sources = {source.name: source for source in program.sources.values()}
    for step in program.workflow.body.statements:
        if not isinstance(step, tree.Step) or step.definition.field("length") is None or not step.definition.is_making:
            continue
        for line in (each for each in step.fields if each.word in _ENDS):
            empty = []
            for occurrence in waiting:
                source = sources.get(occurrence.place)
                state = source.current(occurrence.subject) if source is not None else None
                if source is None or state is None or not _is_of_subject(line.value, source.fields):
                    continue
                scope = program.scope_of(source, occurrence.subject, state, program.stage.clock.now())
                if _is_empty(Compiler(source.fields).value(line.value), scope):
                    empty.append(occurrence.label)
            if empty:
                named = ", ".join(empty[:_MOST_NAMED]) + (
                    f" and {len(empty) - _MOST_NAMED} more" if len(empty) > _MOST_NAMED else ""
                )
                verb = "s have" if len(empty) > 1 else " has"
                yield (
                    f"{program.workflow.name}: {len(empty)} row{verb} no {line.word} and will fail: {named}; fill it, "
                    "or "
                    f"give a default in line {line.spot.line}: … or 1 hour"
                )


def _is_of_subject(node: tree.Node, fields: frozenset[str]) -> bool:
    """Whether the value needs no more than the subject's own fields."""
    return {fold_name(word) for word in tree.words_in(node)} <= fields


def _is_empty(value: Value, scope: Scope) -> bool:
    try:
        return is_empty(value(scope))
    except RowFault:
        return False  # its run says what is wrong
