"""The step `mirror row in SHEET`: one row per subject, made, changed and taken away with it."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.place_protocols import Sheet
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.names import row_type
from whenvoca.steps.mirror_event import IN_COPY, IN_SOURCE, LEFT_ALONE
from whenvoca.steps.row_effects import ADD_EFFECT, CHANGE_EFFECT, DELETE_EFFECT
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value


def _act(call: StepCall) -> Acting:
    sheet = call.stage.sheet(call.place)
    lineage = call.lineage.to_mark()
    made = call.stage.made(sheet.name, lineage)
    if call.about.is_lost:
        if made is not None:
            yield from _take_away(call, sheet, made.uid, dict(made.base or {}), lineage)
        return None
    cells = {sheet.column_name(written): value for written, value in call.columns()}
    key = sheet.find_key(cells)
    if not key:
        raise RowFault(
            "the key column of its row would be empty", where=sheet.file, fix="fill the key column below the step"
        )
    wanted = {name: raw for name, value in cells.items() if (raw := sheet.to_raw(name, value)) is not None}
    common: dict[str, Any] = {
        "place": sheet.name,
        "lineage": lineage,
        "number": made.number if made else 1,
        "base": wanted,
    }
    standing = (
        key
        if sheet.current(key) is not None
        else made.uid
        if made is not None and sheet.current(made.uid) is not None
        else ""
    )
    if not standing:
        if made is not None and call.text("disputed") != IN_SOURCE:
            raise RowFault(
                "its row was taken out by another hand; it is left so",
                where=sheet.file,
                fix="say: disputed as in source, to make it again",
            )
        filled = {name: value for name, value in cells.items() if not is_empty(value)}
        yield Effect(verb="add row", target=key, after=filled, version=str(sheet.count_equal(filled)), **common)
        return None
    yield from _follow(call, sheet, standing, cells, dict(made.base or {}) if made is not None else {}, common)
    return None


def _follow(
    call: StepCall, sheet: Sheet, key: str, cells: dict[str, Any], base: dict[str, Any], common: dict[str, Any]
) -> Acting:
    rule = call.text("disputed") or LEFT_ALONE
    state = sheet.current(key) or {}
    before: dict[str, Any] = {}
    after: dict[str, Any] = {}
    disputes: list[str] = []
    for name, value in cells.items():
        raw, now = sheet.to_raw(name, value), state.get(name)
        if raw == now:
            continue
        is_theirs = name in base and now != base[name] and base.get(name) is not None
        if is_theirs and base.get(name) == raw:
            common["base"][name] = base[name]
            continue  # only the copy was changed: it belongs to whoever did that, until the source changes too
        if is_theirs and rule != IN_SOURCE:
            if rule == LEFT_ALONE:
                disputes.append(f"{name} {show_value(now) or 'empty'} there, {show_value(raw) or 'empty'} here")
            continue
        before[name], after[name] = now, value
    if after:
        yield Effect(verb="change row", target=key, before=before, after=after, **common)
    if disputes:
        raise RowFault(
            f"changed in {sheet.name} by another hand, and not as its source says: {'; '.join(disputes)}; left as it "
            f"is",
            where=sheet.file,
            fix="make both alike, or say: disputed as in source, or as in copy",
        )


def _take_away(call: StepCall, sheet: Sheet, key: str, base: dict[str, Any], lineage: str) -> Acting:
    state = sheet.current(key)
    if state is None:
        return
    changed = [name for name, raw in base.items() if state.get(name) != raw]
    if changed and call.text("disputed") != IN_SOURCE:
        raise RowFault(
            f"its source is gone, but its row was changed by another hand ({', '.join(changed)}); it is left there",
            where=sheet.file,
            fix="take it away there, or say: disputed as in source",
        )
    yield Effect(
        verb="delete row",
        place=sheet.name,
        target=key,
        before=dict(state),
        version=str(sheet.number_of(key)),
        lineage=lineage,
        base=base,
    )


MIRROR_ROW = StepDefinition(
    sentence=Sentence("mirror row in SHEET"),
    meaning="Keeps one row for each subject: made, changed and taken away with it. The sheet needs a key (`key` at "
    "the place), and the step fills it. What another hand changed in the row is not written over unseen: "
    "`disputed` says what then holds, cell by cell. Below `for each` it keeps one for each element, and takes "
    "away that of an element which is not in the list any more.",
    fields=(
        FieldDefinition(
            "disputed",
            "choice",
            "What holds where the row was changed too: what the source says, what the row says, or neither is "
            "written over and the run says so.",
            choices=(IN_SOURCE, IN_COPY, LEFT_ALONE),
            default=LEFT_ALONE,
        ),
    ),
    columns_as_fields=True,
    thing="row",
    makes=row_type,
    is_making=True,
    is_mirror=True,
    effects=(ADD_EFFECT, CHANGE_EFFECT, DELETE_EFFECT),
    is_told=True,
    adds="row",
    example='when outreach gains, changes or loses an event\n  where  category is "school"\n\nmirror row in '
    "visit-list\n"
    "  Event  event.uid\n  Title  event.title\n  Date   event.start as date",
    act=_act,
)
