"""The tree of a workflow: values and statements, each with its spot in the file. Plain data."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from msgspec import Struct, field

from whenvoca.language.definitions import Sentence, StepDefinition, TriggerDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.types import ANY
from whenvoca.values.records import Record


class Node(Record, frozen=True):
    """A value; ``spot`` does not count when two are compared."""

    ignored_fields = ("spot", "as_written")

    spot: Spot


class Literal(Node, frozen=True):
    """A number, yes, no, a date, a time or the empty value, written out."""

    value: Any


class Text(Node, frozen=True):
    """A text with values in it; ``lines`` each a sequence of plain texts and values."""

    lines: tuple[tuple[str | Node, ...], ...]


class Name(Node, frozen=True):
    """A bare name: a word of the language, a field of the subject or a given name. Compared without case."""

    word: str
    as_written: str
    is_column: bool = False  # written column "…": always a column


class Field(Node, frozen=True):
    """THING.NAME"""

    of: Node
    word: str
    as_written: str


class Call(Node, frozen=True):
    """FUNCTION(VALUE, …)"""

    function: str
    arguments: tuple[Node, ...]


class ListOf(Node, frozen=True):
    """VALUE, VALUE, …"""

    items: tuple[Node, ...]


class Each(Node, frozen=True):
    """each NAME in LIST [where CONDITION]: VALUE"""

    name: str
    source: Node
    condition: Node | None
    value: Node


class Choice(Node, frozen=True):
    """if CONDITION then VALUE [else VALUE]"""

    condition: Node
    then: Node
    otherwise: Node | None


class At(Node, frozen=True):
    """DATE at TIME"""

    day: Node
    clock: Node


class Span(Node, frozen=True):
    """AMOUNT UNIT, one or several: 1 hour 30 minutes"""

    pieces: tuple[tuple[Node, str], ...]


class WorkingSpan(Node, frozen=True):
    """AMOUNT working days"""

    amount: Node


class Offset(Node, frozen=True):
    """DURATION before, DURATION after: of a reminder"""

    span: Node
    before: bool


class Shown(Node, frozen=True):
    """VALUE as date, VALUE as time, VALUE as "PATTERN" """

    value: Node
    form: str


class Days(Node, frozen=True):
    """On which days: of the week (0 is Monday), of the month (-1 is the last), or the n-th such weekday in it."""

    weekdays: tuple[int, ...] = ()
    days: tuple[int, ...] = ()
    nths: tuple[tuple[int, int], ...] = ()  # (n, weekday); n -1 is the last


class InZone(Node, frozen=True):
    """MOMENT in zone "…" """

    value: Node
    zone: Node


class Sum(Node, frozen=True):
    """LEFT + - * / RIGHT"""

    sign: str
    left: Node
    right: Node


class Minus(Node, frozen=True):
    """- VALUE"""

    value: Node


class Compare(Node, frozen=True):
    """LEFT RELATION RIGHT: is, contains, begins with, ends with, like, <, <=, >, >=, before, after"""

    relation: str
    left: Node
    right: Node


class IsEmpty(Node, frozen=True):
    """VALUE is empty"""

    value: Node


class IsOneOf(Node, frozen=True):
    """VALUE is one of VALUE, VALUE"""

    value: Node
    items: tuple[Node, ...]


class Between(Node, frozen=True):
    """VALUE between LOW and HIGH, both included"""

    value: Node
    low: Node
    high: Node


class Not(Node, frozen=True):
    """not CONDITION"""

    condition: Node


class Several(Node, frozen=True):
    """CONDITION and CONDITION …, or all joined by or"""

    joined_by: str
    conditions: tuple[Node, ...]


class Repeat(Node, frozen=True):
    """every WEEK on DAY until DATE / N times: the rule's fixed parts, and its end as a value."""

    parts: Mapping[str, str]
    until: Node | None = None


class FieldLine(Record, frozen=True):
    """A field of a step or trigger: NAME VALUE."""

    ignored_fields = ("as_written", "spot")

    word: str
    as_written: str
    spot: Spot
    value: Node


class Block(Struct, frozen=True):
    """Statements one after the other."""

    statements: tuple[Statement, ...] = ()


CONDITIONS = (Compare, IsEmpty, IsOneOf, Between, Not, Several)  # nodes that hold or do not hold


class Statement(Record, frozen=True):
    """Something a workflow does; ``spot`` is its line."""

    ignored_fields: ClassVar[tuple[str, ...]] = ("spot",)

    spot: Spot


class Step(Statement, frozen=True):
    """A step with its fields. ``path`` is its identity in the workflow."""

    ignored_fields = ("spot", "definition")

    definition: StepDefinition
    sentence: str = ""
    places: tuple[str, ...] = ()
    slots: Mapping[str, Node] = field(default_factory=dict)
    name: str = ""
    fields: tuple[FieldLine, ...] = ()
    conditions: tuple[Node, ...] = ()
    on_failure: Block | None = None
    formerly: str = ""
    first_places: tuple[str, ...] = ()  # its places by the names that they had first, where one has another now

    @property
    def path(self) -> str:
        """What names this step in identities: its `as` name, else verb, noun and place."""
        name = "" if self.definition.is_mirror else self.name.lower()
        return (
            self.formerly
            or name
            or " ".join([self.sentence, *(place.lower() for place in self.first_places or self.places)])
        )


class BrokenLine(Statement, frozen=True):
    """A line with a fault. ``name`` is what it would have given, so that what follows from it is not reported."""

    name: str


class Let(Statement, frozen=True):
    """let NAME = VALUE"""

    name: str
    value: Node


class If(Statement, frozen=True):
    """if … / else if … / else: each branch with its condition, None for else."""

    branches: tuple[tuple[Node | None, Block], ...]


class ForEach(Statement, frozen=True):
    """for each NAME in LIST"""

    name: str
    source: Node
    body: Block


class Ask(Statement, frozen=True):
    """ask NAME "question": an input, asked for when it is reached and not given already."""

    name: str
    question: Node
    kind: str = "text"
    default: Node | None = None
    choices: tuple[Node, ...] = ()


class Stop(Statement, frozen=True):
    """stop: the run ends well here."""


class Fail(Statement, frozen=True):
    """fail "…": the run ends as failed."""

    message: Node


class Trigger(Record, frozen=True):
    """The `when` line."""

    ignored_fields = ("spot", "definition")

    spot: Spot
    definition: TriggerDefinition
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
        return self.definition.strategy.is_by_hand and bool(self.places)


class _Never:
    """Nothing is ever new."""

    is_timed = is_by_hand = False


# Stands in a workflow whose `when` line is missing, or not understood.
NO_TRIGGER = Trigger(
    Spot(0, 0),
    TriggerDefinition(
        sentence=Sentence("when"), meaning="", subject="", subject_type=lambda place: ANY, strategy=_Never()
    ),
)


class Brake(Struct, frozen=True):
    """brake N deletions / N changes"""

    limit: int
    what: str


class Settings(Struct, frozen=True, kw_only=True):
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


class Workflow(Record, frozen=True, kw_only=True):
    """A whole file, read."""

    ignored_fields = ("text",)

    name: str
    file: str
    settings: Settings
    trigger: Trigger  # NO_TRIGGER where none could be read: then the file has a fault, and does not run
    body: Block
    on_failure: Block | None = None
    text: str = ""  # the file's, without regard to layout only where compared

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


def span_text(node: Node) -> str:
    """A length that is written out, as the workflow writes it; empty for anything else."""
    if not isinstance(node, Span) or not all(isinstance(amount, Literal) for amount, _ in node.pieces):
        return ""
    pieces = [(amount.value, unit) for amount, unit in node.pieces if isinstance(amount, Literal)]
    return " ".join(f"{value} {unit}{'s' * (value != 1)}" for value, unit in pieces)


def written(node: Node) -> str:
    """A name or field as the workflow writes it."""
    if isinstance(node, Field):
        return f"{written(node.of)}.{node.as_written}"
    return node.as_written if isinstance(node, Name) else ""
