"""`whenvoca pause`: turns workflows off."""

from __future__ import annotations

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import say, say_next, show_json
from whenvoca.engine.workspace.checking import choose_workflows
from whenvoca.engine.workspace.ledger_home import open_ledger


@click.command("pause")
@click.argument("workflows", nargs=-1, required=True, metavar="WORKFLOW...")
@common_options
def command(common: Common, workflows: tuple[str, ...]) -> int:
    """Turn workflows off: they take nothing up until they are resumed.

    Example: whenvoca pause evening-sheet
    """
    opened = common.open(with_root=True)
    chosen = choose_workflows(opened.check(workflows), workflows)
    with open_ledger(opened.workspace, opened.clock, say) as ledger:
        for each in chosen:
            ledger.pause(each.identity, opened.clock.now().isoformat())
        pauses = ledger.pauses()
    if common.as_json:
        show_json({"paused": [{"workflow": name, "since": since} for name, since in pauses.items()]})
        return 0
    say(f"paused: {', '.join(each.name for each in chosen)}")
    say_next(f"whenvoca resume {chosen[0].name}", quiet=common.quiet)
    return 0
