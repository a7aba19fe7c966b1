"""What one run acts with: the stage, what it is about, and what it has read before."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Protocol

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.engine.acting.questions import NobodyAnswers, Question
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import EffectKey
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.place_protocols import Found, RowState
from whenvoca.errors import PlaceTrouble, RequestFault, RowFault
from whenvoca.language import tree
from whenvoca.language.evaluation import Scope, WaitingFault
from whenvoca.values.texts import show_value


class RunSubject(Struct, frozen=True):
    """Who a run is about, and of which workflow (by its identity): from this what it makes gets its identity."""

    workflow: str
    place: str
    key: str
    sequence: int = 0  # of the observation
    is_set: bool = True  # the subject makes identities, else the occurrence
    is_lost: bool = False  # it is not in the workflow's set (any more)

    @property
    def is_by_hand(self) -> bool:
        """Whether somebody started it, about nothing."""
        return self.sequence < 0

    @classmethod
    def of(cls, occurrence: Occurrence, *, is_set: bool, is_lost: bool) -> RunSubject:
        """That of an occurrence."""
        o = occurrence
        return cls(o.workflow, o.place, o.subject, o.sequence, is_set, is_lost)


class Recall:
    """What the look-ups and questions of a run found, by step and ordinal: after a crash the run goes on with it."""

    def __init__(self, known: dict[tuple[str, int], list[Found]] | None = None) -> None:
        self._known = known or {}
        self._fresh: list[tuple[str, int, list[Found]]] = []

    def get(self, step: str, ordinal: int, search: Callable[[], list[Found]]) -> list[Found]:
        """What was found before, else what the search finds now."""
        if (step, ordinal) not in self._known:
            self._known[step, ordinal] = found = search()
            self._fresh.append((step, ordinal, found))
        return self._known[step, ordinal]

    def take_fresh(self) -> list[tuple[str, int, list[Found]]]:
        """What was found since this was last asked: to be journalled."""
        fresh, self._fresh = self._fresh, []
        return fresh


class RunContext(Struct):
    """What one run acts with. ``ask`` answers what the workflow asks, and raises RequestFault where nobody does."""

    stage: Stage
    scope: Scope
    subject: RunSubject
    run: int = 0  # its number
    is_last_try: bool = False  # a refusal of a place is now a failure
    is_too_late: bool = False  # it has waited so long that a place which does not answer is now a failure
    ordinals: dict[tuple[str, ...], int] = field(default_factory=dict)  # of effects and look-ups, counted so far
    recall: Recall = field(default_factory=Recall)
    corrected: Mapping[str, RowState] = field(default_factory=dict)  # earlier subjects that this one stands instead of
    left: list[str] = field(default_factory=list)  # of what was done about these, and cannot be taken back
    trace: Trace | None = None
    ask: Callable[[Question], Any] | None = None
    answers: dict[str, str] = field(default_factory=dict)  # what was answered by now but for lists, by question

    def gives_up(self, error: Exception) -> bool:
        """Whether that trouble at a place ends the run, instead of having it wait."""
        if not isinstance(error, PlaceTrouble):
            return False
        return (error.is_refusal and self.is_last_try) or (error.is_passing and self.is_too_late)

    def count(self, *what: str) -> int:
        """How often this was counted by now."""
        self.ordinals[what] = number = self.ordinals.get(what, 0) + 1
        return number

    def next_key(self, key: EffectKey) -> EffectKey:
        """The key of one more effect of the same step on the same target."""
        return replace(key, ordinal=self.count(key.step, key.repetition, key.target))

    def answer(self, asked: Question) -> Any:
        """The answer to a question; after a crash, or in a retry, the one that was given before.

        Raises RowFault where nobody answers; of a question about one thing WaitingFault: the run waits for somebody.
        """

        def ask() -> list[Found]:
            if self.ask is None:
                raise RowFault(f'nobody answers "{asked.name}" here', fix=f"--give {asked.name}=…")
            try:
                return [Found("", asked.name, {"answer": self.ask(asked)})]
            except NobodyAnswers as fault:
                if asked.about:
                    raise WaitingFault(asked.text, fix=f"whenvoca run asks; or --give {asked.name}=…") from fault
                raise RowFault(fault.message, fix=fault.fix) from fault
            except RequestFault as fault:
                raise RowFault(fault.message, fix=fault.fix) from fault

        (found,) = self.recall.get(f"ask {asked.name} {asked.about}".rstrip(), 1, ask)
        if asked.kind != "list" and not asked.about:
            self.answers[asked.name] = show_value(found.state["answer"])
        return found.state["answer"]


class Trace(Protocol):
    """Hears what a run does, to explain it."""

    def condition(self, node: tree.Node, scope: Scope, *, holds: bool) -> None:
        """A condition of an if, and how it came out."""

    def step(self, step: tree.Step, key: str, repetition: str, values: Sequence[tuple[str, Any]]) -> None:
        """A step that begins, with what its fields came to. ``key`` and ``repetition`` are those of its effects."""
