"""Where subjects come from: sheets, calendars and chats as a trigger sees them."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import changed_fields
from whenvoca.calendars.patch import says_cancelled
from whenvoca.calendars.state import event_key, from_state, split_key
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.message_protocols import Chat
from whenvoca.engine.place_protocols import Calendar, Change, Noticed, RowState, Sheet, Source
from whenvoca.engine.seeing.event_state import event_now
from whenvoca.engine.seeing.observing import observe_calendar, observe_chat, observe_sheet
from whenvoca.engine.things.event import EVENT_FIELDS
from whenvoca.engine.things.message import MESSAGE_FIELDS, MessageThing
from whenvoca.engine.things.task import TASK_FIELDS, to_thing
from whenvoca.engine.travels import Travels
from whenvoca.errors import RequestFault
from whenvoca.language.evaluation import Thing
from whenvoca.language.names import fold_name
from whenvoca.values.columns import Unread
from whenvoca.values.kinds import show_raw
from whenvoca.values.texts import show_value

_SAID_BY = ("sender", "room", "names")
_LONGEST_LABEL = 60
_OFFERED = timedelta(days=366)  # how far around now events are offered to be chosen from
_MOST_CELLS = 4  # of a row in a list to choose from


class LoggedSource(Source):
    """What sources have alike whose subjects are known from the log, and never corrected."""

    in_order = False
    goes_by_word = False
    takes_current = False

    def __init__(self, name: str, zone: ZoneInfo, ledger: Ledger) -> None:
        self.name, self.zone, self._ledger = name, zone, ledger

    def prepare(self) -> None:
        """Nothing is to be read."""

    def remember(self) -> None:
        """Nothing is to be kept."""

    def unwritten(self, key: str, state: RowState, effects: list[Effect]) -> RowState:
        """As it is: what a failed run wrote is what the next one begins with."""
        return state

    def keys_offered(self, now: datetime) -> list[str]:
        return [key for key, _ in self._ledger.standing_sequences(self.name)]

    def keys_of_rows(self, numbers: Collection[int]) -> Mapping[int, str | None]:
        if numbers:
            raise RequestFault(f"{self.name} holds events, not rows", fix="choose by --event UID")
        return {}

    def keys_with(self, words: str) -> list[str]:
        return []

    def given(self, key: str, state: RowState) -> Mapping[str, Thing]:
        return {}


class SheetSource(LoggedSource):
    """A sheet's rows."""

    takes_current = True

    def __init__(self, sheet: Sheet, ledger: Ledger) -> None:
        super().__init__(sheet.name, sheet.zone, ledger)
        self.sheet = sheet
        self.fields = frozenset(fold_name(word) for word in sheet.info().by_word)

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        """Reads the file, unless it stands as it was."""
        return observe_sheet(self._ledger, self.sheet, at, cause)

    def remember(self) -> None:
        """What the columns are, so that the next command need not read what stands unchanged."""
        self.sheet.info()

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        cells = [show_value(value) for value in state.values() if value is not None]
        return self.sheet.number_of(key) + 1, ", ".join(cells[:_MOST_CELLS])

    def keys_of_rows(self, numbers: Collection[int]) -> Mapping[int, str | None]:
        return {number: self.sheet.key_of_row(number) for number in sorted(numbers)}

    def prepare(self) -> None:
        if not self.sheet.is_scanned and self.sheet.digest():
            self.sheet.scan(self._ledger.standing(self.name))

    def thing(self, key: str, state: RowState) -> Thing:
        return self.sheet.row(key, state)

    def label(self, key: str, state: RowState | None) -> str:
        """The row's key, or its place in the sheet."""
        return self.sheet.label(key)

    def current(self, key: str) -> RowState | None:
        return self.sheet.current(key)

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        before, after = self.sheet.row("", old), self.sheet.row("", new)
        names = [name for name in dict.fromkeys([*old, *new]) if old.get(name) != new.get(name)]
        words = [(name, self.sheet.word_of(name)) for name in names]
        return [
            Change(name, _shown(before, word), _shown(after, word), word) for name, word in words if word in self.fields
        ]

    def unwritten(self, key: str, state: RowState, effects: list[Effect]) -> RowState:
        """The row without the cells that these wrote."""
        masked = dict(state)
        for effect in effects:
            if effect.action != "change" or (effect.place, effect.target) != (self.name, key):
                continue
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


class CalendarSource(LoggedSource):
    """A calendar's events, as they were last observed."""

    def __init__(self, calendar: Calendar, ledger: Ledger) -> None:
        super().__init__(calendar.name, calendar.zone, ledger)
        self.calendar = calendar
        self.fields = TASK_FIELDS if calendar.info().kind == "tasks" else EVENT_FIELDS
        self._travels = Travels(calendar.name, lambda: calendar, ledger)

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        return observe_calendar(self._ledger, self.calendar, at)

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        event = from_state(state)
        return 0, f'"{event.title}" {show_value(event.start)}'

    def keys_offered(self, now: datetime) -> list[str]:
        """What lies in the year around now, occurrences one by one."""
        events = self.calendar.find_between(now - _OFFERED, now + _OFFERED)
        return [event_key(event.uid, event.occurrence) for event in events if not event.cancelled]

    def thing(self, key: str, state: RowState) -> Thing:
        event = from_state(state)
        return to_thing(event, self.name, self.calendar.address_of(event.uid), self.zone, self._travels.around)

    def label(self, key: str, state: RowState | None) -> str:
        return show_raw(state.get("title")) if state and state.get("title") else split_key(key)[0]

    def current(self, key: str) -> RowState | None:
        """The event as it was last observed; an occurrence that was never changed as its series gives it."""
        return event_now(self._ledger, self.name, key, self.zone)

    def why_gone(self, key: str) -> str:
        is_cancelled = says_cancelled(self.calendar.text_of(split_key(key)[0]), key, self.zone)
        return f"it stands in {self.name} as cancelled, which counts as gone" if is_cancelled else ""

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        before, after = from_state(old), from_state(new)
        is_private = before.private or after.private
        return [
            Change(name, *values, is_private=is_private and name in ("title", "location", "details"))
            for name, values in changed_fields(before, after).items()
        ]


class MessageSource(LoggedSource):
    """A chat's messages, as they were heard."""

    fields = MESSAGE_FIELDS
    in_order = True

    def __init__(self, chat: Chat, ledger: Ledger) -> None:
        super().__init__(chat.name, chat.zone, ledger)
        self.chat = chat

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        return observe_chat(self._ledger, self.chat, at)

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        return 0, self.label(key, state)

    def thing(self, key: str, state: RowState) -> Thing:
        return MessageThing(key, state, self.name, self.zone)

    def label(self, key: str, state: RowState | None) -> str:
        said = " ".join(str((state or {}).get("text") or "").split())
        short = said if len(said) <= _LONGEST_LABEL else said[: _LONGEST_LABEL - 1] + "…"
        return f"{(state or {}).get('sender') or 'somebody'}: {short}"

    def current(self, key: str) -> RowState | None:
        """The message; None where it was forgotten."""
        return self._ledger.standing(self.name, [key]).get(key)

    def keys_with(self, words: str) -> list[str]:
        standing = self._ledger.standing(self.name)
        wanted = words.lower()
        keys = [key for key, _ in self._ledger.standing_sequences(self.name)]
        return [key for key in keys if wanted in str(standing[key].get("text") or "").lower()]

    def corrected(self, key: str, state: RowState) -> Mapping[str, RowState]:
        found: dict[str, RowState] = {}
        if not (numbers := {state.get("corrects")} - {None}):
            return found
        standing = self._ledger.standing(self.name)
        who = [state.get(word) for word in _SAID_BY]
        for earlier, _ in reversed(list(self._ledger.standing_sequences(self.name))):
            said = standing[earlier]
            is_meant = said.get("number") in numbers or said.get("corrects") in numbers
            if earlier != key and is_meant and [said.get(word) for word in _SAID_BY] == who:
                found[earlier] = said
                numbers |= {said.get("number"), said.get("corrects")} - {None}
        return found

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """A correction is a message of its own."""
        return []


class EmptySource(LoggedSource):
    """What stands for a place where a workflow is about nothing but its moment: the clock, or a hand."""

    fields: frozenset[str] = frozenset()

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        return Noticed()

    def thing(self, key: str, state: RowState) -> Any:
        """It is about nothing."""

    def label(self, key: str, state: RowState | None) -> str:
        return key

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        return 0, key

    def current(self, key: str) -> RowState | None:
        return {}

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        return []
