"""What `whenvoca places` does at the door on the web: personal links, rehearsing what comes in, samples."""

from __future__ import annotations

from pathlib import Path

from whenvoca.cli.common import Common
from whenvoca.cli.show.output import say, say_next, show_json, show_line
from whenvoca.engine.workspace.ledger_home import open_ledger
from whenvoca.engine.workspace.watch_status import read_health
from whenvoca.engine.workspace.web_key import load_key, name_of_person, renew_address
from whenvoca.errors import ExitCode, RequestFault
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.files import replace_file
from whenvoca.places.form.place import Form
from whenvoca.places.hook.place import Hook
from whenvoca.places.sample_file import to_sample_file
from whenvoca.values.durations import Duration, add_to_moment, parse_duration
from whenvoca.web.rehearsals import rehearse_until

_LONGEST_REHEARSAL = 86_400  # seconds
BOARD = "board"


def show_link(common: Common, opened: OpenWorkspace, name: str, who: str, *, is_new: bool) -> int:
    """The link of somebody to a page of theirs, made if there is none yet. Raises RequestFault."""
    workspace = opened.workspace
    person = workspace.people.find(who)
    if person is None:
        raise RequestFault(f'there is nobody called "{who}" in [people]', fix=nearest(who, workspace.people_names))
    names = {each.lower(): each for each in opened.places.names()}
    if name != BOARD and name.lower() not in names:
        raise RequestFault(f'there is no place "{name}"', fix=nearest(name, names.values()))
    place = names.get(name.lower(), name)
    path = str((workspace.places.get(place) or {}).get("page") or "")
    if name == BOARD and workspace.web is not None:
        place, path = BOARD, workspace.web.board
    if workspace.web is None or not path:
        fix = 'board = "/board" in [web]' if name == BOARD else 'page = "/desk" at a chat'
        raise RequestFault(f"{place} has no page", fix=f"whenvoca.toml: {fix}")
    first = workspace.former_places.get(place.lower(), place)
    folder = workspace.make_state_folder()
    if is_new:
        renew_address(folder, name_of_person(first, person.name))
    word = load_key(folder).of_person(BOARD if name == BOARD else "desk", first, person.name)
    link = f"{workspace.web.shown}{path}/{word}"
    if common.as_json:
        show_json({"place": place, "person": person.name, "link": link})
    else:
        show_line((link, ""))
        if not common.quiet:
            options = f"--board {who} --new-address" if name == BOARD else f"{place} --new-address {who}"
            say(f"it is {person.name}'s alone; this ends it and makes another one: whenvoca places {options}")
    return ExitCode.DONE


def intake(opened: OpenWorkspace, name: str) -> Form | Hook:
    """The form or hook of that name. Raises RequestFault."""
    names = {each.lower(): each for each in opened.places.names()}
    place = opened.places.open_named(name) if name.lower() in names else None
    if not isinstance(place, Form | Hook):
        said = f'there is no place "{name}"' if place is None else f"{names[name.lower()]} is neither a form nor a hook"
        raise RequestFault(said, fix=nearest(name, names.values()))
    return place


def rehearse_for(place: Form | Hook, text: str, common: Common, opened: OpenWorkspace) -> int:
    """For so long, what comes in by the place is only rehearsed. Raises RequestFault."""
    span = parse_duration(text) if text != "0" else Duration()
    if span is None or span.months or not 0 <= span.to_seconds() <= _LONGEST_REHEARSAL:
        raise RequestFault(
            f'--rehearse: "{text}" is not a duration of a day or less', fix='such as --rehearse "10 minutes"'
        )
    until = add_to_moment(opened.clock.now(), span) if span.to_seconds() else None
    with open_ledger(opened.workspace, opened.clock, say) as ledger:
        rehearse_until(ledger, place.name, until)
    noun = "entry" if isinstance(place, Form) else "call"
    if common.as_json:
        show_json({"name": place.name, "rehearsed_until": until.isoformat() if until is not None else None})
    elif until is None:
        show_line((f"{place.name}: from now on each {noun} counts", ""))
    else:
        shown = until.astimezone(opened.workspace.zone)
        told = f"{place.name}: until {shown:%H:%M} each {noun} is only rehearsed, and answered with what would be done"
        show_line((told, ""))
        if read_health(opened.workspace) is None:
            say("watch is not running, so nothing comes in", style="yellow")
        say_next(f"whenvoca places {place.name} --save {noun}.json", quiet=common.quiet)
    return ExitCode.DONE


def save_last(place: Form | Hook, path: Path, common: Common, opened: OpenWorkspace) -> int:
    """Writes what came in last by the place into a file. Raises RequestFault."""
    noun = "entry" if isinstance(place, Form) else "call"
    with opened.copied_ledger() as ledger:
        sample = ledger.sample(place.name)
    if sample is None:
        raise RequestFault(f"no {noun} has come in at {place.name} yet")
    if path.exists():
        raise RequestFault("the file exists already", where=str(path), fix="name another one")
    replace_file(path, to_sample_file(place.name, sample).encode())
    if common.as_json:
        show_json({"name": place.name, "file": str(path), "at": sample.at})
    else:
        show_line((f"the last {noun} is written to {path}", ""))
        say_next(f"whenvoca read {noun} {path}", quiet=common.quiet)
    return ExitCode.DONE
