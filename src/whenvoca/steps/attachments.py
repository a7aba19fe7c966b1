"""The steps about what is attached to an email: read its rows, read its events, keep it as a file."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from whenvoca.calendars.reader import read_events
from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import THE_FILES, Effect
from whenvoca.engine.things.email import AttachmentThing
from whenvoca.engine.things.event import EventThing, event_type
from whenvoca.errors import RowFault, WhenvocaError
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.types import ANY, list_of
from whenvoca.places.sheet.backings import make_backing
from whenvoca.places.sheet.table import Row, SheetSettings, read_table
from whenvoca.values.texts import show_value

_MOST_ROWS = 10_000


def _attachment(call: StepCall) -> AttachmentThing:
    value = call.sentence_value
    if isinstance(value, list | tuple):
        if len(value) != 1:
            raise RowFault(f"{len(value)} attachments stand here", fix="one of them: first(email.attachments)")
        (value,) = value
    if not isinstance(value, AttachmentThing):
        raise RowFault("nothing is attached" if value is None else f"{show_value(value)} is no attachment")
    return value


def _read_sheet(call: StepCall) -> Acting:
    yield from ()
    attached = _attachment(call)
    try:
        grid = make_backing(Path(attached.name)).load(call.stage.attached(attached), call.text("tab") or None)
        settings = SheetSettings(file=attached.name, tab=call.text("tab") or None, dates=None)
        table = read_table(attached.name, grid, settings, attached.name)
    except WhenvocaError as error:
        raise RowFault(error.message, where=attached.where_is(""), fix=error.fix) from error
    if len(table.rows) > _MOST_ROWS:
        raise RowFault(f"{attached.name} has more than {_MOST_ROWS:,} rows", where=attached.where_is(""))
    rows = []
    for number, cells in table.rows:
        state = table.state_of(cells)
        if state:
            rows.append(Row(table, f"{attached.key} {number}", state, number, call.scope.zone, ""))
    return rows


def _read_calendar(call: StepCall) -> Acting:
    yield from ()
    attached = _attachment(call)
    try:
        events = read_events(call.stage.attached(attached), call.scope.zone, file=attached.name)
    except WhenvocaError as error:
        raise RowFault(error.message, where=attached.where_is(""), fix=error.fix) from error
    return [EventThing(event, "", "", call.scope.zone) for event in events if not event.cancelled]


def _save(call: StepCall) -> Acting:
    attached = _attachment(call)
    data = call.stage.attached(attached)
    folder = call.quoted("FOLDER")
    after = {"folder": folder, "name": attached.name, "size": len(data), "hash": hashlib.sha256(data).hexdigest()}
    receipt = yield Effect(verb="save file", place=THE_FILES, target=attached.key, after=after, stored=data)
    return receipt.address


def _undo(stage: Any, effect: Effect, left: list[str]) -> Inverse:
    yield Effect(verb="take file", place=THE_FILES, target=effect.target, before=effect.after)


def _line(effect: Effect) -> str:
    told = effect.after or effect.before or {}
    return f"{told.get('name')} kept in {told.get('folder')}"


SAVE_EFFECT = EffectKind(
    verb="save file",
    line=_line,
    target=lambda effect: str((effect.after or {}).get("name")),
    detail=lambda effect: f"{(effect.after or {}).get('size'):,} bytes",
    invert=_undo,
    inverses=(
        EffectKind(
            verb="take file",
            line=lambda effect: (
                f"{(effect.before or {}).get('name')} removed from {(effect.before or {}).get('folder')}"
            ),
            target=lambda effect: str((effect.before or {}).get("name")),
            told_as=lambda effect: f"{(effect.before or {}).get('name')}, which was removed,",
        ),
    ),
)
READ_SHEET = StepDefinition(
    sentence=Sentence("read sheet from ATTACHMENT"),
    meaning="Gives the rows of a sheet that is attached to an email (.xlsx, .ods, .csv), for each NAME in them; their "
    "columns are known when the email is there.",
    fields=(FieldDefinition("tab", "text", "Which tab. Without it the only one.", example='"Slots"'),),
    reads_only=True,
    makes=lambda place: list_of(ANY),
    example="read sheet from first(email.attachments) as rows\nfor each one in rows",
    act=_read_sheet,
)
READ_CALENDAR = StepDefinition(
    sentence=Sentence("read calendar from ATTACHMENT"),
    meaning="Gives the events of a calendar that is attached to an email (.ics): a list, perhaps empty.",
    reads_only=True,
    makes=lambda place: list_of(event_type(place)),
    example="read calendar from first(email.attachments) as offered\nfor each one in offered",
    act=_read_calendar,
)
SAVE = StepDefinition(
    sentence=Sentence("save ATTACHMENT in FOLDER"),
    meaning="Keeps what is attached to an email as a file in a folder of the workspace, which is made where it is not "
    "there. A file of that name that is there already is left as it is, and the new one gets a number. "
    "`as NAME` gives its name.",
    makes=lambda place: ANY,
    effects=(SAVE_EFFECT,),
    example='for each one in email.attachments\n  save one in "received"',
    act=_save,
)
