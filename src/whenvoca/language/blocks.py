"""Walks through the statements of a workflow, those in branches, repetitions and failure blocks too."""

from __future__ import annotations

from collections.abc import Iterator

from whenvoca.language import tree


def iter_statements(block: tree.Block | None, *, repeated: bool = False) -> Iterator[tuple[tree.Statement, bool]]:
    """Every statement of a block, each with whether it stands in a repetition."""
    for statement in block.statements if block is not None else ():
        yield statement, repeated
        match statement:
            case tree.Step():
                yield from iter_statements(statement.on_failure, repeated=repeated)
            case tree.If():
                for _, branch in statement.branches:
                    yield from iter_statements(branch, repeated=repeated)
            case tree.ForEach():
                yield from iter_statements(statement.body, repeated=True)


def iter_steps(workflow: tree.Workflow) -> Iterator[tree.Step]:
    """Every step of a workflow."""
    for block in (workflow.body, workflow.on_failure):
        for statement, _ in iter_statements(block):
            if isinstance(statement, tree.Step):
                yield statement


def iter_asks(workflow: tree.Workflow) -> Iterator[tree.Ask]:
    """Every question of a workflow."""
    for block in (workflow.body, workflow.on_failure):
        for statement, _ in iter_statements(block):
            if isinstance(statement, tree.Ask):
                yield statement
