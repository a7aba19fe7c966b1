"""Effects for people: in one line, as a list grouped by place, and as JSON. What they say, their kinds know."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import Any

from whenvoca.cli.show.output import Column, show_table
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.open_workspace import EFFECT_KINDS
from whenvoca.values.durations import Duration

_LONGEST_LABEL = 30
_MOST_ALIKE = 4  # effects of one kind in one place that are told one by one


def describe_effect(effect: Effect, *, notes: bool = True) -> str:
    """An effect in one line."""
    return EFFECT_KINDS.of(effect).line(effect) + "".join(f" ({note})" for note in effect.notes if notes)


def tell_effects(effects: Sequence[Effect], *, notes: bool = True, every: bool = False) -> str:
    """What effects did, in one text: the same said once, and of many alike the first few."""
    lines: dict[tuple[str, str], dict[str, None]] = {}
    for effect in effects:
        lines.setdefault((effect.place, effect.verb), {})[describe_effect(effect, notes=notes)] = None
    told: list[str] = []
    for (place, verb), group in lines.items():
        shown = list(group) if every or len(group) <= _MOST_ALIKE + 1 else list(group)[:_MOST_ALIKE]
        told += shown
        if len(shown) < len(group):
            told.append(f"and {len(group) - len(shown)} more in {place} ({verb})")
    return "; ".join(told)


def show_effects(effects: Sequence[Effect], labels: Mapping[str, str] = MappingProxyType({})) -> None:
    """A list, grouped by place, each old → new; ``labels`` says what people call the things of these keys."""
    rows = []
    for place in dict.fromkeys(effect.place for effect in effects):
        mine = [effect for effect in effects if effect.place == place and effect.action != "take"]
        named = [place, *[""] * len(mine)]  # once, above those below it
        for name, each in zip(named, mine, strict=False):
            which = labels.get(each.target) if each.noun == "row" else None
            rows.append((name, each.verb, which or EFFECT_KINDS.of(each).target(each), tell_change(each)))
    if rows:
        show_table([Column("place"), Column("effect"), Column("which"), Column("old → new", wraps=True)], rows)


def describe_run(record: RunRecord) -> str:
    """What a run made; the cells that were written only where nothing was made."""
    if record.kind == "undo":
        return f"took back run {record.undoes}"
    made = [effect for effect in record.effects if effect.verb != "change row"] or list(record.effects)
    return tell_effects(made, notes=False) or "nothing to do"


def brief_label(label: str) -> str:
    """What a run is about, short enough for a column of a table."""
    return label if len(label) <= _LONGEST_LABEL else label[: _LONGEST_LABEL - 1] + "…"


def tell_change(effect: Effect) -> str:
    """What an effect does to its thing, old → new; changes one a line."""
    said = EFFECT_KINDS.of(effect).detail(effect)
    return "; ".join(part for part in [said.strip("; "), *effect.notes] if part)


def count_effects(effects: Sequence[Effect]) -> str:
    """How many of each kind, for a last line."""
    counts = Counter(effect.verb for effect in effects if effect.action != "take")
    return ", ".join(f"{count} × {verb}" for verb, count in sorted(counts.items()))


def minutes_before(span: Any) -> Any:
    """A reminder's span in minutes before the start, negative after it; what is no span as it is."""
    if not isinstance(span, Duration):
        return span
    minutes = -span.to_seconds() / 60
    return int(minutes) if minutes == int(minutes) else minutes


def _json_fields(effect: Effect, fields: Mapping[str, Any] | None) -> Mapping[str, Any] | None:
    if fields is None or effect.noun not in ("event", "task"):
        return fields
    found = dict(fields)
    if "reminder" in found:
        spans = found.pop("reminder")
        found["reminders"] = [minutes_before(each) for each in (spans if isinstance(spans, list | tuple) else [spans])]
        found["alarm"] = spans  # its old name, until 0.2
    if effect.noun == "event" and "start" in found:
        found["whole_day"] = not isinstance(found["start"], datetime)
    return found


def effect_to_json(effect: Effect) -> dict[str, Any]:
    """An effect as JSON."""
    return {
        "place": effect.place,
        "verb": effect.verb,
        "target": effect.target,
        "before": _json_fields(effect, effect.before),
        "after": _json_fields(effect, effect.after),
        "notes": list(effect.notes),
        "said": describe_effect(effect, notes=False),
    }
