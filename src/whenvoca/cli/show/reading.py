"""How a request in words was understood, for people."""

from __future__ import annotations

from whenvoca.cli.show.output import Column, console, show_table
from whenvoca.speech.request import Request


def show_reading(request: Request) -> None:
    """What was understood, and which words it comes from."""
    scope = {"following": ", this and the following", "all": ", the whole series"}.get(request.scope, "")
    console().print(f"understood as: {request.intent}{scope}", soft_wrap=True)
    if request.because:
        rows = [(each.text, each.read_as) for each in request.because if each.text]
        show_table([Column("words"), Column("read as", wraps=True)], rows)
