"""What a step or trigger is: one definition, from which reader, checker, completion and `words` come.

Adding a step or a trigger is adding one file with its definition; nothing here changes for it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, Literal, Protocol

from msgspec import Struct, field

from whenvoca.language.faults import Spot
from whenvoca.language.lines import OPENING_QUOTES
from whenvoca.language.types import Type
from whenvoca.values.columns import Status
from whenvoca.values.kinds import Kind

# What may stand in a field. "choice" fields take one of their ``choices`` as a bare word.
FieldType = Literal[
    "text",
    "number",
    "yes-no",
    "date",
    "time",
    "moment",
    "duration",
    "addresses",
    "choice",
    "reminders",
    "repeat",
    "zone",
    "colour",
    "condition",
    "value",
    "names",
    "people",
    "list",
    "rooms",
    "texts",
    "between",
    "weekdays",
    "calendars",
    "choices",
]


class Strategy(Protocol):
    """How a trigger finds what is new, as far as the language asks (the rest is in ``engine.seeing.strategy``)."""

    is_timed: bool  # it waits for moments
    is_by_hand: bool  # somebody starts it, and nothing else


class FieldDefinition(Struct, frozen=True):
    """One field of a step or trigger."""

    name: str
    type: FieldType
    meaning: str
    default: str = ""
    choices: tuple[str, ...] = ()
    example: str = ""
    span: tuple[int, int] | None = None  # of a number: its least and its greatest
    is_known: bool = False  # of people: names from [people] alone, no addresses
    given: Mapping[str, Type] = {}  # names that are known in this field alone, before the subject's fields
    check: Callable[[Any], tuple[str, str] | None] | None = None
    """Given the node of its value: what is wrong with it as it is written, as (message, mend)."""


class Sentence(Struct, frozen=True, dict=True):
    """The words of a step or trigger: lower case stands as it is, upper case is a slot, one in brackets may be left
    out.

    Slots: the name of a kind of place (SHEET, CALENDAR: one place of that kind), CALENDARS (several, or any of them),
    CHANGES (gains, changes, loses, joined), NAME (a given name), EACH (a name that it gives to each element),
    WORKFLOW, FOLDER and FILE (a name in quotes), DAYS (days of the week or month), and those of ``VALUE_SLOTS`` (any
    value, up to the next word of the sentence).
    """

    words: str

    @property
    def shown(self) -> str:
        """The sentence for people."""
        return self.words.replace("CHANGES", "gains, changes or loses").replace("EACH", "NAME")

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


class StepDefinition(Struct, frozen=True, kw_only=True, dict=True):
    """A kind of step. ``act`` carries it out: a generator of effects, run on a stage (see ``engine``)."""

    sentence: Sentence
    meaning: str
    fields: tuple[FieldDefinition, ...] = ()
    columns_as_fields: bool = False  # the place's (or subject's) columns are its fields
    columns_optional: bool = False  # it may stand without any of them
    kinds_as_fields: bool = False  # what stands below it are names of the workflow's own, each with its kind
    thing: str = ""  # "row", "event" or "task": what it acts on: the subject, a given name, or what it looks up
    looks_up: bool = False  # it finds its thing in a place by `where`
    is_mirror: bool = False  # it keeps one thing per subject
    reads_only: bool = False  # it writes to no place
    watches: bool = False  # its calendars are looked at even where no trigger is about them
    is_plan: bool = False  # it keeps one plan per subject: made again it is changed
    is_collective: bool = False  # it is about more than the run's subject, so its runs go one after the other
    follow: Callable[[Any, str], Iterator[Any]] | None = None
    """Given the stage and a calendar, what of that which it made there has to keep up with what it was made for."""
    effects: tuple[Any, ...] = ()  # the kinds of effects that it may write (see ``engine.acting.effect_kind``)
    makes: Callable[[PlaceInfo], Type] | None = None  # the type that `as NAME` stands for
    is_making: bool = False  # it makes a thing, so it needs an identity of its own
    value_type: FieldType = "value"  # what stands in its sentence's VALUE
    is_told: bool = False  # what it writes is read by others: titles of private events do not go there
    check_fields: Callable[[Mapping[str, Spot]], Iterator[tuple[str, str, str]]] | None = None
    """Given the fields that stand there: what is wrong with them together, as (field or "", message, mend)."""
    identity: str = ""  # what identities call it, where its sentence had other words when it was first made
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


class TriggerDefinition(Struct, frozen=True, kw_only=True, dict=True):
    """A kind of trigger: its sentence, its settings, and the word for what it is about."""

    sentence: Sentence
    meaning: str
    subject: str  # the word for what it is about: row, event, message
    subject_type: Callable[[PlaceInfo | None], Type]
    settings: tuple[FieldDefinition, ...] = ()
    existing_by_default: bool = True
    strategy: Strategy
    happening: str = ""  # what alone happens to its subjects, where the sentence says no more
    admits: Callable[[Any, Mapping[str, Sequence[str]]], bool] | None = None
    """Which subjects count besides `where`: given one, and what the settings of people and rooms say in lower case."""
    takes_sample: bool = False  # a file can stand for its place when it is rehearsed
    value_type: FieldType = "value"  # what stands in its sentence's VALUE
    given: Mapping[str, Callable[[PlaceInfo | None], Type]] = {}  # what else is known by a name, besides the subject
    example: str = ""

    @property
    def follows_changes(self) -> bool:
        """Whether it is about what changes at a place, and not about moments or what somebody asks for."""
        return not (self.strategy.is_timed or self.strategy.is_by_hand)


class Vocabulary(Struct, frozen=True):
    """All steps and triggers there are."""

    steps: tuple[StepDefinition, ...]
    triggers: tuple[TriggerDefinition, ...]


class ColumnInfo(Struct, frozen=True, kw_only=True):
    """A column as the checker sees it."""

    name: str
    letter: str
    kind: Kind
    filled: int = 0
    declared: bool = False
    several: bool = False  # its values are lists
    status: Status = "ok"
    doubt: str = ""  # a cell that fits two readings, and the setting that decides
    fix: str = ""
    sample: str = ""  # a cell, for messages


class WebInfo(Struct, frozen=True, kw_only=True):
    """What a form or a hook is to the web."""

    path: str = ""  # empty where it is a secret
    is_unsigned: bool = False  # anybody who knows the address may call
    promises_change: bool = False  # senders may change what they sent


class PlaceInfo(Struct, frozen=True, kw_only=True):
    """A place as the checker sees it. ``columns`` is None where the place has none, or cannot be read."""

    name: str
    kind: str
    zone: str = ""
    readonly: bool = False
    unwritable: str = ""  # why it cannot be written at all
    totals: bool = False  # a totals line stands below its rows, so that none can be put there
    columns: tuple[ColumnInfo, ...] | None = None
    twice: Mapping[str, str] = field(default_factory=dict)  # column names that stand twice, with their cells
    trouble: str = ""
    trouble_fix: str = ""
    trouble_exit: int = 0  # the exit status of the trouble, where a run meets it
    warnings: tuple[str, ...] = ()
    rooms: tuple[str, ...] = ()  # of a chat
    has_key: bool = False  # of a sheet: a column tells its rows apart
    web: WebInfo | None = None  # of a form or a hook
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


class Match(Struct, frozen=True):
    """A sentence found on a line: which definition, and where its slots stand."""

    definition: Any
    # slot: its first word and the one behind its last
    slots: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    length: int = 0


_PLACES_OF_SLOT = {"CALENDARS": "calendar"}  # slots for several places, by the kind of each
QUOTED_SLOTS = ("WORKFLOW", "FOLDER", "FILE")  # a name in quotes
_OTHER_SLOTS = ("CHANGES", "NAME", "EACH", "DAYS", *QUOTED_SLOTS)
HAPPENINGS = {"gains": "gained", "changes": "changed", "loses": "lost"}
# Slots in which any value may stand, by what it is for people; a node of it is found under "VALUE".
VALUE_SLOTS = ("VALUE", "TIME", "DURATION", "ROOM", "PEOPLE", "ADDRESSES", "ADDRESS", "LIST", "TEXT", "ATTACHMENT")
EVERY_PLACE = "*"  # any calendar, all calendars
_NO_NAMES = ("in", "as", "to")
_Slots = dict[str, tuple[int, int]]


def place_kind_of(slot: str) -> str:
    """The kind of place that stands in a slot of a sentence, empty where none does."""
    if not is_slot(slot) or slot.strip("[]") in (*VALUE_SLOTS, *_OTHER_SLOTS):
        return ""
    return _PLACES_OF_SLOT.get(slot, slot.lower())


def match_sentence(
    words: Sequence[str], definitions: Sequence[StepDefinition] | Sequence[TriggerDefinition]
) -> tuple[Match | None, int]:
    """The definition whose sentence begins the words, the longest one; else how many words the best one shared."""
    best: Match | None = None
    furthest = 0
    for definition in definitions:
        gives_name = len(words) > 2 and words[-2].lower() == "as" and getattr(definition, "makes", None) is not None
        slots, position = _match_parts(definition.sentence.parts, words, 0, len(words) - 2 * gives_name)
        if slots is not None and (best is None or position > best.length):
            best = Match(definition, slots, position)
        furthest = max(furthest, position)
    return best, furthest


def _match_parts(parts: Sequence[str], words: Sequence[str], begin: int, limit: int) -> tuple[_Slots | None, int]:
    """Where the slots of a sentence stand, and behind which word it ends; None, and how far it went, if it does not
    fit.

    A VALUE takes as much as leaves the rest of the sentence its words; it stops before `as NAME`.
    """
    slots: _Slots = {}
    position = begin
    for index, part in enumerate(parts):
        if part in VALUE_SLOTS:
            for end in range(limit, position, -1):
                rest, behind = _match_parts(parts[index + 1 :], words, end, limit)
                if rest is not None:
                    return {**slots, "VALUE": (position, end), **rest}, behind
            return None, position
        end = limit if part == "DAYS" and position < limit else _end_of_part(part, words, position)
        if end == position and not part.startswith("["):
            return None, position
        if is_slot(part) and end > position:
            slots[part.strip("[]")] = (position, end)
        position = end
    return slots, position


def _end_of_part(part: str, words: Sequence[str], begin: int) -> int:
    """Behind which word a part of a sentence ends; ``begin`` itself if it does not stand there."""
    if begin >= len(words):
        return begin
    if not is_slot(part):
        return begin + 1 if words[begin].lower() == part else begin
    if part.startswith("["):
        return begin if words[begin].lower() in _NO_NAMES else begin + 1
    if part == "CHANGES":
        return _end_of_list(words, begin, lambda word: word.lower() in HAPPENINGS, ("or", "and", ","))
    if part in QUOTED_SLOTS:
        return begin + 1 if words[begin][:1] in OPENING_QUOTES else begin
    if words[begin] == ",":
        return begin
    if part == "CALENDARS":
        if [word.lower() for word in words[begin : begin + 2]] in (["any", "calendar"], ["all", "calendars"]):
            return begin + 2
        return _end_of_list(words, begin, lambda word: word != ",", (",",))
    return begin + 1


def _end_of_list(words: Sequence[str], begin: int, fits: Callable[[str], bool], joins: Sequence[str]) -> int:
    position = begin
    while position < len(words) and fits(words[position]):
        position += 1
        following = position
        while following < len(words) and words[following].lower() in joins:
            following += 1
        if following == position or following >= len(words) or not fits(words[following]):
            break
        position = following
    return position
