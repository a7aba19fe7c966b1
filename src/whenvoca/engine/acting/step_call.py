"""What a step is given when it acts: its fields, its places, the stage, and who it is."""

from __future__ import annotations

from copy import copy
from datetime import datetime
from typing import Any

from whenvoca.engine.acting.compiled_step import CompiledStep
from whenvoca.engine.acting.look_up import LookUp
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.engine.acting.step_fields import StepFields
from whenvoca.engine.lineage import Lineage
from whenvoca.language import tree
from whenvoca.language.definitions import EVERY_PLACE
from whenvoca.language.evaluation import Thing
from whenvoca.language.names import fold_name
from whenvoca.language.value_kinds import kind_in


class StepCall(StepFields):
    """One step of one run (and of one repetition). ``about`` is who the run is about, ``where`` the step's look-up.

    ``corrected`` are the earlier subjects that this one stands instead of; ``left`` is what of these runs stays done.
    """

    def __init__(self, step: CompiledStep, context: RunContext, repetition: str) -> None:
        super().__init__(step, context.scope)
        self._context = context
        self.repetition = repetition
        self.about, self.run = context.subject, context.run
        self.stage = context.stage
        self.people = context.stage.workspace.people
        self.definition = step.tree.definition
        self.where = LookUp(step, context, repetition, self.scope)
        self.corrected, self.left = context.corrected, context.left
        self._lineage: Lineage | None = None
        self._elsewhere = ""

    @property
    def paths(self) -> frozenset[str]:
        """What names each step of the workflow in identities."""
        return self._step.paths

    @property
    def place(self) -> str:
        """The place that the step names, else that of the subject."""
        if self._elsewhere:
            return self._elsewhere
        return self._step.tree.places[-1] if self._step.tree.places else self.about.place

    @property
    def calendars(self) -> list[str]:
        """The calendars that the step names."""
        places = self._step.tree.places
        return self.stage.calendar_names() if places == (EVERY_PLACE,) else list(places)

    def quoted(self, slot: str) -> str:
        """What the sentence names in quotes: a WORKFLOW, a FOLDER."""
        node = self._step.tree.slots[slot]
        return str(node.lines[0][0]) if isinstance(node, tree.Text) else ""

    @property
    def kinds(self) -> list[tuple[str, str, bool]]:
        """The names below the step, each with its kind and whether it may be missing."""
        read = ((line.as_written, kind_in(line.value)) for line in self._step.tree.fields)
        return [(word, *kind) for word, kind in read if kind is not None]

    @property
    def named(self) -> Any:
        """What the NAME of the sentence stands for; None where the sentence has none."""
        return self._step.sentence.named(self.scope) if self._step.sentence.named else None

    @property
    def has_name(self) -> bool:
        """Whether the sentence names what it acts on."""
        return self._step.sentence.named is not None

    def bound(self, thing: Thing) -> StepCall:
        """The same step for one of the things it acts on: its name stands for the thing as it is before the change."""
        call = copy(self)
        call.scope = copy(self.scope)
        if self._step.name:
            call.scope.names = {**self.scope.names, self._step.name: thing}
        return call

    @property
    def subject(self) -> Thing | None:
        """The run's subject."""
        return self._context.scope.subject

    @property
    def now(self) -> datetime:
        """The moment of the occurrence."""
        return self._context.scope.now.astimezone(self.scope.zone)

    @property
    def names_place(self) -> bool:
        """Whether the sentence names a place."""
        return bool(self._step.tree.places)

    def ask(self, question: Question) -> Any:
        """The answer to a question that the step itself asks. Raises RowFault."""
        return self._context.answer(question)

    def for_one(self, place: str, **names: Any) -> StepCall:
        """The same step for one of several things, at its place: these names are known in its fields."""
        call = copy(self)
        call._elsewhere = place
        call.scope = self.scope.with_names({**self.scope.names, **names})
        return call

    def with_element(self, element: Any) -> StepCall:
        """The same step for one element of the list in its sentence."""
        each = self._step.tree.slots["EACH"]
        call = copy(self)
        call.scope = self.scope.with_names({**self.scope.names, fold_name(getattr(each, "word", "")): element})
        return call

    def occasion(self, what: str) -> str:
        """What names a message, email or call of this very occurrence: the same when it has to be sent again."""
        about = self.about
        step = f"{self._step.number} {self._step.tree.path}"
        context = f"{about.place} {about.key}#{about.sequence}"
        root = self.stage.workspace.root
        return Lineage(root, about.workflow, context, step, f"{self.repetition} {what}").to_uid(1)

    def follows(self, word: str) -> tuple[str, str, str] | None:
        """The event whose start or end the field names, as (calendar, key, field); what is set until then follows."""
        node = next((line.value for line in self._step.tree.fields if line.word == word), None)
        if not isinstance(node, tree.Field) or node.word not in ("start", "end") or not isinstance(node.of, tree.Name):
            return None
        owner = fold_name(node.of.word)
        thing: Any = self.scope.subject if owner == self.scope.subject_word else self.scope.names.get(owner)
        return (thing.place, thing.key, node.word) if hasattr(thing, "event") else None

    @property
    def lineage(self) -> Lineage:
        """Who the thing is that this step makes."""
        if self._lineage is None:
            about = self.about
            by_subject = about.is_set or self.definition.is_mirror or self.definition.is_plan
            subject = about.key if by_subject else f"{about.key}#{about.sequence}"
            if self.definition.is_plan and about.is_by_hand:
                subject = (
                    " ".join(f"{name} {value}" for name, value in sorted(self._context.answers.items())) or "asked"
                )
            root = self.stage.workspace.root
            self._lineage = Lineage(root, about.workflow, subject, self._step.path, self.repetition)
        return self._lineage

    def lineage_of(self, mark: str) -> Lineage | None:
        """The lineage of a mark if this very step made it, for whichever subject."""
        made = Lineage.from_mark(mark)
        mine = self.lineage
        if made is None or (made.root, made.workflow, made.step, made.repetition) != (
            mine.root,
            mine.workflow,
            mine.step,
            mine.repetition,
        ):
            return None
        return made
