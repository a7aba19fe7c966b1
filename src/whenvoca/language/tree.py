"""The tree of a workflow: values and statements, each with its spot in the file. Plain data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from whenvoca.language.faults import Spot

if TYPE_CHECKING:
    from whenvoca.language.definitions import StepDefinition, TriggerDefinition


@dataclass(frozen=True, slots=True)
class Node:
    """A value; ``spot`` does not count when two are compared."""

    spot: Spot = field(compare=False)


@dataclass(frozen=True, slots=True)
class Literal(Node):
    """A number, yes, no, a date, a time or the empty value, written out."""

    value: Any


@dataclass(frozen=True, slots=True)
class Text(Node):
    """A text with values in it; ``lines`` each a sequence of plain texts and values."""

    lines: tuple[tuple[str | Node, ...], ...]


@dataclass(frozen=True, slots=True)
class Name(Node):
    """A bare name: a word of the language, a field of the subject or a given name. Compared without case."""

    word: str
    as_written: str = field(compare=False)
    is_column: bool = False  # written column "…": always a column


@dataclass(frozen=True, slots=True)
class Field(Node):
    """THING.NAME"""

    of: Node
    word: str
    as_written: str = field(compare=False)


@dataclass(frozen=True, slots=True)
class Call(Node):
    """FUNCTION(VALUE, …)"""

    function: str
    arguments: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class ListOf(Node):
    """VALUE, VALUE, …"""

    items: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Each(Node):
    """each NAME in LIST [where CONDITION]: VALUE"""

    name: str
    source: Node
    condition: Node | None
    value: Node


@dataclass(frozen=True, slots=True)
class Choice(Node):
    """if CONDITION then VALUE [else VALUE]"""

    condition: Node
    then: Node
    otherwise: Node | None


@dataclass(frozen=True, slots=True)
class At(Node):
    """DATE at TIME"""

    day: Node
    clock: Node


@dataclass(frozen=True, slots=True)
class Span(Node):
    """AMOUNT UNIT, one or several: 1 hour 30 minutes"""

    pieces: tuple[tuple[Node, str], ...]


@dataclass(frozen=True, slots=True)
class Offset(Node):
    """DURATION before, DURATION after: of an alarm"""

    span: Node
    before: bool


@dataclass(frozen=True, slots=True)
class Shown(Node):
    """VALUE as date, VALUE as time, VALUE as "PATTERN" """

    value: Node
    form: str


@dataclass(frozen=True, slots=True)
class Days(Node):
    """On which days: of the week (0 is Monday), of the month (-1 is the last), or the n-th such weekday of the month."""

    weekdays: tuple[int, ...] = ()
    days: tuple[int, ...] = ()
    nths: tuple[tuple[int, int], ...] = ()  # (n, weekday); n -1 is the last


@dataclass(frozen=True, slots=True)
class InZone(Node):
    """MOMENT in zone "…" """

    value: Node
    zone: Node


@dataclass(frozen=True, slots=True)
class Sum(Node):
    """LEFT + - * / RIGHT"""

    sign: str
    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class Minus(Node):
    """- VALUE"""

    value: Node


@dataclass(frozen=True, slots=True)
class Compare(Node):
    """LEFT RELATION RIGHT: is, contains, begins with, ends with, like, <, <=, >, >=, before, after"""

    relation: str
    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class IsEmpty(Node):
    """VALUE is empty"""

    value: Node


@dataclass(frozen=True, slots=True)
class IsOneOf(Node):
    """VALUE is one of VALUE, VALUE"""

    value: Node
    items: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Between(Node):
    """VALUE between LOW and HIGH, both included"""

    value: Node
    low: Node
    high: Node


@dataclass(frozen=True, slots=True)
class Not(Node):
    """not CONDITION"""

    condition: Node


@dataclass(frozen=True, slots=True)
class Several(Node):
    """CONDITION and CONDITION …, or all joined by or"""

    joined_by: str
    conditions: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Repeat(Node):
    """every WEEK on DAY until DATE / N times: the rule's fixed parts, and its end as a value."""

    parts: Mapping[str, str]
    until: Node | None = None


@dataclass(frozen=True, slots=True)
class FieldLine:
    """A field of a step or trigger: NAME VALUE."""

    word: str
    as_written: str = field(compare=False)
    spot: Spot = field(compare=False)
    value: Node


@dataclass(frozen=True, slots=True)
class Block:
    """Statements one after the other."""

    statements: tuple[Statement, ...] = ()


@dataclass(frozen=True, slots=True)
class Statement:
    """Something a workflow does; ``spot`` is its line."""

    spot: Spot = field(compare=False)


@dataclass(frozen=True, slots=True)
class Step(Statement):
    """A step with its fields. ``path`` is its identity in the workflow."""

    definition: StepDefinition = field(compare=False)
    sentence: str = ""
    places: tuple[str, ...] = ()
    slots: Mapping[str, Node] = field(default_factory=dict)
    name: str = ""
    fields: tuple[FieldLine, ...] = ()
    conditions: tuple[Node, ...] = ()
    on_failure: Block | None = None
    formerly: str = ""

    @property
    def path(self) -> str:
        """What names this step in identities: its `as` name, else verb, noun and place."""
        name = "" if self.definition.is_mirror else self.name.lower()
        return self.formerly or name or " ".join([self.sentence, *(place.lower() for place in self.places)])


@dataclass(frozen=True, slots=True)
class Let(Statement):
    """let NAME = VALUE"""

    name: str
    value: Node


@dataclass(frozen=True, slots=True)
class If(Statement):
    """if … / else if … / else: each branch with its condition, None for else."""

    branches: tuple[tuple[Node | None, Block], ...]


@dataclass(frozen=True, slots=True)
class ForEach(Statement):
    """for each NAME in LIST"""

    name: str
    source: Node
    body: Block


@dataclass(frozen=True, slots=True)
class Ask(Statement):
    """ask NAME "question": an input, asked for when it is reached and not given already."""

    name: str
    question: Node
    kind: str = "text"
    default: Node | None = None
    choices: tuple[Node, ...] = ()


@dataclass(frozen=True, slots=True)
class Stop(Statement):
    """stop: the run ends well here."""


@dataclass(frozen=True, slots=True)
class Fail(Statement):
    """fail "…": the run ends as failed."""

    message: Node


@dataclass(frozen=True, slots=True)
class Trigger:
    """The `when` line."""

    spot: Spot = field(compare=False)
    definition: TriggerDefinition = field(compare=False)
    places: tuple[str, ...] = ()  # EVERY_PLACE alone: all of their kind
    happenings: tuple[str, ...] = ()  # gained, changed, lost
    conditions: tuple[Node, ...] = ()
    fields: tuple[Name, ...] = ()  # what alone counts as a change
    existing: bool | None = None
    slots: Mapping[str, Node] = field(default_factory=dict)
    settings: Mapping[str, Node] = field(default_factory=dict)  # early, late

    @property
    def is_set(self) -> bool:
        """Whether it is about what comes into a set, so that its subjects and not its occurrences make identities."""
        return self.happenings == ("gained",) or self.is_about

    @property
    def is_about(self) -> bool:
        """Whether somebody chooses its subject: `when asked about …`."""
        return self.definition.watches == "hand" and bool(self.places)


@dataclass(frozen=True, slots=True)
class Brake:
    """brake N deletions / N changes"""

    limit: int
    what: str


@dataclass(frozen=True, kw_only=True, slots=True)
class Settings:
    """The lines above the trigger."""

    title: str = ""
    about: str = ""
    zone: str = ""
    brakes: tuple[Brake, ...] = ()
    tries: int = 3
    missed: Any = None
    formerly: str = ""
    paused: bool = False
    private: str = "hidden"


@dataclass(frozen=True, kw_only=True, slots=True)
class Workflow:
    """A whole file, read."""

    name: str
    file: str
    settings: Settings
    trigger: Trigger | None
    body: Block
    on_failure: Block | None = None
    text: str = field(default="", compare=False, repr=False)  # the file's, without regard to layout only where compared

    @property
    def identity(self) -> str:
        """The name that stands in identities: the file's name, or what it was `formerly`."""
        return self.settings.formerly or self.name


def words_in(node: Node) -> set[str]:
    """The bare names anywhere in a value."""
    found: set[str] = set()
    stack: list[object] = [node]
    while stack:
        each = stack.pop()
        if isinstance(each, Name):
            found.add(each.word)
        elif isinstance(each, tuple):
            stack += each
        elif isinstance(each, Field) and isinstance(each.of, Name):
            continue  # before a dot stands a thing, never a bare name
        elif isinstance(each, Node):
            stack += [getattr(each, slot) for cls in type(each).__mro__ for slot in getattr(cls, "__slots__", ())]
    return found


def leaves_of(node: Node) -> list[Node]:
    """The names and fields in a value, as they stand."""
    found: list[Node] = []
    stack: list[object] = [node]
    while stack:
        each = stack.pop()
        if isinstance(each, Name | Field):
            found.append(each)
        elif isinstance(each, tuple):
            stack += reversed(each)
        elif isinstance(each, Node):
            parts = [getattr(each, slot) for cls in type(each).__mro__ for slot in getattr(cls, "__slots__", ())]
            stack += reversed(parts)
    return found


def plain_text(node: Node) -> str | None:
    """The text of a node without values in it, else None."""
    if isinstance(node, Text) and len(node.lines) == 1 and all(isinstance(part, str) for part in node.lines[0]):
        return "".join(str(part) for part in node.lines[0])
    return None


def plain_texts(node: Node) -> list[str]:
    """The texts without values of a node: those of a list, or its own."""
    found = [plain_text(each) for each in (node.items if isinstance(node, ListOf) else (node,))]
    return [each for each in found if each is not None]


def written(node: Node) -> str:
    """A name or field as the workflow writes it."""
    if isinstance(node, Field):
        return f"{written(node.of)}.{node.as_written}"
    return node.as_written if isinstance(node, Name) else ""
