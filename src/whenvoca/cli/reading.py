"""`whenvoca read text`: how a request in words would be understood, with nothing done."""

from __future__ import annotations

import sys
from datetime import datetime
from zoneinfo import ZoneInfo

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import console, say_next, show_json
from whenvoca.cli.show.reading import show_explained, show_reading
from whenvoca.engine.conversing.memory import agenda_of, surroundings
from whenvoca.engine.workspace.settings import find_workspace
from whenvoca.errors import RequestFault, SettingsFault
from whenvoca.speech.explaining import explain
from whenvoca.speech.reply import reply_to
from whenvoca.speech.request import Surroundings
from whenvoca.speech.understanding import understand
from whenvoca.values.zones import load_zone


@click.command("text")
@click.argument("text", metavar="TEXT|-")
@click.option("--explain", "explains", is_flag=True, help="Show the pieces, the likeliest readings and what decided.")
@common_options
def text(common: Common, text: str, explains: bool) -> int:
    """Show how a request in words would be understood; nothing is changed.

    With - each line of standard input is a request by itself. In a workspace its calendars, people, zone and date order
    count; elsewhere there is only the text.

    Example: whenvoca read text "shift the council call to monday at ten"
    """
    if not text.strip():
        raise RequestFault("the text is empty", fix='such as: whenvoca read text "anything tonight?"')
    here = around(common)
    texts = [line.rstrip("\r\n") for line in sys.stdin] if text == "-" else [text]
    understood = False
    for number, each in enumerate(line for line in texts if line.strip()):
        request = understand(each, here)
        understood = request.intent != "none"
        explained = explain(each, here) if explains else None
        if common.as_json:
            more = {"explained": explained.to_json()} if explained is not None else {}
            show_json({**request.to_json(), **more}, lines=text == "-")
            continue
        if text == "-":
            console().print(("\n" if number else "") + each, soft_wrap=True)
        show_reading(request)
        console().print(reply_to(request, here.zone), soft_wrap=True)
        if explained is not None:
            show_explained(explained)
    if understood and text != "-" and not common.as_json:
        say_next(f"to have it done: whenvoca say {_quoted(text)}", quiet=common.quiet)
    return 0


def around(common: Common) -> Surroundings:
    """What a text is read among: the workspace at hand, or nothing but a zone."""
    try:
        common.folder or find_workspace()
    except SettingsFault:  # there is none: the text by itself
        zone = load_zone(common.zone) if common.zone else ZoneInfo("UTC")
        now: datetime = common.clock(zone).now()
        return Surroundings(now, zone)
    opened = common.open()
    agenda = agenda_of(lambda name: opened.places.calendars[name], list(opened.places.calendars))
    return surroundings(opened.workspace, opened.clock.now(), opened.workspace.zone, agenda)


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
