"""`whenvoca run`: takes up what is waiting, once."""

from __future__ import annotations

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.prompts import Answers, give_option
from whenvoca.cli.show.effects import show_effects
from whenvoca.cli.show.faults import refuse, said_waiting, show_fault
from whenvoca.cli.show.outcome import MOST_SHOWN, outcome_to_json, show_outcome
from whenvoca.cli.show.output import say, show_json
from whenvoca.cli.show.progress import progress_bar
from whenvoca.cli.subject_options import NeedsYes, ask_yes, choice_options, to_active
from whenvoca.engine.running.brake import Held
from whenvoca.engine.running.run_options import RunOptions, SubjectChoice
from whenvoca.engine.running.run_workflows import run_workflows
from whenvoca.engine.seeing.renamed_workflows import Renamed, find_renamed
from whenvoca.engine.workspace.ledger_home import open_ledger, prune_when_due

_ALL = 10**9


@click.command("run")
@click.argument("workflows", nargs=-1, metavar="[WORKFLOW]...")
@choice_options
@give_option
@click.option("--yes", is_flag=True, help="Let go what the brake holds, without asking.")
@common_options
def command(
    common: Common, workflows: tuple[str, ...], choice: SubjectChoice | None, given: dict[str, str], yes: bool
) -> int:
    """Take up what is waiting for these workflows (all, unless some are named), once.

    They are checked first; with a fault nothing runs. A second run changes nothing. One that waits for the clock or for
    a hand is started once, now, where it is named. A workflow whose place cannot be read waits, and the others run.
    Exit status 1 if a run failed, 3 if a place could not be reached; what was begun then goes on with the next run.

    Example: whenvoca run slot-requests
    """
    opened = common.open(with_root=True)
    if opened.new_root:
        say(f"the workspace had no root of identities; written into whenvoca.toml: {opened.new_root}")
    result, waiting = opened.check(workflows).without_waiting()
    if result.hard_faults:
        return refuse(result, common)
    for fault in result.all_faults if not common.as_json else ():
        show_fault(fault, err=True)
    active = to_active(result, choice)
    by_hand = frozenset(each.identity for each in active) if workflows else frozenset[str]()
    answers = Answers(given, active, opened.workspace.zone, opened.workspace.dates, may_ask=not common.as_json)
    with (
        open_ledger(opened.workspace, opened.clock, say) as ledger,
        progress_bar("rows", common.quiet or common.as_json) as progress,
    ):
        _heed_renamed(find_renamed(ledger, active, opened.names(), opened.workspace.places), common, yes=yes)
        kept = _ALL if common.as_json or common.verbose else MOST_SHOWN
        options = RunOptions(
            choice,
            allow=lambda held: yes or _ask(held, common),
            kept=kept,
            progress=progress,
            by_hand=by_hand,
            answer=answers.answer,
            pick=answers.pick,
        )
        outcome = run_workflows(opened.stage(ledger), active, options)
        prune_when_due(ledger, opened.workspace, opened.clock)
    outcome.troubles += [said_waiting(fault) for fault in waiting]
    outcome.results.sort(key=lambda each: (each.workflow, each.occurrence.run))
    if common.as_json:
        show_json(outcome_to_json(outcome))
    else:
        about_rows = all(each.trigger.definition.subject == "row" for each in active)
        show_outcome(outcome, common, noun="row" if about_rows else "run")
    return outcome.exit_code


def _heed_renamed(renamed: list[Renamed], common: Common, *, yes: bool) -> None:
    """Raises NeedsYes where a workflow may be another one's, unless somebody says that it is not."""
    for each in renamed if not yes else ():
        say(each.said)
        if common.as_json or not ask_yes("run it as a new one?"):
            raise NeedsYes(f"{each.workflow.name}: nothing was run", fix=f"{each.fix}; or, if it is a new one: --yes")


def _ask(held: Held, common: Common) -> bool:
    """Shows what the brake holds, and asks where somebody can answer."""
    if common.as_json:
        return False
    say(held.said)
    show_effects(held.effects[:MOST_SHOWN])
    if len(held.effects) > MOST_SHOWN:
        say(f"and {len(held.effects) - MOST_SHOWN} more")
    return ask_yes("do it all the same?")
