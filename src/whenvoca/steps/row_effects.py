"""Effects on rows of a sheet: changed, added, deleted and put back; how each reads and is undone."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import Effect, Receipt, show_fields
from whenvoca.steps.effect_words import list_cells, name_row, written_cells
from whenvoca.values.texts import show_value

_MOST_CELLS = 4  # of a deleted row that are named


def _wrote(stage: Stage, effect: Effect) -> dict[str, Any]:
    """The cells that it wrote, as a reading of the file gives them."""
    sheet = stage.sheet(effect.place)
    return {name: sheet.to_raw(name, value) for name, value in (effect.after or {}).items()}


def _undo_change(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    sheet = stage.sheet(effect.place)
    state = sheet.current(effect.target)
    if state is None:
        left.append(f"{effect.place}: the row {effect.target} is no longer there")
        return
    before: dict[str, Any] = {}
    after: dict[str, Any] = {}
    for name, raw in _wrote(stage, effect).items():
        if state.get(name) != raw:
            left.append(
                f"{effect.place}: {sheet.label(effect.target)}, {name} was changed since, to "
                f'"{show_value(state.get(name))}"; it is left so'
            )
        elif (was := (effect.before or {}).get(name)) != raw:
            before[name], after[name] = raw, was
    if after:
        yield Effect(place=effect.place, verb="change row", target=effect.target, before=before, after=after)


def _undo_addition(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    sheet = stage.sheet(effect.place)
    key = effect.target or _find_added(stage, effect)
    state = sheet.current(key) if key else None
    if state is None or key is None:
        left.append(f"{effect.place}: the row {effect.target} is no longer there".replace("  ", " "))
        return
    wrote = _wrote(stage, effect)
    changed = [name for name in dict.fromkeys([*wrote, *state]) if state.get(name) != wrote.get(name)]
    if changed:
        left.append(f"{effect.place}: the row {sheet.label(key)} was changed since ({', '.join(changed)}) and is left")
        return
    number = str(sheet.number_of(key))
    yield Effect(place=effect.place, verb="delete row", target=key, before=dict(state), version=number)


def _find_added(stage: Stage, effect: Effect) -> str | None:
    """The key of a row that was added without one: the last that holds exactly what was written."""
    sheet = stage.sheet(effect.place)
    wrote = _wrote(stage, effect)
    return next((key for key in reversed(sheet.keys()) if sheet.current(key) == wrote), None)


def _undo_deletion(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    sheet = stage.sheet(effect.place)
    key = sheet.find_key(effect.before or {})
    if key and sheet.current(key) is not None:
        left.append(f"{effect.place}: a row {effect.target} stands there again")
        return
    yield Effect(
        place=effect.place, verb="put back row", target=effect.target, after=effect.before, version=effect.version
    )


def _find_added_before(stage: Stage, effect: Effect) -> tuple[Effect, Receipt] | None:
    """A row that was about to be added before a crash exists if there are more equal ones than there were."""
    is_there = stage.sheet(effect.place).count_equal(effect.after or {}) > int(effect.version or 0)
    return (effect, Receipt()) if is_there else None


CHANGE_EFFECT = EffectKind(
    verb="change row",
    line=lambda effect: f"{effect.place}: {written_cells(effect.after or {})}",
    target=name_row,
    detail=show_fields,
    counts_as=("change",),
    invert=_undo_change,
)
ADD_EFFECT = EffectKind(
    verb="add row",
    line=lambda effect: f"row added to {effect.place}",
    target=name_row,
    detail=lambda effect: list_cells(effect.after or {}),
    invert=_undo_addition,
    find_done=_find_added_before,
)
_PUT_BACK = EffectKind(
    verb="put back row",
    line=lambda effect: f"{name_row(effect)} put back into {effect.place}",
    target=name_row,
    detail=show_fields,
    invert=_undo_addition,
)
DELETE_EFFECT = EffectKind(
    verb="delete row",
    line=lambda effect: f"{name_row(effect)} taken out of {effect.place}",
    target=name_row,
    detail=lambda effect: list_cells(dict(list((effect.before or {}).items())[:_MOST_CELLS])),
    counts_as=("deletion", "change"),
    invert=_undo_deletion,
    inverses=(_PUT_BACK,),
)
