"""How a request in words was understood, for people."""

from __future__ import annotations

from whenvoca.cli.show.output import Column, console, show_table
from whenvoca.speech.explaining import Explained
from whenvoca.speech.request import Request


def show_reading(request: Request) -> None:
    """What was understood, and which words it comes from."""
    scope = {"following": ", this and the following", "all": ", the whole series"}.get(request.scope, "")
    console().print(f"understood as: {request.intent}{scope}", soft_wrap=True)
    if request.because:
        rows = [(each.text, each.read_as) for each in request.because if each.text]
        show_table([Column("words"), Column("read as", wraps=True)], rows)


def show_explained(explained: Explained) -> None:
    """The pieces of a text, its likeliest readings, and what made the first one lead."""
    if explained.pieces:
        show_table([Column("words"), Column("kind"), Column("read as", wraps=True)], explained.pieces)
    rows = [(f"{percent:.1f} %", told) for percent, told in explained.readings]
    show_table([Column("likely"), Column("reading", wraps=True)], rows)
    sure = f"the first one is right at {explained.sure:.0%}; it is done from {explained.least:.0%} on, else asked about"
    console().print(sure, soft_wrap=True)
    if explained.marks:
        marks = [(f"{weight:+.2f}", mark) for weight, mark in explained.marks]
        show_table([Column("weight"), Column("what made it lead", wraps=True)], marks)
