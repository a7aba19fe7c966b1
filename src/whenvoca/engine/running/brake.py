"""The brake: a batch that would take away or change more than its workflow allows is held until somebody says yes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from types import MappingProxyType

from msgspec import Struct

from whenvoca.engine.effects import ALTERING, TAKING_AWAY, Effect
from whenvoca.language import tree
from whenvoca.language.circles import iter_steps

DEFAULT_DELETIONS = 20
_FEWEST_HALVED = 5  # fewer lost rows are an edit, however short the sheet
DEFAULT_TOLD = 50  # letters, messages or calls
_COUNTED = {
    "deletion": TAKING_AWAY,
    "change": ALTERING,
    "letter": ("send letter",),
    "message": ("send message",),
    "call": ("call",),
}


class Held(Struct, frozen=True):
    """A batch that is held: what would pass which limit. ``orphans`` are things of subjects that nobody knows."""

    workflow: str
    what: str
    count: int
    limit: int
    effects: tuple[Effect, ...]
    orphans: int = 0
    is_halved: bool = False  # half of the sheet or more is gone at once

    @property
    def said(self) -> str:
        """Why it is held, in a sentence."""
        if self.orphans:
            return (
                f"{self.workflow}: {self.orphans} of its events belong to rows that are not there, and would be deleted"
            )
        if self.is_halved:
            return f"{self.workflow}: half of its rows or more are gone at once, which would be {self.count} deletions"
        noun = self.what + "s" * (self.count != 1)
        return f"{self.workflow}: {self.count} {noun} at once, and its brake allows {self.limit}"


def limits_of(workflow: tree.Workflow) -> dict[str, int]:
    """How many deletions or changes a batch may make without a yes."""
    limits = {"deletion": DEFAULT_DELETIONS, "letter": DEFAULT_TOLD, "message": DEFAULT_TOLD, "call": DEFAULT_TOLD}
    limits |= {brake.what: brake.limit for brake in workflow.settings.brakes if brake.what in _COUNTED}
    return limits


def could_pass(workflow: tree.Workflow, limits: Mapping[str, int], waiting: int, leaving: Callable[[], int]) -> bool:
    """Whether a batch of that many runs could pass a limit; where it could not, it need not be rehearsed.

    ``leaving`` counts the subjects that are not in the set: a mirror deletes for no other.
    """
    steps = list(iter_steps(workflow))
    if "change" in limits and waiting:
        return True
    if waiting and any(_could_tell_more(workflow, what, limit, waiting) for what, limit in limits.items()):
        return True
    deleting = [step for step in steps if step.definition.deletes]
    if not deleting or not waiting:
        return False
    repeated = {id(step) for step in _repeated_steps(workflow.body)}  # their elements go without their subject
    if all(step.definition.is_mirror and id(step) not in repeated for step in deleting):
        return waiting * len(deleting) > limits["deletion"] and leaving() * len(deleting) > limits["deletion"]
    return True


def _could_tell_more(workflow: tree.Workflow, what: str, limit: int, waiting: int) -> bool:
    """Whether that many runs could send more letters, messages or calls than that: in a repetition, or to a list,
    nobody knows."""
    telling = [step for step in iter_steps(workflow) if step.definition.verb.startswith(("send " + what, what))]
    repeated = {id(step) for step in _repeated_steps(workflow.body)}
    many = [step for step in telling if id(step) in repeated or not _is_one(step)]
    return bool(many) or len(telling) * waiting > limit


def _repeated_steps(block: tree.Block) -> Iterator[tree.Step]:
    for statement in block.statements:
        if isinstance(statement, tree.ForEach):
            yield from (step for step in _steps_of(statement.body))
        elif isinstance(statement, tree.If):
            for _, branch in statement.branches:
                yield from _repeated_steps(branch)


def _steps_of(block: tree.Block) -> Iterator[tree.Step]:
    for statement in block.statements:
        if isinstance(statement, tree.Step):
            yield statement
        elif isinstance(statement, tree.If):
            for _, branch in statement.branches:
                yield from _steps_of(branch)
        elif isinstance(statement, tree.ForEach):
            yield from _steps_of(statement.body)


def _is_one(step: tree.Step) -> bool:
    """Whether the step tells one: a room, a letter, or people who are written out."""
    node = step.slots.get("VALUE")
    return step.definition.value_type != "people" or isinstance(node, tree.Text | tree.ListOf)


def is_halved(lost: int, left: int) -> bool:
    """Whether so many subjects are gone that the source looks cut rather than edited: half of them or more."""
    return lost >= _FEWEST_HALVED and lost >= left


def to_held(
    workflow: str,
    limits: Mapping[str, int],
    effects: Sequence[Effect],
    orphans: int,
    *,
    halved: bool = False,
    recent: Mapping[str, int] = MappingProxyType({}),
) -> Held | None:
    """What is held of these effects, None if they pass no limit and the source is not cut. ``recent`` counts what was
    done in the last minutes already, where batches follow each other by themselves."""
    for what, limit in limits.items():
        before = recent.get(what, 0)
        counted = tuple(effect for effect in effects if effect.verb in _COUNTED[what])
        is_odd = what == "deletion" and counted and (orphans or halved)
        if (counted and len(counted) + before > limit) or is_odd:
            is_cut = halved and len(counted) + before <= limit
            return Held(workflow, what, len(counted) + before, limit, counted, orphans, is_cut)
    return None


def kinds_counted() -> Mapping[str, tuple[str, ...]]:
    """What the brake counts, each with the verbs of its effects."""
    return _COUNTED
