"""`whenvoca read entry FILE` and `read call FILE`: how what comes in by a form or a hook would be read."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import Column, say_next, show_json, show_line, show_table, styled
from whenvoca.cli.show.web_place import to_text
from whenvoca.errors import ExitCode, RequestFault, SourceFault
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.form.place import Form
from whenvoca.places.hook.place import Hook
from whenvoca.places.sample_file import body_of, load_sample


@click.command("entry")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE")
@common_options
def entry(common: Common, file: Path) -> int:
    """Show how an entry of a form would be read: each field as it was typed, its value, and what is wrong with it.

    FILE is JSON with "place" and "fields"; `whenvoca places NAME --save FILE` makes one of the last entry. Exit status
    1 if the entry would be refused.

    Example: whenvoca read entry entry.json
    """
    opened, data, place = _open(common, file)
    if not isinstance(place, Form):
        raise RequestFault(f"{place.name} is a hook", fix=f"whenvoca read call {file}")
    posted, values, faults = place.read_sample(data, opened.clock.now())
    told = [
        {
            "name": each.name,
            "kind": each.kind,
            "given": posted.get(each.word, []),
            "value": to_text(values[each.name]) if each.name in values else None,
            "fault": faults.get(each.word, ""),
        }
        for each in place.fields
    ]
    if common.as_json:
        show_json({"place": place.name, "fields": told})
    else:
        columns = [Column("field"), Column("kind"), Column("given", wraps=True), Column("read as", wraps=True)]
        rows = [
            (
                str(each["name"]),
                str(each["kind"]),
                ", ".join(posted.get(column_word, [])),
                styled(str(each["fault"]), "red") if each["fault"] else str(each["value"] or ""),
            )
            for each, column_word in zip(told, [one.word for one in place.fields], strict=True)
        ]
        show_table(columns, rows)
        if not faults:
            say_next(f"whenvoca rehearse --sample {file}", quiet=common.quiet)
    return ExitCode.FAILED if faults else ExitCode.DONE


@click.command("call")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE")
@common_options
def call(common: Common, file: Path) -> int:
    """Show how a web call would be read: what it is about, whether that is gone, and the value of each field.

    FILE is JSON with "place", "headers" and "body"; `whenvoca places NAME --save FILE` makes one of the last call. Exit
    status 1 if the call would be refused.

    Example: whenvoca read call call.json
    """
    opened, data, place = _open(common, file)
    if not isinstance(place, Hook):
        raise RequestFault(f"{place.name} is a form", fix=f"whenvoca read entry {file}")
    told: dict[str, Any] = {"place": place.name, "once": "", "elements": [], "fault": ""}
    try:
        found = place.read(*body_of(data), opened.clock.now())
    except SourceFault as fault:
        told["fault"] = fault.message
    else:
        told["once"] = found.once
        told["elements"] = [
            {
                "about": each.about,
                "is_gone": each.is_gone,
                "newer": None if each.newer is None else str(each.newer),
                "values": {name: None if value is None else to_text(value) for name, value in each.values.items()},
            }
            for each in found.elements
        ]
    if common.as_json:
        show_json(told)
    else:
        _show_call(told, place)
        if not told["fault"]:
            say_next(f"whenvoca rehearse --sample {file}", quiet=common.quiet)
    return ExitCode.FAILED if told["fault"] else ExitCode.DONE


def _show_call(told: dict[str, Any], place: Hook) -> None:
    if told["fault"]:
        show_line((f"it would be refused: {told['fault']}", "red"))
        return
    if told["once"]:
        show_line((f"its id: {told['once']}", ""))
    for each in told["elements"]:
        if each["about"]:
            newer = f", version {each['newer']}" if each["newer"] is not None else ""
            show_line((f"about {each['about']}{newer}{': it is gone' if each['is_gone'] else ''}", ""))
        rows = []
        for name, path in place.reading.fields.items():
            is_given = name in each["values"]
            value = each["values"].get(name)
            rows.append((name, path, (value if value is not None else "(cleared)") if is_given else "(not in it)"))
        show_table([Column("field"), Column("path", wraps=True), Column("read as", wraps=True)], rows)


def _open(common: Common, file: Path) -> tuple[OpenWorkspace, dict[str, Any], Form | Hook]:
    """The workspace, what the sample holds, and its place. Raises RequestFault."""
    opened, data = common.open(), load_sample(file)
    names = {each.lower(): each for each in opened.places.names()}
    name = str(data["place"])
    place = opened.places.open_named(name) if name.lower() in names else None
    if not isinstance(place, Form | Hook):
        said = f"{name} is neither a form nor a hook" if place is not None else f'there is no place "{name}"'
        raise RequestFault(said, where=str(file), fix=nearest(name, names.values()))
    return opened, data, place
