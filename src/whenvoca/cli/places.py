"""`whenvoca places`: each place, what it holds and whether it answers."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

import click
from msgspec.structs import replace

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.places_web import BOARD, intake, rehearse_for, save_last, show_link
from whenvoca.cli.show.output import Column, say, say_next, show_json, show_table, styled
from whenvoca.cli.show.web_place import show_place, tell_of_place
from whenvoca.engine.place_protocols import PlaceReport
from whenvoca.engine.workspace.watch_status import read_health
from whenvoca.engine.workspace.web_key import renew_address
from whenvoca.errors import ExitCode, RequestFault
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.form.place import Form
from whenvoca.places.hook.place import Hook
from whenvoca.web.addresses import address_of, feed_of

_OF_THE_HOOK = "the hook's own"


@click.command("places")
@click.argument("name", required=False, metavar="[NAME]")
@click.option(
    "--new-address",
    is_flag=False,
    flag_value=_OF_THE_HOOK,
    default="",
    metavar="[PERSON]",
    help="Give the hook NAME another address, or the PERSON another link to its page; the one before leads nowhere.",
)
@click.option("--link", default="", metavar="PERSON", help="The personal link of PERSON to the page of the chat NAME.")
@click.option("--board", default="", metavar="PERSON", help="The personal link of PERSON to the board.")
@click.option(
    "--rehearse",
    default="",
    metavar="DURATION",
    help='For so long what comes in by NAME is only rehearsed: --rehearse "10 minutes"; 0 ends it.',
)
@click.option(
    "--save",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write what came in last by NAME into FILE, for read and rehearse --sample.",
)
@common_options
def command(
    common: Common, name: str | None, new_address: str, link: str, board: str, rehearse: str, save: Path | None
) -> int:
    """Show each place of the workspace: its kind, address, zone, how much it holds and whether it answers.

    With the NAME of a form or a hook: its fields, what came in last, and what was refused lately.

    Example: whenvoca places --json
    """
    opened = common.open()
    if board and not name:
        return show_link(common, opened, BOARD, board, is_new=bool(new_address))
    if name and (link or (new_address and new_address != _OF_THE_HOOK)):
        return show_link(common, opened, name, link or new_address, is_new=bool(new_address))
    if name and rehearse:
        return rehearse_for(intake(opened, name), rehearse, common, opened)
    if name and save is not None:
        return save_last(intake(opened, name), save, common, opened)
    if name:
        return _show_one(common, opened, name, new_address=bool(new_address))
    given = {"--new-address": new_address, "--link": link, "--rehearse": rehearse, "--save": save is not None}
    for option, is_given in given.items():
        if is_given:
            raise RequestFault(f"{option} needs the name of a place", fix=f"whenvoca places NAME {option}")
    reports = [_with_address(report, opened) for report in opened.places.describe()]
    health = read_health(opened.workspace)
    is_away = any(report.exit_code == ExitCode.UNREACHABLE for report in reports)
    code = ExitCode.UNREACHABLE if is_away else ExitCode.DONE
    if common.as_json:
        found = [{**_to_json(report), "feed": feed_of(opened.workspace, report.name)} for report in reports]
        show_json({"places": found, "watch": health})
        return code
    _show(reports)
    for each in opened.workspace.places:
        if link := feed_of(opened.workspace, each):
            say(f"{each}, to look at: {link}")
    if health:
        zone = opened.workspace.zone
        looked = datetime.fromisoformat(str(health["looked"])).astimezone(zone)
        following = health.get("next")
        coming = (
            f", next at {datetime.fromisoformat(str(following)).astimezone(zone):%Y-%m-%d %H:%M}" if following else ""
        )
        say(f"watched by process {health['process']}, last looked {looked:%Y-%m-%d %H:%M:%S}{coming}")
    say_next("whenvoca check", quiet=common.quiet)
    return code


def _show_one(common: Common, opened: OpenWorkspace, name: str, *, new_address: bool) -> int:
    names = {each.lower(): each for each in opened.places.names()}
    if name.lower() not in names:
        raise RequestFault(f'there is no place "{name}"', fix=nearest(name, names.values()))
    place = opened.places.open_named(name)
    if new_address:
        if not isinstance(place, Hook):
            raise RequestFault(f"{names[name.lower()]} is not a hook; only hooks have secret addresses")
        first_name = opened.workspace.former_places.get(place.name.lower(), place.name)
        renew_address(opened.workspace.make_state_folder(), first_name)
    if not isinstance(place, Form | Hook):
        report = place.describe()
        if common.as_json:
            show_json({"places": [_to_json(report)]})
        else:
            _show([report])
        return ExitCode.UNREACHABLE if report.exit_code == ExitCode.UNREACHABLE else ExitCode.DONE
    with opened.copied_ledger() as ledger:
        told = tell_of_place(opened, place, ledger)
    if common.as_json:
        show_json(told)
    else:
        show_place(told, opened)
    return ExitCode.DONE


def _with_address(report: PlaceReport, opened: OpenWorkspace) -> PlaceReport:
    """With its address on the web, where it has one."""
    if report.kind not in ("form", "hook") or report.trouble:
        return report
    if opened.workspace.web is None:
        return replace(report, trouble="there is no [web] in whenvoca.toml, so nothing serves it")
    address = address_of(opened.workspace, opened.places.open_named(report.name))
    return replace(report, address=address or "made when watch begins")


def _to_json(report: PlaceReport) -> dict[str, object]:
    return {
        "name": report.name,
        "kind": report.kind,
        "address": report.address,
        "zone": report.zone,
        "answers": not report.trouble,
        "holds": report.holds,
        "trouble": report.trouble,
        "fix": report.fix,
        "mend": report.fix,  # its old name, until 0.2
        "notes": list(report.notes),
    }


def _show(reports: Sequence[PlaceReport]) -> None:
    """The places as a table; below it what to do about trouble, each fix once, and what else there is to say."""
    columns = [
        Column("place"),
        Column("kind"),
        Column("address", drop=1),
        Column("zone", drop=2),
        Column("holds", wraps=True),
    ]
    rows = [(r.name, r.kind, r.address, r.zone, styled(r.trouble, "red") if r.trouble else r.holds) for r in reports]
    show_table(columns, rows)
    fixes: dict[str, list[str]] = {}
    for report in reports:
        if report.trouble and report.fix:
            fixes.setdefault(report.fix, []).append(report.name)
    for fix, names in fixes.items():
        say(f"{', '.join(names)}: {fix}")
    for report in reports:
        if report.kind in ("form", "hook") and not report.trouble:
            say(f"{report.name}: {report.address}")
        for note in report.notes:
            say(f"note: {report.name}: {note}")
