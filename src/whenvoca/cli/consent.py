"""`whenvoca consent`: somebody consents to the use of an account that takes no password."""

from __future__ import annotations

import webbrowser

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import say, say_next, show_json, show_line
from whenvoca.errors import RequestFault
from whenvoca.language.faults import nearest


@click.command("consent")
@click.argument("place", metavar="PLACE")
@click.option(
    "--code", "by_code", is_flag=True, help="By a code that is typed on another device, without a browser here."
)
@common_options
def command(common: Common, place: str, by_code: bool) -> int:
    """Consent, once, to the use of an account that takes no password.

    The place says password = { consent = "NAME" }, and [consents.NAME] where it is asked for. What is kept is a token,
    in the system's keyring; without one in a file that only you can read.

    Example: whenvoca consent post
    """
    opened = common.open()
    names = {name.lower(): name for name in opened.places.names()}
    if place.lower() not in names:
        raise RequestFault(f'there is no place "{place}"', fix=nearest(place, names.values()))
    secret = opened.places.consent_of(place)
    if secret is None:
        raise RequestFault(
            f"{names[place.lower()]} needs no consent", fix='one that does says: password = { consent = "NAME" }'
        )
    if by_code and not secret.has_code_way:
        raise RequestFault("this account gives no codes: its settings name no device", fix="without --code")
    if by_code or not secret.has_browser_way:
        secret.ask_by_code(_show_code, opened.clock.wait)
    else:
        secret.ask_in_browser(_show_address)
    if secret.where_kept != "the keyring":
        say(f"there is no keyring here: the consent is kept in {secret.where_kept}", style="yellow")
    if common.as_json:
        show_json({"place": names[place.lower()], "kept": secret.where_kept})
    else:
        show_line((f"{names[place.lower()]} can be used now", "green"))
        say_next(f"whenvoca places {names[place.lower()]}", quiet=common.quiet)
    return 0


def _show_address(address: str) -> None:
    say(f"consent here, in a browser on this machine: {address}")
    webbrowser.open(address)


def _show_code(address: str, code: str) -> None:
    say(f"open {address} anywhere, and type {code}")
