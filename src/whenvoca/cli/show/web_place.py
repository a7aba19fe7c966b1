"""A form or a hook for whoever sets it up: its address, its fields, the last thing that came in, what was refused."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from whenvoca.cli.show.output import Column, say, show_table
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.things.entry import is_field
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.form.place import Form
from whenvoca.places.hook.place import Hook
from whenvoca.values.kinds import show_raw
from whenvoca.web.addresses import address_of
from whenvoca.web.refused import refused_at
from whenvoca.web.rehearsals import rehearsed_until


def tell_of_place(opened: OpenWorkspace, place: Form | Hook, ledger: Ledger) -> dict[str, Any]:
    """What there is to tell, as JSON has it."""
    until = rehearsed_until(ledger, place.name, opened.clock.now())
    newest = ledger.newest_entry(place.name)
    last = None
    if newest is not None:
        values = {name: value for name, value in (newest.state or {}).items() if is_field(name)}
        last = {
            "number": newest.number,
            "at": newest.at,
            "is_gone": newest.state is None,
            "is_refused": newest.is_refused,
            "values": {name: to_text(value) for name, value in values.items()},
        }
    return {
        "name": place.name,
        "kind": place.kind,
        "address": address_of(opened.workspace, place),
        "fields": _fields(place),
        "last": last,
        "refused": refused_at(ledger, place.name),
        "rehearsed_until": until.isoformat() if until is not None else None,
    }


def _fields(place: Form | Hook) -> list[dict[str, Any]]:
    if isinstance(place, Form):
        return [
            {"name": each.name, "kind": each.kind, "required": each.required, "choices": list(each.choices)}
            for each in place.fields
        ]
    kinds = {column.name: column.kind.value for column in place.info().columns or ()}
    return [{"name": name, "kind": kinds[name], "path": path} for name, path in place.reading.fields.items()]


def to_text(value: Any) -> str:
    """A value as texts have it: days and times in their ISO form."""
    return ", ".join(map(to_text, value)) if isinstance(value, list | tuple) else show_raw(value)


def show_place(told: dict[str, Any], opened: OpenWorkspace) -> None:
    """The same for people."""
    say(f"{told['name']}: {told['address'] or 'its address is made when watch begins'}")
    is_form = told["kind"] == "form"
    columns = [Column("field"), Column("kind"), Column("" if is_form else "path", wraps=True)]
    rows = []
    for each in told["fields"]:
        more = ("" if each.get("required") else "optional") if is_form else each["path"]
        choices = f"{', '.join(each['choices'])}" if each.get("choices") else ""
        rows.append((each["name"], each["kind"], "; ".join(part for part in (more, choices) if part)))
    show_table(columns, rows)
    noun, zone = ("entry" if is_form else "call"), opened.workspace.zone
    if told["last"] is None:
        say(f"no {noun} has come in yet")
    else:
        last = told["last"]
        at = datetime.fromisoformat(last["at"]).astimezone(zone)
        state = "withdrawn" if last["is_gone"] else "refused by a workflow" if last["is_refused"] else ""
        say(f"the last {noun}: number {last['number']}, {at:%Y-%m-%d %H:%M}{', ' + state if state else ''}")
        for name, text in last["values"].items():
            say(f"  {name}: {text}")
    if told["rehearsed_until"]:
        until = datetime.fromisoformat(told["rehearsed_until"]).astimezone(zone)
        say(f"what comes in until {until:%H:%M} is only rehearsed")
    for each in told["refused"]:
        at = datetime.fromisoformat(each["at"]).astimezone(zone)
        say(f"refused {at:%Y-%m-%d %H:%M} ({each['status']}): {each['reason']}")
