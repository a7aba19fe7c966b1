"""`whenvoca words`: the language reference, from the definitions themselves."""

from __future__ import annotations

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import console, show_json
from whenvoca.errors import RequestFault
from whenvoca.language.faults import nearest
from whenvoca.language.reference import entries, find_entries, render_entry, render_overview, render_page
from whenvoca.open_workspace import VOCABULARY


@click.command("words")
@click.argument("words", nargs=-1, metavar="[WORD]...")
@click.option("--all", "everything", is_flag=True, help="Every entry, one after the other.")
@click.option("--page", is_flag=True, help="The whole reference as a Markdown page: --page > language.md.")
@common_options
def command(common: Common, words: tuple[str, ...], everything: bool, page: bool) -> int:
    """Look up the workflow language: a step, a trigger, a field, a kind of value.

    Example: whenvoca words create event
    """
    if page:
        click.echo(render_page(VOCABULARY), nl=False)
        return 0
    found = find_entries(VOCABULARY, words) if words else entries(VOCABULARY)
    if words and not found:
        known = [entry.name for entry in entries(VOCABULARY)]
        raise RequestFault(f'there is nothing called "{" ".join(words)}"', fix=nearest(" ".join(words), known))
    if common.as_json:
        show_json({"words": [entry.to_json() for entry in found]})
        return 0
    out = console()
    if not words and not everything:
        out.print(render_overview(VOCABULARY), soft_wrap=True)
        return 0
    for number, entry in enumerate(found):
        if number:
            out.print()
        out.print(render_entry(entry, min(out.width, 100)), soft_wrap=True)
    return 0
