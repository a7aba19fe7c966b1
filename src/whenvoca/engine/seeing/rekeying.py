"""Rows that are told apart in another way than before, since their place was given a key or another one: whoever stands
as it stood stays who it was, so that nothing is made of it a second time."""

from __future__ import annotations

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import RowState, SeenRow, Sheet
from whenvoca.errors import SourceFault
from whenvoca.values.kinds import Raw


def follow_keys(ledger: Ledger, sheet: Sheet) -> None:
    """Calls the known rows by their new keys. Raises SourceFault if not every row has one of its own: what was made of
    the others would count as lost."""
    known = ledger.standing(sheet.name)
    if not len(known):
        return
    left: dict[frozenset[tuple[str, Raw]], list[str]] = {}
    for subject in known:
        left.setdefault(_cells(known[subject]), []).append(subject)
    other: list[SeenRow] = []
    for row in sheet.scan(known):
        same = left.get(_cells(row.state), [])
        if row.key in same:
            same.remove(row.key)
        elif same:
            other.append(row)
    names: dict[str, str] = {}
    for row in other:
        if not (same := left[_cells(row.state)]):
            continue
        if said := row.fault or row.waits:
            raise SourceFault(
                f"its rows are to be told apart by another key, and not each has one: {said}",
                where=sheet.file,
                fix="give each row a key of its own first, or set the key at the place back",
            )
        names[same.pop(0)] = row.key
    taken = set(names.values())
    names |= {gone: f"{gone} (before)" for same in left.values() for gone in same if gone in taken}
    ledger.rename_subjects(sheet.name, names)


def _cells(state: RowState) -> frozenset[tuple[str, Raw]]:
    return frozenset(state.items())
