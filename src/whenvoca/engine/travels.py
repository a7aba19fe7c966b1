"""Which travel stands around the events of a calendar."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from whenvoca.calendars.event import Event
from whenvoca.calendars.state import split_key
from whenvoca.calendars.travel import HOMEWARD, OUTWARD
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import Calendar


class Travels:
    """The travel events of a calendar, by the events that they are for. It is opened only where it is asked."""

    def __init__(self, name: str, calendar: Callable[[], Calendar], ledger: Ledger) -> None:
        self._name, self._calendar, self._ledger = name, calendar, ledger
        self._known: tuple[int, dict[str, list[tuple[Lineage, str]]]] = (-1, {})

    def known(self) -> dict[str, list[tuple[Lineage, str]]]:
        """The lineages and UIDs of what the ledger knows as travel, by the key of the event; as of the newest write."""
        newest = self._ledger.next_effect()
        if newest != self._known[0]:
            self._known = (newest, _by_event(self._ledger.marks_made(self._name, "")))
        return self._known[1]

    def all(self) -> dict[str, list[tuple[Lineage, str]]]:
        """The same; of a calendar in which the ledger knows of nothing that was made, as the events themselves say."""
        if self._ledger.has_made(self._name):
            return self.known()
        return _by_event(self._calendar().find_marks(""))

    def around(self, key: str) -> list[Event]:
        """The travel events of the event of that key that stand; of an occurrence those of its series too."""
        every, uid = self.all(), split_key(key)[0]
        made = [*every.get(key, ()), *(every.get(uid, ()) if uid != key else ())]
        found = (self._calendar().find_event(each) for _, each in made)
        return [stored.event for stored in found if stored is not None]


def _by_event(marks: Mapping[str, str]) -> dict[str, list[tuple[Lineage, str]]]:
    found: dict[str, list[tuple[Lineage, str]]] = {}
    for mark, uid in marks.items():
        lineage = Lineage.from_mark(mark) if mark.endswith((OUTWARD, HOMEWARD)) else None
        if lineage is not None and lineage.repetition in (OUTWARD, HOMEWARD):
            found.setdefault(lineage.subject, []).append((lineage, uid))
    return found
