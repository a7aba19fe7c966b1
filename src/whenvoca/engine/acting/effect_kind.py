"""What there is to know of the effects of one verb: how they read, how they are undone, what the brake counts.

The kinds stand with the steps that write them, and reach the stage as a vocabulary: the engine knows none by name.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct

from whenvoca.engine.effects import Effect, Receipt, show_fields
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Occurrence

Inverse = Generator[Effect, Receipt, None]


def _nothing(effect: Effect) -> str:
    return ""


class EffectKind(Struct, frozen=True, kw_only=True):
    """One verb. Places carry out its action; all else that depends on the verb is said here."""

    verb: str
    line: Callable[[Effect], str]  # the effect in one line
    target: Callable[[Effect], str]  # what it is about, for people
    detail: Callable[[Effect], str] = _nothing  # what it does there, old → new
    counts_as: tuple[str, ...] = ()  # what the brake counts it as: deletion, change, email, message, call
    counts_with: Callable[[Effect], str] | None = None  # what it shares with those that the brake counts as one with it
    invert: Callable[[Any, Effect, list[str]], Inverse] | None = None
    """Given the stage, gives the effects that undo it; the list hears of what somebody changed since and is left."""
    inverses: tuple[EffectKind, ...] = ()  # kinds that only its undo writes, or what ends it
    told_as: Callable[[Effect], str] | None = None
    """What it is called where it cannot be undone, since others read it at once. Pending cells are saved before it."""
    keeps_before: bool = False  # after a crash, what stood there before is what the first try found
    find_done: Callable[[Any, Effect], tuple[Effect, Receipt] | None] | None = None
    """Whether the stage shows that it was done, though no answer said so: with what the ledger does not keep of an
    intent, and the receipt of what was found."""
    may_repeat: Callable[[Effect], bool] | None = None
    """Whether it may be done again where nobody knows if it was done; None: always, under the same id."""
    note: Callable[[Ledger, int, Occurrence, Effect], None] | None = None
    """Records what follows from it, with its receipt; given the effect's number and the occurrence of its run."""


class Following(Struct, frozen=True):
    """What keeps up with a subject, in a run of its own: ``act`` gives the effects."""

    workflow: str
    place: str
    subject: str
    label: str
    act: Callable[[], Generator[Effect, Receipt, Any]]


Follower = Callable[[Any, str], Iterator[Following]]  # given the stage and the name of a calendar


class EffectKinds(Mapping[str, EffectKind]):
    """All kinds there are, by verb; and what finds that which was made and has to keep up with something."""

    def __init__(self, kinds: Iterable[EffectKind] = (), followers: Iterable[Follower] = ()) -> None:
        self.followers = tuple(followers)
        self._by_verb = {each.verb: each for kind in kinds for each in (kind, *kind.inverses)}
        self.brake_words = tuple(dict.fromkeys(word for kind in self.values() for word in kind.counts_as))

    def __getitem__(self, verb: str) -> EffectKind:
        return self._by_verb[verb]

    def __iter__(self) -> Iterator[str]:
        return iter(self._by_verb)

    def __len__(self) -> int:
        return len(self._by_verb)

    def of(self, effect: Effect) -> EffectKind:
        """The kind of an effect; one that a newer Whenvoca has recorded is shown, and never undone."""
        return self._by_verb.get(effect.verb) or _unknown(effect.verb)

    def counted_as(self, word: str) -> frozenset[str]:
        """The verbs that the brake counts under a word."""
        return frozenset(kind.verb for kind in self.values() if word in kind.counts_as)


def _unknown(verb: str) -> EffectKind:
    return EffectKind(
        verb=verb,
        line=lambda effect: f"{effect.place}: {verb} {effect.target}".rstrip(),
        target=lambda effect: effect.target,
        detail=show_fields,
        told_as=lambda effect: f"{verb} {effect.target}".rstrip(),
    )
