"""The brake: a batch that would take away or change more than its workflow allows is held until somebody says yes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from types import MappingProxyType

from msgspec import Struct

from whenvoca.engine.acting.effect_kind import EffectKinds
from whenvoca.engine.effects import Effect
from whenvoca.language import tree
from whenvoca.language.blocks import iter_statements

_FEW = range(2, 5)  # so many deletions are an edit, unless they are more than half of what there is
_DEFAULTS = {"deletion": 20}
DEFAULT_TOLD = 50  # of what is told to others: emails, messages, calls
_UNLIMITED = ("change",)  # unless the workflow says how many


class Held(Struct, frozen=True):
    """A batch that is held: what would pass which limit. ``orphans`` are things of subjects that nobody knows."""

    workflow: str
    what: str
    count: int
    limit: int
    effects: tuple[Effect, ...]
    orphans: int = 0
    is_emptied: bool = False  # nothing is left of the source
    is_halved: bool = False  # half of what there was would go at once

    @property
    def said(self) -> str:
        """Why it is held, in a sentence."""
        if self.orphans:
            return (
                f"{self.workflow}: {self.orphans} of its events belong to rows that are not there, and would be deleted"
            )
        noun = self.what + "s" * (self.count != 1)
        if self.is_emptied:
            return f"{self.workflow}: nothing is left of what it looks at, which would be {self.count} {noun}"
        if self.is_halved:
            return f"{self.workflow}: {self.count} {noun} at once, half of what there is or more"
        return f"{self.workflow}: {self.count} {noun} at once, and its brake allows {self.limit}"


class Losses(Struct, frozen=True):
    """What is gone of a workflow's subjects when a group of its runs begins. ``kept``: how many things its mirrors
    keep, else how many subjects there were; 0 where nothing is gone."""

    orphans: int = 0
    is_emptied: bool = False
    kept: int = 0

    def is_halved(self, deletions: int) -> bool:
        """Whether so many deletions look as if the source was cut rather than edited."""
        left = self.kept - deletions
        if not self.kept:
            return False
        return deletions > left if deletions in _FEW else deletions > max(_FEW) and deletions >= left


NO_LOSSES = Losses()


def limits_of(workflow: tree.Workflow, kinds: EffectKinds) -> dict[str, int]:
    """How much of what a group of runs may do without a yes, by what the brake counts."""
    limits = {word: DEFAULT_TOLD for word in kinds.brake_words if word not in _UNLIMITED}
    limits = _DEFAULTS | {word: limit for word, limit in limits.items() if word not in _DEFAULTS}
    return limits | {brake.what: brake.limit for brake in workflow.settings.brakes if brake.what in kinds.brake_words}


def could_pass(
    workflow: tree.Workflow,
    limits: Mapping[str, int],
    waiting: int,
    leaving: Callable[[], int],
    invites: Callable[[tree.Step], bool] = lambda step: False,
) -> bool:
    """Whether that many runs could pass a limit; where they could not, they need not be rehearsed.

    ``leaving`` counts the subjects that are not in the set: a mirror deletes for no other. ``invites`` tells which
    steps may be followed by invitations.
    """
    if not waiting:
        return False
    steps = [
        (statement, repeated)
        for block in (workflow.body, workflow.on_failure)
        for statement, repeated in iter_statements(block)
        if isinstance(statement, tree.Step)
    ]
    inviting = [(step, repeated) for step, repeated in steps if invites(step)]
    if any(repeated for _, repeated in inviting) or len(inviting) * waiting > limits.get("email", DEFAULT_TOLD):
        return True
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
    """Whether the step tells one: a room, an email, or people who are written out."""
    node = step.slots.get("VALUE")
    return step.definition.value_type != "people" or isinstance(node, tree.Text | tree.ListOf)


def _count(kinds: EffectKinds, effects: Sequence[Effect]) -> int:
    """How many they are; an email to several people is one."""
    alone = [effect for effect in effects if kinds.of(effect).counts_with is None]
    shared = {with_it(effect) for effect in effects if (with_it := kinds.of(effect).counts_with) is not None}
    return len(alone) + len(shared)


def to_held(
    workflow: str,
    kinds: EffectKinds,
    limits: Mapping[str, int],
    effects: Sequence[Effect],
    losses: Losses = NO_LOSSES,
    *,
    recent: Mapping[str, int] = MappingProxyType({}),
) -> Held | None:
    """What is held of these effects, None if they pass no limit and the source is not cut. ``recent`` counts what was
    done in the last minutes already, where groups of runs follow each other by themselves."""
    for what, limit in limits.items():
        before = recent.get(what, 0)
        counted = tuple(effect for effect in effects if what in kinds.of(effect).counts_as)
        if not counted:
            continue
        number = _count(kinds, counted)
        is_over, is_deletion = number + before > limit, what == "deletion"
        is_emptied = is_deletion and losses.is_emptied
        is_halved = is_deletion and not is_emptied and not is_over and losses.is_halved(number)
        orphans = losses.orphans if is_deletion else 0
        if is_over or is_emptied or is_halved or orphans:
            return Held(workflow, what, number + before, limit, counted, orphans, is_emptied, is_halved)
    return None
