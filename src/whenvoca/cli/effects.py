"""Effects for people: in one line, as a list grouped by place, and as JSON."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta
from types import MappingProxyType
from typing import Any

from whenvoca.cli.output import Column, show_table
from whenvoca.engine.effects import Effect, deed_of, noun_of, show_field
from whenvoca.values.texts import show_value
from whenvoca.values.times import show_time

_SHOWN_FIRST = ("title", "start", "end", "due")
_WORKED_OUT = re.compile(r"[0-9a-f]{16}\.\d+")  # a key that nobody has given
_LONGEST_LABEL = 30
_LONG_TITLE = 80  # signs of a title after which it is cut in a line
_LONG = 40  # signs of a value after which it is cut in a list


def describe_effect(effect: Effect) -> str:
    """An effect in one line."""
    after = effect.after or {}
    noun = noun_of(effect.verb)
    match effect.verb:
        case "create event" | "create task":
            said = f"{_titled(after, noun)} {_when(after)} in {effect.place}"
        case "take event as made" | "take task as made":
            said = f"its {noun} stands already in {effect.place}"
        case "change event" | "change task":
            said = f"{noun} changed in {effect.place}: {', '.join(show_changes(effect))}"
        case "delete event" | "delete task":
            said = f"{_titled(effect.before or {}, noun)} {_when(effect.before or {})} taken out of {effect.place}"
        case "put back event" | "put back task":
            said = f"{noun} put back into {effect.place}"
        case "send message":
            said = f"to {name_target(effect)} in {effect.place}: {_brief(after.get('text'))}"
        case "send letter":
            said = f"letter to {name_target(effect)}: {_brief(after.get('subject'))}"
        case "set presence" | "restore presence" | "return presence":
            said = f"{effect.target} shows {_presence(after)} in {effect.place}"
        case "call":
            said = f"{after.get('method')} {after.get('address')}"
        case "fill sheet":
            said = f"{effect.place} filled with {len(after.get('rows', []))} rows"
        case "add row":
            said = f"row added to {effect.place}"
        case "delete row":
            said = f"{name_target(effect)} taken out of {effect.place}"
        case "put back row":
            said = f"{name_target(effect)} put back into {effect.place}"
        case _:
            said = f"{effect.place}: {_cells(after)}"
    return said + "".join(f" ({note})" for note in effect.notes)


def _titled(fields: dict[str, Any], noun: str) -> str:
    title = str(fields.get("title") or "")
    return (
        f'"{title[: _LONG_TITLE - 1] + "…" if len(title) > _LONG_TITLE else title}"'
        if title
        else f"{noun} without a title"
    )


def _presence(shown: dict[str, Any]) -> str:
    words = [str(shown.get("show") or "free"), *([f'"{shown["status"]}"'] if shown.get("status") else [])]
    until = shown.get("until")
    return ", ".join(words) + (f", until {show_value(until)}" if until else "")


def _when(after: dict[str, Any]) -> str:
    """ "17 Mar 2027 21:30–02:00"; the end's day is named where it is more than a night away. Of a task, when it is
    due."""
    start, end = after.get("start"), after.get("end")
    if isinstance(start, datetime) and isinstance(end, datetime):
        end = end.astimezone(start.tzinfo)
        is_near = end.date() == start.date() or (end - start < timedelta(days=1) and end.time() < start.time())
        return f"{show_value(start)}–{show_time(end.time()) if is_near else show_value(end)}"
    if "due" in after:
        due = after["due"]
        return f"due {show_value(due)}" if due else ""
    if isinstance(start, date) and isinstance(end, date):
        last = end - timedelta(days=1)
        return (
            f"whole day {show_value(start)}"
            if last == start
            else f"whole days {show_value(start)} to {show_value(last)}"
        )
    return ""


def _cells(after: dict[str, Any]) -> str:
    """Written cells: those whose value is short, and how many more."""
    short = [f"{name} “{text}”" for name, value in after.items() if 0 < len(text := show_value(value)) <= 20]
    rest = len(after) - len(short)
    if not short:
        return ", ".join(after)
    return ", ".join(short) + (f" and {rest} more" if rest else "")


def show_changes(effect: Effect) -> list[str]:
    """Each field or cell, old → new."""
    before, after = effect.before or {}, effect.after or {}
    return [f"{name}: {_brief(before.get(name), name)} → {_brief(value, name)}" for name, value in after.items()]


def _brief(value: Any, name: str = "") -> str:
    text = show_field(name, value).replace("\n", " ")
    return (text[: _LONG - 1] + "…" if len(text) > _LONG else text) or "empty"


def show_effects(effects: Sequence[Effect], labels: Mapping[str, str] = MappingProxyType({})) -> None:
    """A list, grouped by place, each old → new; ``labels`` says what people call the things of these keys."""
    rows = []
    for place in dict.fromkeys(effect.place for effect in effects):
        mine = [effect for effect in effects if effect.place == place and deed_of(effect.verb) != "take"]
        named = [place, *[""] * len(mine)]  # once, above those below it
        for name, each in zip(named, mine, strict=False):
            which = labels.get(each.target) if noun_of(each.verb) == "row" else None
            rows.append((name, each.verb, which or name_target(each), tell_change(each)))
    if rows:
        show_table([Column("place"), Column("effect"), Column("which"), Column("old → new", wraps=True)], rows)


def brief_label(label: str) -> str:
    """What a run is about, short enough for a column of a table."""
    return label if len(label) <= _LONGEST_LABEL else label[: _LONGEST_LABEL - 1] + "…"


def name_target(effect: Effect) -> str:
    """What the effect is about, for people: an event's title, a row's key."""
    after = effect.after or {}
    title = after.get("title") or (effect.before or {}).get("title")
    if effect.verb in ("send message", "send letter"):
        return _brief(f"room {after['room']}" if after.get("room") else after.get("person") or after.get("to"))
    if effect.verb == "call":
        return _brief(after.get("address"))
    if "presence" in effect.verb or effect.verb == "fill sheet":
        return _brief(effect.target or "its rows")
    if noun_of(effect.verb) in ("event", "task"):
        if not title and effect.stored is not None:
            title = effect.stored.event.title
        if not title and effect.event is not None:
            title = effect.event.title
        return _brief(title or effect.target)
    return _brief(effect.target) if effect.target and not _WORKED_OUT.fullmatch(effect.target) else "a row"


def tell_change(effect: Effect) -> str:
    """What an effect does to its thing, old → new; changes one a line."""
    match effect.verb:
        case "create event" | "put back event" | "create task" | "put back task":
            fields = {name: value for name, value in (effect.after or {}).items() if name not in _SHOWN_FIRST}
            filled = [f"{name} {_brief(value, name)}" for name, value in fields.items() if value not in ("yes", [])]
            said = "; ".join([_when(effect.after or {}), *filled])
        case "delete event" | "delete task":
            said = _when(effect.before or {})
        case "send message":
            said = str((effect.after or {}).get("text") or "")
        case "send letter":
            after = effect.after or {}
            with_it = f" (with {', '.join(after['attach'])})" if after.get("attach") else ""
            said = f"{after.get('subject')}: {_brief(after.get('text'))}{with_it}"
        case "set presence" | "restore presence" | "return presence":
            said = f"{_presence(effect.before or {})} → {_presence(effect.after or {})}"
        case "call":
            after = effect.after or {}
            said = f"{after.get('method')} {_brief(after.get('body'))}".strip()
        case "fill sheet":
            said = (
                f"{len((effect.before or {}).get('rows', []))} rows → {len((effect.after or {}).get('rows', []))} rows"
            )
        case "add row":
            said = "; ".join(f"{name} {_brief(value, name)}" for name, value in (effect.after or {}).items())
        case "delete row":
            said = "; ".join(f"{name} {_brief(value, name)}" for name, value in list((effect.before or {}).items())[:4])
        case _:
            said = "\n".join(show_changes(effect))
    return "; ".join(part for part in [said.strip("; "), *effect.notes] if part)


def count_effects(effects: Sequence[Effect]) -> str:
    """How many of each kind, for a last line."""
    counts = Counter(effect.verb for effect in effects if deed_of(effect.verb) != "take")
    return ", ".join(f"{count} × {verb}" for verb, count in sorted(counts.items()))


def effect_to_json(effect: Effect) -> dict[str, Any]:
    """An effect as JSON."""
    return {
        "place": effect.place,
        "verb": effect.verb,
        "target": effect.target,
        "before": effect.before,
        "after": effect.after,
        "notes": list(effect.notes),
    }
