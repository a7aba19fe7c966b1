"""The protocols of places: what the engine asks of a sheet or a calendar, whichever backing stands behind it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.calendars.clashing import ClashRule
from whenvoca.calendars.event import Event
from whenvoca.calendars.free_busy import FreeBusy
from whenvoca.calendars.free_time import busy_spans
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.row_hashes import RowHashes
from whenvoca.errors import RowFault, SourceFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.evaluation import Thing
from whenvoca.values.kinds import Raw

RowState = Mapping[str, Raw]  # a row's filled cells by column name


class MovedOn(RowFault):
    """The thing is no longer what the effect was decided on: it has to be read again and decided anew."""


class PlaceReport(Struct, frozen=True):
    """What `places` tells: how much it holds, whether it answers, and if not why."""

    name: str
    kind: str
    address: str
    zone: str
    holds: str = ""
    trouble: str = ""
    fix: str = ""
    notes: tuple[str, ...] = ()
    exit_code: int = 0  # of the trouble


class Found(Struct, frozen=True):
    """A thing that a look-up found, as it stood then."""

    place: str
    key: str
    state: Mapping[str, Any]


class Resource(Struct, frozen=True):
    """What a calendar holds as one piece (all components of a UID): its version, and what tells cheaply that it stands
    unchanged, empty where that cannot be told."""

    uid: str
    version: str
    stamp: str = ""


class CalendarChanges(Struct):
    """What changed at a calendar since the last look: new and changed resources with their events, and those gone."""

    cursor: str
    changed: dict[str, tuple[Resource, list[Event]]] = field(default_factory=dict)  # by the piece's name
    stamped: dict[str, Resource] = field(default_factory=dict)  # unchanged, but with a new stamp
    gone: list[str] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)
    is_partial: bool = False  # there is more: to be looked at again when this much has been noted


class Place(Protocol):
    """Any place. ``address`` is where it is, for people; ``notes`` are told beside what it holds."""

    name: str
    kind: str
    address: str
    zone: ZoneInfo
    notes: tuple[str, ...] = ()

    def holds(self) -> str:
        """How much it holds, or that it answers, for people. Raises what is wrong with it."""

    def describe(self) -> PlaceReport:
        """The place for people. Never raises: trouble is part of the answer."""
        try:
            holds, said, fix, code = self.holds(), "", "", 0
        except WhenvocaError as error:
            holds, said, fix, code = "", error.message, error.fix, int(error.exit_code)
        return PlaceReport(self.name, self.kind, self.address, self.zone.key, holds, said, fix, self.notes, code)

    def info(self) -> PlaceInfo:
        """What the checker needs; no server is asked, a run does that. Never raises: trouble is part of the answer."""
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key)


class StoredEvent(Struct, frozen=True):
    """An event as it stands at its place, with the place's version of it."""

    event: Event
    version: str
    address: str = ""
    data: bytes = b""  # an iCalendar object with all components of the UID
    others: tuple[Event, ...] = ()  # its changed occurrences


class Writer(Protocol):
    """What carries out effects at once."""

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Writes a group; answers a receipt or an error for each. Raises PlaceTrouble where nothing can be written."""


class Calendar(Place, Writer, Protocol):
    """A calendar. ``unread``: what the last look at all of it, or at a span, found that cannot be used."""

    clash: str
    clash_rule: ClashRule = ClashRule()
    invite: str = ""  # who sends invitations, where the settings say: us, server, nobody
    unread: Sequence[str] = ()

    def find_event(self, uid: str) -> StoredEvent | None:
        """The event (or master of a series) of that UID. Raises PlaceTrouble or SourceFault."""

    def text_of(self, uid: str) -> bytes:
        """The iCalendar text in which that UID stands, cancelled or not; empty if nowhere. Raises PlaceTrouble."""

    def find_marked(self, mark: str) -> StoredEvent | None:
        """The standing event that carries our mark. Raises PlaceTrouble or SourceFault."""

    def find_between(self, low: datetime, high: datetime) -> list[Event]:
        """All occurrences wholly or partly between two moments, in order of start. Raises PlaceTrouble."""

    def busy_times(self, low: datetime, high: datetime) -> FreeBusy:
        """When it is busy between two moments, and no more. Raises PlaceTrouble or SourceFault."""
        day = timedelta(days=1)
        return FreeBusy(low, high, busy_spans(self.find_between(low - day, high + day), self.zone))

    def busy_times_of(self, address: str, low: datetime, high: datetime) -> FreeBusy:
        """When its server says that somebody is busy. Raises PlaceTrouble, SourceFault where it does not know them."""
        raise SourceFault("is on no server that could be asked when people are busy", where=self.name)

    def all_events(self) -> list[Event]:
        """All events, series as their masters, with the changed occurrences. Raises PlaceTrouble or SourceFault."""

    def find_marks(self, prefix: str) -> dict[str, str]:
        """The marks of ours that begin so, each with the UID of its event. Raises PlaceTrouble or SourceFault."""

    def address_of(self, uid: str) -> str:
        """Where the event of that UID can be seen."""

    def look(self, known: Mapping[str, Resource], cursor: str) -> CalendarChanges:
        """What changed since the look that brought ``known`` and ``cursor``. Raises PlaceTrouble or SourceFault."""

    def resource_of(self, uid: str, version: str) -> tuple[str, Resource] | None:
        """The name and stamp of a piece that we have just written, for ``look``; None if it is gone.

        Raises PlaceTrouble or SourceFault.
        """


class SeenRow(Struct, frozen=True):
    """A row as a scan found it. ``fault``: why it cannot run (its key is there twice); ``waits``: it has none yet."""

    key: str
    number: int
    state: RowState
    fault: str = ""
    waits: str = ""


class SaveIntent(Struct, frozen=True):
    """What is committed before a file is replaced: the hash it had, and the one it will have."""

    file: str
    before: str
    after: str


class SavedRows(Struct):
    """What became of pending rows: new states by key, added rows' numbers and errors by effect number, the new hash."""

    digest: str = ""
    states: dict[str, RowState] = field(default_factory=dict)
    added: dict[int, int] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)
    errors: dict[int, WhenvocaError] = field(default_factory=dict)


class Sheet(Place, Protocol):
    """A sheet: rows with keys, read as a whole, written cell by cell and saved once."""

    file: str
    signature: str  # changes when a setting that makes rows what they are does
    prints: RowHashes  # of the rows as they were in the last scan, where keys are declared
    found: frozenset[str]  # the keys of all rows in the last scan, those too that cannot be taken up

    def digest(self) -> str:
        """The hash of the file as it stands. Raises PlaceTrouble or SourceFault."""

    def scan(self, known: Mapping[str, RowState], prints: RowHashes = ...) -> Iterable[SeenRow]:
        """The filled rows, those left out that stand as they were observed, as one of these prints tells; ``known`` are
        the rows as last observed, for sheets whose keys are worked out.
        Raises PlaceTrouble, SourceFault where the file cannot be understood."""

    @property
    def is_scanned(self) -> bool:
        """Whether the rows have been scanned since the file was last read."""

    def row(self, key: str, state: RowState) -> Thing:
        """The row as a thing with typed fields, its cells read with the columns of the file as it stands."""

    def label(self, key: str) -> str:
        """How messages call the row."""

    def word_of(self, name: str) -> str:
        """The word that stands for a column in a workflow, folded."""

    def key_of_row(self, number: int) -> str | None:
        """The key of the row of that number as the spreadsheet counts, None if it holds none."""

    def number_of(self, key: str) -> int:
        """The row's number, counted from 0, as it was last scanned. Raises KeyError."""

    def keys(self) -> list[str]:
        """The keys of all rows that stand, those about to be deleted left out, in order."""

    def keys_holding(self, column: str, text: str) -> list[str]:
        """The keys of rows whose cell in the column (a word) may be that text, without regard to case."""

    def find_key(self, cells: Mapping[str, Any]) -> str | None:
        """The key that a new row with these cells would have; None where rows have no declared key."""

    def column_name(self, word: str) -> str:
        """The column's name as it stands in the sheet, for its word in a workflow. Raises RowFault if it is gone."""

    def to_raw(self, column: str, value: Any) -> Raw:
        """The value as a later reading of the file would find it."""

    def current(self, key: str) -> RowState | None:
        """The row as it stands now, pending cells included; None if it is gone."""

    def rows_below(self, columns: Sequence[str]) -> list[list[Raw]]:
        """The cells of these columns in every row below the headings, in order, but for totals. Raises KeyError."""

    def count_equal(self, cells: Mapping[str, Any]) -> int:
        """How many rows hold these cells, pending ones included."""

    def pend(self, number: int, effect: Effect) -> Receipt:
        """Takes a row effect to be saved later. ``number`` tells it apart. Raises RowFault if it cannot be."""


class SavingFile(Protocol):
    """A file behind sheets that is saved as a whole."""

    @property
    def pending(self) -> Sequence[Any]:
        """What waits to be saved."""

    def save(self, begin: Callable[[SaveIntent, list[int]], None]) -> dict[str, SavedRows]:
        """Replaces the file by one with the pending cells; ``begin`` commits the intent first. Answers what became of
        the rows of each sheet in it. Raises PlaceTrouble, RowFault or SourceFault, then everything stays pending."""


class Noticed(Struct):
    """What a look at a place brought: subjects that cannot be taken up, and rows that wait for their key."""

    faults: list[str] = field(default_factory=list)
    waits: list[str] = field(default_factory=list)


class Change:
    """One changed field, as `changes` lists it."""

    __slots__ = ("field", "is_private", "new", "old", "word")

    def __init__(self, field: str, old: Any, new: Any, word: str = "", *, is_private: bool = False) -> None:
        self.field, self.old, self.new = field, old, new
        self.is_private = is_private  # what it was and is stays out of what others read
        self.word = word or field  # what stands for it in a workflow

    def value_of(self, word: str) -> Any:
        """field, old or new."""
        return {"field": self.field, "old": self.old, "new": self.new}[word]

    def where_is(self, word: str) -> str:
        """Which change it is."""
        return f"the change of {self.field}"


class Source(Protocol):
    """A place as a trigger sees it: subjects with keys, which are observed, each a thing with fields."""

    name: str
    zone: ZoneInfo
    fields: frozenset[str]  # of its subjects, folded
    in_order: bool  # its subjects run one after the other, as they came; else only what happens to one of them
    goes_by_word: bool  # a subject goes when somebody says so; elsewhere it may only have been cut off
    takes_current: bool  # a run begins with its subject as it is, so that a correction counts; else as it was seen

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        """Looks at the place and enters what changed into the log; ``cause`` are runs of ours, by subject. Raises
        PlaceTrouble or SourceFault."""

    def prepare(self) -> None:
        """Reads the place if that has not been done yet, so that its subjects as they stand now are known.

        Raises PlaceTrouble or SourceFault.
        """

    def remember(self) -> None:
        """Keeps what a later command would otherwise have to find out again."""

    def thing(self, key: str, state: RowState) -> Thing:
        """The subject as workflows see it."""

    def given(self, key: str, state: RowState) -> Mapping[str, Thing]:
        """What else workflows know by a name, besides the subject."""

    def label(self, key: str, state: RowState | None) -> str:
        """How messages call the subject."""

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        """The subject in a list that somebody chooses from: a row's number in its sheet, else 0, and what it says."""

    def current(self, key: str) -> RowState | None:
        """The subject as it stands now, None if it is gone. Raises PlaceTrouble or SourceFault."""

    def why_gone(self, key: str) -> str:
        """Why a subject that is not there is not, as far as its place says more than that."""
        return ""

    def corrected(self, key: str, state: RowState) -> Mapping[str, RowState]:
        """The earlier subjects that this one stands instead of, such as a message that was sent again without its
        mistake."""
        return {}

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """The fields in which two states differ."""

    def unwritten(self, key: str, state: RowState, effects: list[Effect]) -> RowState:
        """The state as it would be without these writes, as far as nobody has changed them since."""

    def keys_offered(self, now: datetime) -> list[str]:
        """The subjects that somebody may choose from; of events, those in the year around now."""

    def keys_of_rows(self, numbers: Collection[int]) -> Mapping[int, str | None]:
        """The keys of the rows of these numbers, as the spreadsheet shows them; None where one holds no data. Raises
        RequestFault where the place has no rows."""

    def keys_with(self, words: str) -> list[str]:
        """The subjects in whose text these words stand, in the order they came; of places whose subjects are texts."""
