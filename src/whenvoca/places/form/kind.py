"""The kind of place "form": what its settings say."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import date, datetime

from whenvoca.engine.seeing.entry_source import EntrySource
from whenvoca.language.faults import nearest
from whenvoca.places.form.fields import FormField, read_fields
from whenvoca.places.form.place import ChangeUntil, Form, FormWords
from whenvoca.places.paths import read_path
from whenvoca.places.place_kind import Access, PlaceContext, PlaceKind
from whenvoca.places.settings import PlaceSettings
from whenvoca.values.dates import parse_order
from whenvoca.values.durations import Duration, parse_duration

_UNTIL = re.compile(r"(?P<span>.+?) before (?P<field>.+)", re.IGNORECASE)


def _open(settings: PlaceSettings, context: PlaceContext) -> Form:
    fields = read_fields(settings, settings.listed("fields"), context.workspace)
    opens, closes = _span(settings)
    within = _duration(settings, "answer-within")
    return Form(
        settings.name,
        context.zone_of(settings),
        read_path(settings),
        fields,
        FormWords(
            settings.text("title") or settings.name.replace("-", " ").capitalize(),
            settings.text("intro"),
            settings.text("thanks") or FormWords("").thanks,
            settings.text("closed") or FormWords("").closed,
        ),
        opens=opens,
        closes=closes,
        limit=settings.number("limit"),
        notice=_duration(settings, "notice"),
        change_until=_change_until(settings, fields),
        answer_within=8.0 if within is None else float(within.to_seconds()),
        dates=parse_order(context.workspace.dates) or "",
        confirm=_confirm(settings, fields, context),
    )


def _confirm(settings: PlaceSettings, fields: Sequence[FormField], context: PlaceContext) -> tuple[str, str] | None:
    """The field of the address to which a confirmation goes, and the outbox."""
    text = settings.text("confirm").strip()
    if not text:
        return None
    addresses = {each.name.lower(): each.name for each in fields if each.kind == "address"}
    outboxes = {name.lower(): name for name, one in context.workspace.places.items() if one.get("kind") == "outbox"}
    name, _, outbox = (text, "", "") if text.lower() in addresses else text.rpartition(" in ")
    if name.strip().lower() not in addresses:
        said = f'confirm = "{text}" names no field of the kind address'
        raise settings.refuse("confirm", said, nearest(text, addresses.values()) or 'such as confirm = "Address"')
    if not outbox and len(outboxes) == 1:
        (outbox,) = outboxes
    if outbox.strip().lower() not in outboxes:
        said = "there is no outbox that a confirmation could go by"
        if outboxes:
            said = f'there is no outbox "{outbox}"' if outbox else f"there are several outboxes: {', '.join(outboxes)}"
        fix = (
            f'confirm = "{name.strip() or text} in {next(iter(outboxes))}"' if outboxes else "add one to whenvoca.toml"
        )
        raise settings.refuse("confirm", said, fix)
    return addresses[name.strip().lower()], outboxes[outbox.strip().lower()]


def _duration(settings: PlaceSettings, key: str) -> Duration | None:
    text = settings.text(key)
    span = parse_duration(text) if text else None
    if text and span is None:
        raise settings.refuse(key, f'{key} = "{text}" is not a duration', f'such as {key} = "2 days"')
    return span


def _span(settings: PlaceSettings) -> tuple[date | None, date | None]:
    table = settings.table("open")
    found: list[date | None] = []
    for key in table:
        if key not in ("from", "until"):
            raise settings.refuse("open", f'open has no "{key}"', "open = { from = 2027-03-01, until = 2027-06-30 }")
    for key in ("from", "until"):
        value = table.get(key)
        if value is not None and (not isinstance(value, date) or isinstance(value, datetime)):
            raise settings.refuse("open", f"{key} is not a day", "open = { from = 2027-03-01, until = 2027-06-30 }")
        found.append(value)
    first, last = found
    if first is not None and last is not None and last < first:
        raise settings.refuse("open", "it closes before it opens")
    return first, last


def _change_until(settings: PlaceSettings, fields: Sequence[FormField]) -> ChangeUntil | None:
    if not settings.has("change-until"):
        return None
    if not settings.is_text("change-until"):
        day = settings.day("change-until")
        return ChangeUntil(day=day)
    text = settings.text("change-until")
    match = _UNTIL.fullmatch(text.strip())
    span = parse_duration(match["span"]) if match else None
    timed = [each.name for each in fields if each.kind in ("date", "moment")]
    name = next((each for each in timed if match and each.lower() == match["field"].strip().lower()), "")
    if span is None or not name:
        fix = f'such as "1 day before {timed[0]}"' if timed else "a day, such as change-until = 2027-06-30"
        raise settings.refuse("change-until", f'change-until = "{text}" is not understood', fix)
    return ChangeUntil(before=span, field=name)


FORM = PlaceKind(
    name="form",
    settings="fields title intro thanks closed open limit notice change-until answer-within confirm",
    accesses=(Access(key="path", open=_open),),
    missing="a form has a path",
    example='such as path = "/lending"',
    source=EntrySource,
    stays_open=True,
)
