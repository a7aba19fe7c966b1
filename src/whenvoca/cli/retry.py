"""`whenvoca retry`: runs again what failed, with the subject as it is now."""

from __future__ import annotations

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.faults import refuse
from whenvoca.cli.show.outcome import outcome_to_json, show_outcome
from whenvoca.cli.show.output import say, show_json
from whenvoca.cli.subject_options import ask_yes, runs_argument
from whenvoca.engine.ledger.history import failed_and_last
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.engine.running.outcome import Outcome
from whenvoca.engine.running.run_options import RunOptions
from whenvoca.engine.running.run_workflows import run_workflows
from whenvoca.engine.workspace.ledger_home import open_ledger
from whenvoca.errors import ExitCode, RequestFault


@click.command("retry")
@runs_argument
@click.option("--failed", is_flag=True, help="Every run that failed and was not followed by another one.")
@click.option("--yes", is_flag=True, help="Also runs whose row has had a later run that went well, without asking.")
@common_options
def command(common: Common, runs: tuple[int, ...], failed: bool, yes: bool) -> int:
    """Run again what failed, or was taken back: with the row or event as it is now.

    Example: whenvoca retry --failed
    """
    if bool(runs) == failed:
        raise RequestFault("say which runs: their numbers, or --failed", fix="whenvoca runs --failed lists them")
    opened = common.open()
    result = opened.check()
    by_identity = {workflow.identity: workflow for workflow in result.workflows}
    total = Outcome()
    with open_ledger(opened.workspace, opened.clock, say) as ledger:
        records = failed_and_last(ledger) if failed else _named(ledger, runs)
        names = {by_identity[each.workflow].name for each in records if each.workflow in by_identity}
        if (checked := opened.check(sorted(names)) if names else result).hard_faults:
            return refuse(checked, common)
        for record in records:
            well = _later_success(ledger, record)
            if well and not yes and not ask_yes(f"{record.label} ran well later, in run {well}; run it again?"):
                say(f"{record.label}: left, run {well} went well later; --yes runs it all the same")
                continue
            if record.workflow not in by_identity:
                raise RequestFault(f'run {record.number} is of "{record.workflow}", which is no workflow here any more')
            ledger.wake(record.occurrence)
        chosen: dict[str, set[str]] = {}
        for record in records:
            chosen.setdefault(record.workflow, set()).add(record.subject)
        for identity, keys in chosen.items():
            options = RunOptions(choice=None, kept=10**9, only=frozenset(keys))
            outcome = run_workflows(opened.stage(ledger), [by_identity[identity]], options)
            for each in outcome.results:
                total.hear(each, 10**9)
            total.held += outcome.held
    if not records:
        say("no run has failed that was not followed by another one")
        if common.as_json:
            show_json(outcome_to_json(total))
        return ExitCode.DONE
    if common.as_json:
        show_json(outcome_to_json(total))
    else:
        show_outcome(total, common)
    return total.exit_code


def _later_success(ledger: Ledger, record: RunRecord) -> int:
    """The number of a later run of the same subject that went well, 0 if there is none."""
    for each in ledger.runs(workflow=record.workflow, subject=record.subject, limit=20):
        if each.number > record.number and each.outcome == "done" and each.kind == "run" and each.undone is None:
            return each.number
    return 0


def _named(ledger: Ledger, numbers: tuple[int, ...]) -> list[RunRecord]:
    found = {record.number: record for record in ledger.runs(numbers=numbers, limit=len(numbers))}
    for number in numbers:
        if number not in found:
            raise RequestFault(f"there is no run {number}", fix="whenvoca runs lists them")
        if found[number].kind == "request":
            raise RequestFault(f"run {number} was asked for in words", fix=f'whenvoca say "{found[number].subject}"')
        if found[number].kind == "undo":
            raise RequestFault(f"run {number} is an undo", fix=f"whenvoca undo {number} takes it back")
    return [found[number] for number in numbers]
