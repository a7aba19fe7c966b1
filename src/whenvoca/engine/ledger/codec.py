"""What stands in the rows of the SQLite ledger: columns, and values as JSON there and back."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import date, datetime, time
from functools import lru_cache
from pathlib import Path
from types import NoneType
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.place_protocols import RowState
from whenvoca.values.durations import Duration
from whenvoca.values.kinds import from_plain, to_plain

_write = msgspec.json.Encoder().encode
_AS_THEY_ARE = frozenset([str, int, float, bool, NoneType])
_OFTEN = frozenset([date, time, Duration])

# What older versions recorded under other names.
_RENAMED_VERBS = {"send letter": "send email"}
_RENAMED_FIELDS = {"alarm": "reminder"}  # of events and tasks

EFFECT_COLUMNS = "place, verb, target, before, after, lineage, thing, version, notes, kept"
OCCURRENCE_COLUMNS = "workflow,place,subject,sequence,at,happened,chain,number,state,run,label,tries"


def encode(value: Any) -> str:
    """The value as JSON text, kinds that JSON has not told as ``to_plain`` does."""
    return _write(_bare(value)).decode()


def _bare(value: Any) -> Any:
    kind = value.__class__
    if kind in _AS_THEY_ARE:
        return value
    if kind in _OFTEN:
        return _written(value)
    if kind is datetime:
        zone = value.tzinfo
        return {"moment": value.isoformat(), "zone": zone.key} if zone.__class__ is ZoneInfo else to_plain(value)
    if isinstance(value, dict):
        return {name: each if each.__class__ in _AS_THEY_ARE else _bare(each) for name, each in value.items()}
    return [_bare(each) for each in value] if isinstance(value, list | tuple) else to_plain(value)


@lru_cache(maxsize=4096)
def _written(value: date | time | Duration) -> msgspec.Raw:
    """Days, times of day and durations come again and again."""
    return msgspec.Raw(_write(to_plain(value)))


def to_occurrence(row: Sequence[Any]) -> Occurrence:
    """The occurrence of a row."""
    return Occurrence(*(*row[:6], tuple(row[6].split()), *row[7:]))


def copy_still(path: Path, folder: Path) -> Path:
    """A copy of the ledger's files; taken again while somebody writes to them."""
    import shutil

    names = [path, path.with_name(path.name + "-wal")]
    for _ in range(20):
        before = [(each.stat().st_mtime_ns, each.stat().st_size) if each.exists() else None for each in names]
        for each in names:
            (folder / each.name).unlink(missing_ok=True)
            if each.exists():
                shutil.copyfile(each, folder / each.name)
        if before == [(each.stat().st_mtime_ns, each.stat().st_size) if each.exists() else None for each in names]:
            break
    return folder / path.name


def to_effect(row: Sequence[Any]) -> Effect:
    """The effect of a row. Raises ValueError for a value of no known kind."""
    place, verb, target, before, after, lineage, number, version, notes, kept = row
    verb = current_verb(verb)
    return Effect(
        place=place,
        verb=verb,
        target=target,
        before=None if before is None else decode_fields(before, verb),
        after=None if after is None else decode_fields(after, verb),
        lineage=lineage,
        number=number,
        version=version,
        notes=tuple(notes.split("\n")) if notes else (),
        kept=kept,
    )


def current_verb(verb: str) -> str:
    """The name of today for a verb that an older version recorded."""
    return _RENAMED_VERBS.get(verb, verb)


def decode_fields(text: str, verb: str) -> dict[str, Any]:
    """The fields that ``encode`` stored of an effect, by their names of today. Raises ValueError for a value of no
    known kind."""
    fields = {name: from_plain(value) for name, value in json.loads(text).items()}
    if verb.endswith(("event", "task")):
        return {_RENAMED_FIELDS.get(name, name): value for name, value in fields.items()}
    return fields


def decode_state(text: str | dict[str, Any]) -> RowState:
    """The state that ``encode`` stored."""
    state: dict[str, Any] = json.loads(text) if isinstance(text, str) else text
    if not isinstance(text, str) or "{" in text[1:]:
        return {name: from_plain(value) if isinstance(value, dict | list) else value for name, value in state.items()}
    return state
