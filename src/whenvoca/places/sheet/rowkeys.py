"""What makes a row the same row: its key columns, or, where none are declared, a key that is worked out.

A worked-out key is made from the row's content without what workflows write. It stays with the row through the
ledger: an edited row is matched with what was observed before, so inserting, sorting or deleting others makes no
row look new.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence

from whenvoca.engine.place_protocols import RowState
from whenvoca.values.kinds import Raw, show_raw

_BOOKING = re.compile(r"(?:booking|uid|(?:event|booking|calendar|entry)[ _-]?u?id)\Z", re.IGNORECASE)


def key_of_columns(state: RowState, columns: Sequence[str]) -> str:
    """The key of a row by its declared columns, empty if one of them is empty."""
    parts = [_shown(state.get(column)) for column in columns]
    return " · ".join(parts) if all(parts) else ""


def _shown(cell: Raw) -> str:
    if cell.__class__ is str and (text := str(cell)).isascii() and " " not in text and text.isprintable():
        return text
    return " ".join(show_raw(cell).split())


def find_booking_column(columns: Sequence[str]) -> str:
    """The column that keeps the UID of what a row became, empty if there is none."""
    return next((name for name in columns if _BOOKING.match(name.strip())), "")


def work_out_keys(
    states: Sequence[RowState], known: Mapping[str, RowState], written: frozenset[str], booking: str
) -> list[str]:
    """A key for each row: that of the known row it is, else one from its content and its ordinal among equals."""
    keys: list[str] = [""] * len(states)
    left = dict(known)
    contents = [_content(state, written) for state in states]
    _match_bookings(states, left, booking, keys)
    _match_equal(contents, left, written, keys)
    _match_alike(states, left, written, keys)
    taken = set(keys) | set(known)
    ordinals: Counter[str] = Counter()
    for index, content in enumerate(contents):
        if keys[index]:
            continue
        stem = hashlib.sha256(content.encode()).hexdigest()[:16]
        while True:
            ordinals[stem] += 1
            key = f"{stem}.{ordinals[stem]}"
            if key not in taken:
                break
        keys[index] = key
        taken.add(key)
    return keys


def _content(state: RowState, written: frozenset[str]) -> str:
    return json.dumps(
        sorted((name, show_raw(value)) for name, value in state.items() if name not in written), ensure_ascii=False
    )


def _match_bookings(states: Sequence[RowState], left: dict[str, RowState], booking: str, keys: list[str]) -> None:
    if not booking:
        return
    by_booking: dict[Raw, list[str]] = defaultdict(list)
    for key, state in left.items():
        if state.get(booking) is not None:
            by_booking[state[booking]].append(key)
    for index, state in enumerate(states):
        same = by_booking.get(state.get(booking)) if state.get(booking) is not None else None
        if same and len(same) == 1:
            keys[index] = same.pop()
            del left[keys[index]]


def _match_equal(contents: Sequence[str], left: dict[str, RowState], written: frozenset[str], keys: list[str]) -> None:
    by_content: dict[str, list[str]] = defaultdict(list)
    for key, state in left.items():
        by_content[_content(state, written)].append(key)
    for index, content in enumerate(contents):
        if not keys[index] and (same := by_content.get(content)):
            keys[index] = same.pop(0)
            del left[keys[index]]


def _match_alike(
    states: Sequence[RowState], left: dict[str, RowState], written: frozenset[str], keys: list[str]
) -> None:
    """Pairs rows that were edited with what they were: the pair that shares most cells first, at least half of them."""
    if not left:
        return
    holders: dict[tuple[str, Raw], list[str]] = defaultdict(list)
    for key, state in left.items():
        for item in state.items():
            if item[0] not in written:
                holders[item].append(key)
    pairs = []
    for index, state in enumerate(states):
        if keys[index]:
            continue
        shared: Counter[str] = Counter()
        for item in state.items():
            if len(holders.get(item, ())) <= 200:
                shared.update(holders.get(item, ()))
        for key, count in shared.items():
            size = max(len(_unwritten(state, written)), len(_unwritten(left[key], written)))
            if 2 * count >= size:
                pairs.append((-count / size, index, key))
    used: set[str] = set()
    for _, index, key in sorted(pairs):
        if not keys[index] and key not in used:
            keys[index] = key
            used.add(key)


def _unwritten(state: RowState, written: frozenset[str]) -> list[str]:
    return [name for name in state if name not in written]
