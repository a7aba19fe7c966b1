"""`whenvoca undo`: shows the reverse of runs, asks, and does it."""

from __future__ import annotations

from typing import Any

import click

from whenvoca.cli.common import Common, common_options, parse_moment
from whenvoca.cli.show.effects import count_effects, effect_to_json, show_effects
from whenvoca.cli.show.output import count_of, say, say_next, show_json
from whenvoca.cli.subject_options import ask_yes, runs_argument
from whenvoca.engine.ledger.history import choose_runs
from whenvoca.engine.undoing.undoing import UndoOutcome, runs_in_range, undo_runs
from whenvoca.engine.workspace.ledger_home import open_ledger
from whenvoca.errors import ExitCode, RequestFault


@click.command("undo")
@runs_argument
@click.option("--workflow", default="", metavar="NAME", help="All runs of a workflow: --workflow slot-requests.")
@click.option("--from", "begin", default="", metavar="MOMENT", help="With --workflow: runs from then on.")
@click.option("--until", "end", default="", metavar="MOMENT", help="With --workflow: runs before that.")
@click.option("--yes", is_flag=True, help="Do it without asking.")
@common_options
def command(common: Common, runs: tuple[int, ...], workflow: str, begin: str, end: str, yes: bool) -> int:
    """Take runs back: events, rows and cells come back as they were. The list is shown first, and a yes asked for.

    What another hand has changed since is left alone and named (exit status 1). What the runs set off is taken back
    with them. An undone row is held until somebody changes it, or by `retry`. The undo is a run too, and can be undone.

    Example: whenvoca undo 14
    """
    if bool(runs) == bool(workflow):
        raise RequestFault("say which runs: their numbers, or --workflow NAME", fix="whenvoca runs lists them")
    if (begin or end) and not workflow:
        raise RequestFault("--from and --until say which runs of a workflow", fix="add --workflow NAME")
    opened = common.open()
    zone = opened.workspace.zone
    low = parse_moment(begin, zone, "--from") if begin else None
    high = parse_moment(end, zone, "--until") if end else None
    if low is not None and high is not None and high <= low:
        raise RequestFault("--until does not come after --from")
    with open_ledger(opened.workspace, opened.clock, say) as ledger:
        numbers = list(runs) or runs_in_range(ledger, workflow, low, high)
        if not numbers and not ledger.runs(workflow=workflow, limit=1):
            raise RequestFault(f'"{workflow}" has not run', fix="whenvoca runs lists what has")
        records = choose_runs(ledger, numbers)
        copy = ledger.copy()
        try:
            planned = undo_runs(opened.stage(copy, opened.places.rehearsed()), records)
        finally:
            copy.close()
        if planned.troubles:
            raise planned.troubles[0]
        if not common.as_json:
            _show(planned)
        if not planned.effects:
            say("there is nothing to take back")
            if common.as_json:
                show_json(_to_json(planned, done=False))
            return ExitCode.FAILED if planned.left else ExitCode.DONE
        if not (yes or (not common.as_json and ask_yes("take this back?"))):
            if common.as_json:
                show_json(_to_json(planned, done=False))
            say("nothing was done; with --yes it is")
            return ExitCode.NEEDS_YES
        done = undo_runs(opened.stage(ledger), records)
    if common.as_json:
        show_json(_to_json(done, done=True))
    else:
        over = [run for run in done.runs if run.effects]
        if over:
            say(f"taken back: {count_of(len(over), 'run')}, {count_effects(done.effects)}")
        for said in done.left:
            say(f"left alone: {said}", style="yellow")
        for trouble in done.troubles:
            say(f"not taken back yet: {trouble}", style="red")
        if done.troubles:
            again = ", ".join(str(run.record.number) for run in done.runs if run.trouble is not None)
            say_next(f"when the place is back: whenvoca undo {again}", quiet=common.quiet)
        elif over:
            new = ", ".join(str(run.number) for run in over)
            say_next(f"whenvoca undo {new} brings it again", quiet=common.quiet)
    return done.exit_code


def _show(outcome: UndoOutcome) -> None:
    names = ", ".join(f"{run.record.number} ({run.record.workflow}, {run.record.label})" for run in outcome.runs[:12])
    say(f"{count_of(len(outcome.runs), 'run')}: {names}{' …' if len(outcome.runs) > 12 else ''}")
    show_effects(outcome.effects, {run.record.subject: run.record.label for run in outcome.runs})
    for said in outcome.left:
        say(f"left alone: {said}", style="yellow")
    if outcome.effects:
        say(f"to take it back: {count_effects(outcome.effects)}")


def _to_json(outcome: UndoOutcome, *, done: bool) -> dict[str, Any]:
    return {
        "done": done,
        "runs": [
            {
                "undoes": run.record.number,
                "run": run.number if done else None,
                "workflow": run.record.workflow,
                "subject": run.record.label,
                "effects": [effect_to_json(effect) for effect in run.effects],
                "left": run.left,
            }
            for run in outcome.runs
        ],
    }
