"""What a step or trigger is: one definition, from which reader, checker, completion and `words` come.

Adding a step or a trigger is adding one file with its definition; nothing here changes for it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from whenvoca.language.faults import Spot
from whenvoca.language.types import Type
from whenvoca.values.columns import Status
from whenvoca.values.kinds import Kind

# What may stand in a field. "choice" fields take one of their ``choices`` as a bare word.
FieldType = Literal[
    "text", "number", "yes-no", "date", "time", "moment", "duration", "addresses", "choice", "alarms", "repeat", "zone",
    "colour", "condition", "value",
]  # fmt: skip


@dataclass(frozen=True, kw_only=True, slots=True)
class FieldDefinition:
    """One field of a step or trigger."""

    name: str
    type: FieldType
    meaning: str
    default: str = ""
    choices: tuple[str, ...] = ()
    example: str = ""


@dataclass(frozen=True, kw_only=True)
class Sentence:
    """The words of a step or trigger: lower case stands as it is, upper case is a slot.

    Slots: SHEET, CALENDAR (one place of that kind), and NAME-less words of the definition itself.
    """

    words: str

    @cached_property
    def parts(self) -> tuple[str, ...]:
        """The words and slots, one after the other."""
        return tuple(self.words.split())

    @property
    def literal(self) -> str:
        """The sentence without its slots: what identities call it."""
        return " ".join(part for part in self.parts if not is_slot(part))


def is_slot(part: str) -> bool:
    """Whether a part of a sentence is a slot."""
    return part.isupper()


@dataclass(frozen=True, kw_only=True)
class StepDefinition:
    """A kind of step. ``act`` carries it out: a generator of effects, run on a stage (see ``engine``)."""

    sentence: Sentence
    meaning: str
    fields: tuple[FieldDefinition, ...] = ()
    columns_as_fields: bool = False  # the place's (or subject's) columns are its fields
    makes: Callable[[PlaceInfo], Type] | None = None  # the type that `as NAME` stands for
    is_making: bool = False  # it makes a thing, so it needs an identity of its own
    writes_subject: bool = False  # it writes to the place of the trigger
    check_fields: Callable[[Mapping[str, Spot]], Iterator[tuple[str, str, str]]] | None = None
    """Given the fields that stand there: what is wrong with them together, as (field or "", message, mend)."""
    adds: str = ""  # what it adds to its place ("row"), so that circles of workflows can be seen
    example: str = ""
    act: Callable[[Any], Any]

    @property
    def verb(self) -> str:
        """The words before the first slot: "create event in"."""
        return " ".join(self.sentence.parts[: next((i for i, p in enumerate(self.sentence.parts) if is_slot(p)), None)])

    def field(self, word: str) -> FieldDefinition | None:
        """The field of that name."""
        return next((each for each in self.fields if each.name == word), None)


@dataclass(frozen=True, kw_only=True)
class TriggerDefinition:
    """A kind of trigger: its sentence, its settings, and the word for what it is about."""

    sentence: Sentence
    meaning: str
    subject: str  # the word for what it is about: row, event, message
    settings: tuple[FieldDefinition, ...] = ()
    existing_by_default: bool = True
    example: str = ""
    changes: tuple[str, ...] = ()  # gained, changed, lost


@dataclass(frozen=True, slots=True)
class Vocabulary:
    """All steps and triggers there are."""

    steps: tuple[StepDefinition, ...]
    triggers: tuple[TriggerDefinition, ...]


@dataclass(frozen=True, kw_only=True, slots=True)
class ColumnInfo:
    """A column as the checker sees it."""

    name: str
    letter: str
    kind: Kind
    filled: int = 0
    declared: bool = False
    status: Status = "ok"
    doubt: str = ""  # a cell that fits two readings, and the setting that decides
    mend: str = ""
    sample: str = ""  # a cell, for messages


@dataclass(frozen=True, kw_only=True, slots=True)
class PlaceInfo:
    """A place as the checker sees it. ``columns`` is None where the place has none, or cannot be read."""

    name: str
    kind: str
    zone: str = ""
    readonly: bool = False
    totals: bool = False  # a totals line stands below its rows, so that none can be put there
    columns: tuple[ColumnInfo, ...] | None = None
    twice: Mapping[str, str] = field(default_factory=dict)  # column names that stand twice, with their cells
    trouble: str = ""
    trouble_mend: str = ""
    trouble_exit: int = 0  # the exit status of the trouble, where a run meets it
    unavailable: str = ""  # why workflows cannot use it at all
    warnings: tuple[str, ...] = ()
    key_warning: str = ""  # what rows without a declared key do not promise, for a trigger's place

    @property
    def by_word(self) -> dict[str, ColumnInfo]:
        """The columns by the word that stands for them in a workflow, in lower case."""
        return {column_word(column.name).lower(): column for column in self.columns or ()}


def column_word(heading: str) -> str:
    """The word for a column: its heading with blanks and signs as hyphens; "Night of" is Night-of.

    A heading without letters and digits ("№") stands for itself, written column "№".
    """
    word = re.sub(r"[\W_]+", "-", heading).strip("-")
    return word or heading.strip()


def written_column(heading: str) -> str:
    """How a workflow writes a column: the word, or column "…" where it is none."""
    word = column_word(heading)
    return word if re.fullmatch(r"[^\W\d]\w*(?:-\w+)*", word) else f'column "{word}"'


@dataclass(frozen=True, slots=True)
class Match:
    """A sentence found on a line: which definition, and where its slots stand."""

    definition: Any
    slots: Mapping[str, int] = field(default_factory=dict)  # slot: index of its first token
    length: int = 0


def match_sentence(
    words: Sequence[str], definitions: Sequence[StepDefinition] | Sequence[TriggerDefinition]
) -> tuple[Match | None, int]:
    """The definition whose sentence begins the words, the longest one; else how many words the best one shared."""
    best: Match | None = None
    furthest = 0
    for definition in definitions:
        slots: dict[str, int] = {}
        position = 0
        for part in definition.sentence.parts:
            if position >= len(words):
                break
            if is_slot(part):
                slots[part] = position
            elif words[position].lower() != part:
                break
            position += 1
        else:
            if best is None or position > best.length:
                best = Match(definition, slots, position)
        furthest = max(furthest, position)
    return best, furthest
