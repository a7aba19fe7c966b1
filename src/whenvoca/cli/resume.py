"""`whenvoca resume`: turns workflows on again, and says what happened meanwhile."""

from __future__ import annotations

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import count_of, say, say_next, show_json
from whenvoca.cli.subject_options import ask_yes
from whenvoca.engine.watching.pausing import look_since, skip
from whenvoca.engine.workspace.checking import choose_workflows
from whenvoca.engine.workspace.ledger_home import open_ledger
from whenvoca.errors import ExitCode, RequestFault

_MOST = 12


@click.command("resume")
@click.argument("workflows", nargs=-1, required=True, metavar="WORKFLOW...")
@click.option("--run-missed", "running", is_flag=True, help="Run for what happened meanwhile, with the next run.")
@click.option("--take-up", "running", is_flag=True, hidden=True)  # its old name, until 0.2
@click.option("--skip", "skipping", is_flag=True, help="Leave out what happened meanwhile.")
@common_options
def command(common: Common, workflows: tuple[str, ...], running: bool, skipping: bool) -> int:
    """Turn workflows on again. It shows what happened meanwhile; the next run deals with that, or skips it.

    Without an option it asks; where nobody can answer it does nothing, with exit status 4.

    Example: whenvoca resume evening-sheet --skip
    """
    if running and skipping:
        raise RequestFault("--run-missed and --skip do not go together")
    opened = common.open(with_root=True)
    chosen = choose_workflows(opened.check(workflows), workflows)
    told = []
    with open_ledger(opened.workspace, opened.clock, say) as ledger:
        pauses = ledger.pauses()
        for each in chosen:
            if each.identity not in pauses:
                raise RequestFault(f"{each.name} is not paused")
        for each in chosen:
            meanwhile = look_since(opened.stage(ledger), each)
            labels = [one.label for one in meanwhile]
            if labels and not common.as_json:
                more = f" and {len(labels) - _MOST} more" if len(labels) > _MOST else ""
                say(f"{each.name}: {count_of(len(labels), 'occurrence')} meanwhile: {', '.join(labels[:_MOST])}{more}")
            takes = running or not labels
            if labels and not running and not skipping:
                takes = ask_yes("run for these with the next run? (no: they are skipped)", needs_somebody=True)
            if not takes:
                skip(ledger, meanwhile)
            ledger.resume(each.identity)
            told.append(
                {
                    "workflow": each.name,
                    "since": pauses[each.identity],
                    "meanwhile": labels,
                    "run_missed": takes and bool(labels),
                    "taken_up": takes and bool(labels),  # its old name, until 0.2
                }
            )
    if common.as_json:
        show_json({"resumed": told})
        return ExitCode.DONE
    say(f"resumed: {', '.join(each.name for each in chosen)}")
    say_next("whenvoca run", quiet=common.quiet)
    return ExitCode.DONE
