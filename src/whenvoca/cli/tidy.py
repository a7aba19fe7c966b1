"""`whenvoca tidy`: the standard layout of workflow files."""

from __future__ import annotations

import difflib
import os
from pathlib import Path

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import console, say, say_next, show_json, styled
from whenvoca.engine.things.event import event_type
from whenvoca.engine.things.task import task_type
from whenvoca.engine.workspace.checking import choose_files
from whenvoca.engine.workspace.settings import find_workspace, load_workspace
from whenvoca.errors import ExitCode, PlaceTrouble, SettingsFault, SourceFault
from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.field_checks import FieldContext
from whenvoca.language.tidy import NOTHING_AROUND, tidy_text
from whenvoca.open_workspace import VOCABULARY


@click.command("tidy")
@click.argument("workflows", nargs=-1, metavar="[WORKFLOW|FILE]...")
@click.option("--diff", "as_diff", is_flag=True, help="Show what would change; write nothing.")
@click.option("--check", "only_check", is_flag=True, help="Exit status 1 if something would change; write nothing.")
@common_options
def command(common: Common, workflows: tuple[str, ...], as_diff: bool, only_check: bool) -> int:
    """Put workflow files into the standard layout: indentation, columns, quotes, new names of words. Comments stay.

    Example: whenvoca tidy --diff slot-requests
    """
    files, around = _files(common, workflows)
    changed, refused = [], []
    for path in files:
        text = _read(path)
        tidied = tidy_text(text, VOCABULARY, around)
        if tidied is None:
            refused.append(path)
        elif tidied != text:
            changed.append(path)
            if as_diff and not common.as_json:
                _show_diff(path, text, tidied)
            if not (as_diff or only_check):
                _write(path, tidied)
    if common.as_json:
        show_json(
            {"files": [{"file": str(path), "changed": path in changed, "refused": path in refused} for path in files]}
        )
    else:
        would = "would be tidied" if as_diff or only_check else "tidied"
        for path in changed:
            say(f"{would}: {path.name}")
        for path in refused:
            say(f"left as it is, its lines cannot be told apart: {path.name}")
        if not changed and not refused:
            say("all tidy")
        if refused:
            say_next("whenvoca check names the faults", quiet=common.quiet)
    if refused:
        return ExitCode.FAILED
    return ExitCode.FAILED if only_check and changed else ExitCode.DONE


def _files(common: Common, workflows: tuple[str, ...]) -> tuple[list[Path], FieldContext]:
    """The files, and the kinds of the places around them; files alone need no workspace."""
    are_files = bool(workflows) and all(Path(name).is_file() for name in workflows)
    try:
        workspace = load_workspace(common.folder or find_workspace())
    except SettingsFault:
        if not are_files:
            raise
        return [Path(name) for name in workflows], NOTHING_AROUND
    places = {
        name.lower(): PlaceInfo(name=name, kind=str(table.get("kind", ""))) for name, table in workspace.places.items()
    }
    around = FieldContext(places, workspace.people_names, event_type, task_type)
    return [Path(name) for name in workflows] if are_files else choose_files(workspace, workflows), around


def _read(path: Path) -> str:
    try:
        return path.read_bytes().decode("utf-8")
    except UnicodeDecodeError as error:
        raise SourceFault("is no UTF-8 text", where=str(path), fix="save it as UTF-8") from error
    except OSError as error:
        raise SourceFault(f"cannot be read: {error.strerror}", where=str(path)) from error


def _write(path: Path, text: str) -> None:
    temporary = path.with_name(f".{path.name}.tmp")
    try:
        temporary.write_bytes(text.encode())
        os.replace(temporary, path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise PlaceTrouble(f"cannot be written: {error.strerror}", where=str(path)) from error


def _show_diff(path: Path, old: str, new: str) -> None:
    out = console()
    for line in difflib.unified_diff(old.splitlines(), new.splitlines(), path.name, f"{path.name}, tidy", lineterm=""):
        style = {"+": "green", "-": "red", "@": "cyan"}.get(line[:1], "")
        out.print(styled(line, style), soft_wrap=True)
