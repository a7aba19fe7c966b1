"""The entries of a form, and the calls to a hook, as a trigger sees them."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from whenvoca.engine.intake_protocols import IntakePlace
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import StateChange
from whenvoca.engine.place_protocols import Change, Noticed, RowState
from whenvoca.engine.seeing.sources import LoggedSource
from whenvoca.engine.things.entry import OWN_WORDS, EntryThing, is_field
from whenvoca.language.definitions import column_word
from whenvoca.language.names import fold_name
from whenvoca.values.texts import show_value

_MOST_FIELDS = 3  # of an entry in a list


class EntrySource(LoggedSource):
    """What came in by one form or hook."""

    goes_by_word = True
    takes_current = True

    def __init__(self, place: IntakePlace, ledger: Ledger) -> None:
        super().__init__(place.name, place.zone, ledger)
        self._place = place
        self.fields = frozenset({*map(fold_name, place.info().by_word), *OWN_WORDS})

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        """Takes over what came in since the last look, in order."""
        ledger = self._ledger
        cursor = ledger.cursor(self.name)
        with ledger.transaction():
            for each in ledger.arrivals(self.name, int(cursor or 0)):
                change = StateChange(each.subject, each.state)
                if each.state is not None or ledger.standing(self.name, [each.subject]):
                    ledger.observe(self.name, [change], str(each.sequence), at.isoformat())
        return Noticed()

    def put_sample(self, path: Path, at: datetime) -> None:
        """Lets what a file holds come in, in a copy of the ledger. Raises RequestFault."""
        self._place.put_sample(self._ledger, path, at)

    def thing(self, key: str, state: RowState) -> EntryThing:
        return EntryThing(key, _by_word(state), self.name, self.zone)

    def label(self, key: str, state: RowState | None) -> str:
        said = next((show_value(value) for name, value in (state or {}).items() if is_field(name) and value), "")
        return f"number {key} {said}".strip() if key.isdecimal() else f"{key} {said}".strip()

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        values = [show_value(value) for name, value in state.items() if is_field(name) and value is not None]
        return 0, ", ".join(values[:_MOST_FIELDS])

    def current(self, key: str) -> RowState | None:
        return self._ledger.standing(self.name, [key]).get(key)

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        names = [name for name in dict.fromkeys([*old, *new]) if old.get(name) != new.get(name)]
        return [Change(name, old.get(name), new.get(name), column_word(name)) for name in names if is_field(name)]


def _by_word(state: RowState) -> dict[str, Any]:
    return {column_word(name): value for name, value in state.items()}
