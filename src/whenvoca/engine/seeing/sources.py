"""Where subjects come from: sheets, calendars and chats as a trigger sees them, one face for all."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import changed_fields
from whenvoca.calendars.state import from_state, split_key
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import CalendarFace, ChatFace, RowState, SheetFace
from whenvoca.engine.seeing.event_state import event_now
from whenvoca.engine.things.event import EVENT_FIELDS
from whenvoca.engine.things.message import MESSAGE_FIELDS, MessageThing
from whenvoca.engine.things.task import TASK_FIELDS, to_thing
from whenvoca.language.evaluation import Thing
from whenvoca.language.inference import fold_name
from whenvoca.values.columns import Unread
from whenvoca.values.kinds import show_raw

_LONGEST_LABEL = 60


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
    """A place that a trigger looks at."""

    name: str
    zone: ZoneInfo
    fields: frozenset[str]  # of its subjects, folded
    in_order: bool  # its subjects run one after the other, as they came; else only what happens to one of them

    def prepare(self) -> None:
        """Reads the place if that has not been done yet, so that its subjects as they stand now are known."""

    def thing(self, key: str, state: RowState) -> Thing:
        """The subject as workflows see it."""

    def label(self, key: str, state: RowState | None) -> str:
        """How messages call the subject."""

    def current(self, key: str) -> RowState | None:
        """The subject as it stands now, None if it is gone."""

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """The fields in which two states differ."""

    def unwritten(self, state: RowState, effects: list[Effect]) -> RowState:
        """The state as it would be without these writes, as far as nobody has changed them since."""


class SheetSource:
    """A sheet's rows."""

    in_order = False

    def __init__(self, sheet: SheetFace, ledger: Ledger) -> None:
        self.sheet = sheet
        self._ledger = ledger
        self.name = sheet.name
        self.zone = sheet.zone
        self.fields = frozenset(fold_name(word) for word in sheet.info().by_word)

    def prepare(self) -> None:
        """Scans the rows."""
        if not self.sheet.is_scanned and self.sheet.digest():
            self.sheet.scan(self._ledger.standing(self.name))

    def thing(self, key: str, state: RowState) -> Thing:
        """The row with typed fields."""
        return self.sheet.row(key, state)

    def label(self, key: str, state: RowState | None) -> str:
        """The row's key, or its place in the sheet."""
        return self.sheet.label(key)

    def current(self, key: str) -> RowState | None:
        """The row as it stands, pending cells included."""
        return self.sheet.current(key)

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """The cells in which two states differ, with typed values."""
        before, after = self.sheet.row("", old), self.sheet.row("", new)
        names = [name for name in dict.fromkeys([*old, *new]) if old.get(name) != new.get(name)]
        words = [(name, self.sheet.word_of(name)) for name in names]
        return [
            Change(name, _shown(before, word), _shown(after, word), word) for name, word in words if word in self.fields
        ]

    def unwritten(self, state: RowState, effects: list[Effect]) -> RowState:
        """The row without these writes."""
        masked = dict(state)
        for effect in effects:
            for name, value in (effect.after or {}).items():
                if masked.get(name) == self.sheet.to_raw(name, value):
                    before = (effect.before or {}).get(name)
                    if before is None:
                        masked.pop(name, None)
                    else:
                        masked[name] = before
        return masked


def _shown(row: Thing, word: str) -> Any:
    value = row.value_of(word)
    return value.text if isinstance(value, Unread) else value


class CalendarSource:
    """A calendar's events, as they were last observed."""

    in_order = False

    def __init__(self, calendar: CalendarFace, ledger: Ledger) -> None:
        self.calendar = calendar
        self.fields = TASK_FIELDS if calendar.info().kind == "tasks" else EVENT_FIELDS
        self.name = calendar.name
        self.zone = calendar.zone
        self._ledger = ledger

    def prepare(self) -> None:
        """Events are known from the log."""

    def thing(self, key: str, state: RowState) -> Thing:
        """The event."""
        event = from_state(state)
        return to_thing(event, self.name, self.calendar.address_of(event.uid), self.zone)

    def label(self, key: str, state: RowState | None) -> str:
        """The event's title."""
        return show_raw(state.get("title")) if state and state.get("title") else split_key(key)[0]

    def current(self, key: str) -> RowState | None:
        """The event as it was last observed; an occurrence that was never changed as its series gives it."""
        return event_now(self._ledger, self.name, key, self.zone)

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """The fields in which two states differ."""
        before, after = from_state(old), from_state(new)
        is_private = before.private or after.private
        return [
            Change(name, *values, is_private=is_private and name in ("title", "location", "details"))
            for name, values in changed_fields(before, after).items()
        ]

    def unwritten(self, state: RowState, effects: list[Effect]) -> RowState:
        """The event as it is: a failed run's writes to an event are what the next one begins with."""
        return state


class MessageSource:
    """A chat's messages, as they were heard."""

    fields = MESSAGE_FIELDS
    in_order = True

    def __init__(self, chat: ChatFace, ledger: Ledger) -> None:
        self.chat = chat
        self.name, self.zone = chat.name, chat.zone
        self._ledger = ledger

    def prepare(self) -> None:
        """Messages are known from the log."""

    def thing(self, key: str, state: RowState) -> Thing:
        """The message."""
        return MessageThing(key, state, self.name, self.zone)

    def label(self, key: str, state: RowState | None) -> str:
        """Who said what."""
        said = " ".join(str((state or {}).get("text") or "").split())
        short = said if len(said) <= _LONGEST_LABEL else said[: _LONGEST_LABEL - 1] + "…"
        return f"{(state or {}).get('sender') or 'somebody'}: {short}"

    def current(self, key: str) -> RowState | None:
        """The message; None where it was forgotten."""
        return self._ledger.standing(self.name, [key]).get(key)

    def keys_with(self, words: str) -> list[str]:
        """The messages in which these words stand, by their keys, in the order they came."""
        standing = self._ledger.standing(self.name)
        wanted = words.lower()
        keys = [key for key, _ in self._ledger.standing_sequences(self.name)]
        return [key for key in keys if wanted in str(standing[key].get("text") or "").lower()]

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """What was said is never changed."""
        return []

    def unwritten(self, state: RowState, effects: list[Effect]) -> RowState:
        """As it was said."""
        return state


class EmptySource:
    """What stands for a place where a workflow is about nothing but its moment: the clock, or a hand."""

    fields: frozenset[str] = frozenset()
    in_order = False

    def __init__(self, name: str, zone: ZoneInfo) -> None:
        self.name, self.zone = name, zone

    def prepare(self) -> None:
        """There is nothing to read."""

    def thing(self, key: str, state: RowState) -> Any:
        """It is about nothing."""

    def label(self, key: str, state: RowState | None) -> str:
        """The moment."""
        return key

    def current(self, key: str) -> RowState | None:
        """Nothing that could be gone."""
        return {}

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """Nothing changes."""
        return []

    def unwritten(self, state: RowState, effects: list[Effect]) -> RowState:
        """As it is."""
        return state


def to_sources(
    places: Sequence[str],
    sheets: Mapping[str, SheetFace],
    calendars: Mapping[str, CalendarFace],
    chats: Mapping[str, ChatFace],
    ledger: Ledger,
) -> dict[str, Source]:
    """The sources of these places, by the places' names; tasks count as calendars here."""
    found: dict[str, Source] = {}
    for place in places:
        source: Source
        if place in sheets:
            source = SheetSource(sheets[place], ledger)
        elif place in chats:
            source = MessageSource(chats[place], ledger)
        else:
            source = CalendarSource(calendars[place], ledger)
        found[source.name] = source
    return found
