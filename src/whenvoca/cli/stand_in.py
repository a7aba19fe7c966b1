"""`whenvoca stand-in`: small stand-ins for services outside, to try workflows without them."""

from __future__ import annotations

from importlib.util import find_spec
from pathlib import Path

import click

from whenvoca.cli.show.output import say
from whenvoca.errors import PlaceTrouble, RequestFault, SettingsFault


@click.group("stand-in")
def command() -> None:
    """Start a small stand-in for a service outside, to try workflows without it.

    Example: whenvoca stand-in meeting-links --listen 127.0.0.1:8099
    """


@command.command("meeting-links")
@click.option("--listen", default="127.0.0.1:8099", metavar="HOST:PORT", help="Where it listens.", show_default=True)
@click.option(
    "--file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Keep the links in this file; otherwise they end with it.",
)
def meeting_links(listen: str, file: Path | None) -> int:
    """Make, look up and delete links to join an event from afar, until Ctrl-C. It is no meeting itself.

    In whenvoca.toml: meeting-link = { service = "http://127.0.0.1:8099" }

    Example: whenvoca stand-in meeting-links --listen 127.0.0.1:8099
    """
    host, _, port = listen.rpartition(":")
    if not host or not port.isdecimal() or not 0 < int(port) < 65536:
        raise RequestFault(f'--listen: "{listen}" is not a host and a port', fix="such as --listen 127.0.0.1:8099")
    if find_spec("uvicorn") is None:
        raise SettingsFault("the stand-in needs uvicorn and starlette", fix="pip install 'whenvoca[web]'")
    import socket

    import uvicorn

    from whenvoca.web.meeting_stand_in import MeetingStandIn

    listening = socket.socket(proto=socket.IPPROTO_TCP)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, int(port)))
    except OSError as error:
        listening.close()
        raise PlaceTrouble(
            f"cannot listen: {error.strerror}", where=listen, fix="give another one: --listen"
        ) from error
    say(f"a stand-in for meeting links listens at http://{listen}; Ctrl-C ends it")
    stand_in = MeetingStandIn(f"http://{listen}", file)
    uvicorn.Server(uvicorn.Config(stand_in.app, log_config=None, access_log=False)).run([listening])
    return 0
