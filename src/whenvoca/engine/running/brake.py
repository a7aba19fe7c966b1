"""The brake: a batch that would take away or change more than its workflow allows is held until somebody says yes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from types import MappingProxyType

from msgspec import Struct

from whenvoca.engine.acting.effect_kind import EffectKinds
from whenvoca.engine.effects import Effect
from whenvoca.language import tree
from whenvoca.language.blocks import iter_statements

_FEWEST_HALVED = 5  # fewer lost rows are an edit, however short the sheet
_DEFAULTS = {"deletion": 20}
DEFAULT_TOLD = 50  # of what is told to others: letters, messages, calls
_UNLIMITED = ("change",)  # unless the workflow says how many


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


def limits_of(workflow: tree.Workflow, kinds: EffectKinds) -> dict[str, int]:
    """How much of what a group of runs may do without a yes, by what the brake counts."""
    limits = {word: DEFAULT_TOLD for word in kinds.brake_words if word not in _UNLIMITED}
    limits = _DEFAULTS | {word: limit for word, limit in limits.items() if word not in _DEFAULTS}
    return limits | {brake.what: brake.limit for brake in workflow.settings.brakes if brake.what in kinds.brake_words}


def could_pass(workflow: tree.Workflow, limits: Mapping[str, int], waiting: int, leaving: Callable[[], int]) -> bool:
    """Whether that many runs could pass a limit; where they could not, they need not be rehearsed.

    ``leaving`` counts the subjects that are not in the set: a mirror deletes for no other.
    """
    if not waiting:
        return False
    steps = [
        (statement, repeated)
        for block in (workflow.body, workflow.on_failure)
        for statement, repeated in iter_statements(block)
        if isinstance(statement, tree.Step)
    ]
    if "change" in limits or any(
        _could_tell_more(steps, what, limit, waiting)
        for what, limit in limits.items()
        if what not in ("deletion", "change")
    ):
        return True
    deleting = [(step, repeated) for step, repeated in steps if _counts(step, "deletion")]
    if not deleting:
        return False
    if all(step.definition.is_mirror and not repeated for step, repeated in deleting):
        return waiting * len(deleting) > limits["deletion"] and leaving() * len(deleting) > limits["deletion"]
    return True  # the elements of a repetition go without their subject


def _counts(step: tree.Step, what: str) -> bool:
    """Whether the step may write what the brake counts so."""
    return any(what in kind.counts_as for kind in step.definition.effects)


def _could_tell_more(steps: Sequence[tuple[tree.Step, bool]], what: str, limit: int, waiting: int) -> bool:
    """Whether that many runs could tell more than that: in a repetition, or to a list, nobody knows."""
    telling = [(step, repeated) for step, repeated in steps if _counts(step, what)]
    return any(repeated or not _is_one(step) for step, repeated in telling) or len(telling) * waiting > limit


def _is_one(step: tree.Step) -> bool:
    """Whether the step tells one: a room, a letter, or people who are written out."""
    node = step.slots.get("VALUE")
    return step.definition.value_type != "people" or isinstance(node, tree.Text | tree.ListOf)


def is_halved(lost: int, left: int) -> bool:
    """Whether so many subjects are gone that the source looks cut rather than edited: half of them or more."""
    return lost >= _FEWEST_HALVED and lost >= left


def to_held(
    workflow: str,
    kinds: EffectKinds,
    limits: Mapping[str, int],
    effects: Sequence[Effect],
    orphans: int = 0,
    *,
    halved: bool = False,
    recent: Mapping[str, int] = MappingProxyType({}),
) -> Held | None:
    """What is held of these effects, None if they pass no limit and the source is not cut. ``recent`` counts what was
    done in the last minutes already, where groups of runs follow each other by themselves."""
    for what, limit in limits.items():
        before = recent.get(what, 0)
        counted = tuple(effect for effect in effects if what in kinds.of(effect).counts_as)
        is_odd = what == "deletion" and counted and (orphans or halved)
        if (counted and len(counted) + before > limit) or is_odd:
            is_cut = halved and len(counted) + before <= limit
            return Held(workflow, what, len(counted) + before, limit, counted, orphans, is_cut)
    return None
