"""The answers of attendees to a calendar's invitations, as a trigger sees them: they were entered when they came."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from whenvoca.calendars.recurrence import occurrence_at
from whenvoca.calendars.state import event_key, original_start, split_key
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.renaming import answers_of
from whenvoca.engine.place_protocols import Calendar, Change, Noticed, RowState
from whenvoca.engine.seeing.sources import LoggedSource
from whenvoca.engine.things.answer import ANSWER_FIELDS, AnswerThing
from whenvoca.engine.things.task import to_thing
from whenvoca.language.evaluation import Thing


class AnswerSource(LoggedSource):
    """The answers, each by itself, with the event that it is about."""

    fields = ANSWER_FIELDS
    takes_current = True

    def __init__(self, calendar: Calendar, ledger: Ledger) -> None:
        super().__init__(answers_of(calendar.name), calendar.zone, ledger)
        self._calendar = calendar

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        return Noticed()

    def thing(self, key: str, state: RowState) -> AnswerThing:
        return AnswerThing(key, state, self._calendar.name, self.zone)

    def given(self, key: str, state: RowState) -> Mapping[str, Thing]:
        """The event, as it stands now; where it is gone, with what is known of it."""
        wanted = str(state["event"])
        uid, original = split_key(wanted)[0], original_start(wanted)
        stored = self._calendar.find_event(uid)
        if stored is None:
            return {}
        event: Any = stored.event
        if original is not None:
            changed = [each for each in stored.others if event_key(uid, each.occurrence) == wanted]
            event = changed[0] if changed else occurrence_at(stored.event, original, self.zone) or stored.event
        return {"event": to_thing(event, self._calendar.name, stored.address, self.zone)}

    def label(self, key: str, state: RowState | None) -> str:
        told: Mapping[str, Any] = state or {}
        return f"{told.get('attendee') or 'somebody'} {told.get('word') or ''}: {told.get('title') or ''}".strip(" :")

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        return 0, self.label(key, state)

    def current(self, key: str) -> RowState | None:
        return self._ledger.standing(self.name, [key]).get(key)

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """An answer does not change; another one is another answer."""
        return []
