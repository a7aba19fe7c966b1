"""`whenvoca run`: takes up what is waiting, once."""

from __future__ import annotations

from typing import Any

import click

from whenvoca.cli.check import count_of, fault_to_json, show_fault
from whenvoca.cli.common import Common, common_options
from whenvoca.cli.effects import brief_label, describe_effect, effect_to_json, show_effects
from whenvoca.cli.output import OUTCOME_STYLES, Column, say, say_next, show_json, show_line, show_table, styled
from whenvoca.cli.progress import progress_bar
from whenvoca.cli.prompts import Answers, give_option
from whenvoca.cli.subject_options import NeedsYes, ask_yes, choice_options, to_active
from whenvoca.engine.running.brake import Held
from whenvoca.engine.running.outcome import Outcome, RunResult
from whenvoca.engine.running.run_options import RunOptions, SubjectChoice
from whenvoca.engine.running.run_workflows import run_workflows
from whenvoca.engine.seeing.renamed_workflows import Renamed, find_renamed
from whenvoca.engine.workspace.checking import CheckResult
from whenvoca.engine.workspace.ledger_home import open_ledger
from whenvoca.errors import ExitCode

_MOST_SHOWN, _ALL = 40, 10**9


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
    a hand is started once, now, where it is named. Exit status 1 if a run failed, 3 if a place could not be reached;
    what was begun then goes on with the next run.

    Example: whenvoca run slot-requests
    """
    opened = common.open(with_root=True)
    if opened.new_root:
        say(f"the workspace had no root of identities; written into whenvoca.toml: {opened.new_root}")
    result = opened.check(workflows)
    if result.hard_faults:
        return _refuse(result, common)
    for fault in result.all_faults if not common.as_json else ():
        show_fault(fault, err=True)
    active = to_active(result, choice)
    by_hand = frozenset(each.identity for each in active) if workflows else frozenset[str]()
    answers = Answers(given, active, opened.workspace.zone, opened.workspace.dates, may_ask=not common.as_json)
    with (
        open_ledger(opened.workspace, opened.clock, say) as ledger,
        progress_bar("rows", common.quiet or common.as_json) as progress,
    ):
        _heed_renamed(find_renamed(ledger, active, opened.names()), common, yes=yes)
        kept = _ALL if common.as_json or common.verbose else _MOST_SHOWN
        request = RunOptions(
            choice,
            allow=lambda held: yes or _ask(held, common),
            kept=kept,
            progress=progress,
            by_hand=by_hand,
            answer=answers.answer,
            pick=answers.pick,
        )
        outcome = run_workflows(opened.workspace, active, opened.places, ledger, opened.clock, request)
    outcome.results.sort(key=lambda each: (each.workflow, each.run))
    if common.as_json:
        show_json(outcome_to_json(outcome))
    else:
        about_rows = all(each.trigger is not None and each.trigger.definition.subject == "row" for each in active)
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
    show_effects(held.effects[:_MOST_SHOWN])
    if len(held.effects) > _MOST_SHOWN:
        say(f"and {len(held.effects) - _MOST_SHOWN} more")
    return ask_yes("do it all the same?")


def _refuse(result: CheckResult, common: Common) -> int:
    if common.as_json:
        show_json({"runs": [], "faults": [fault_to_json(fault) for fault in result.hard_faults]})
    else:
        for fault in result.hard_faults:
            show_fault(fault, err=True)
        say(f"nothing was run: {count_of(len(result.hard_faults), 'fault')} to mend first")
        say_next("mend what is marked, then: whenvoca check", quiet=common.quiet)
    only_unreachable = result.exits and all("cannot be read" in fault.message for fault in result.hard_faults)
    return max(result.exits) if only_unreachable else ExitCode.WRONG


def show_outcome(outcome: Outcome, common: Common, *, noun: str = "row") -> None:
    """The outcome as a table and its summary."""
    unwell = [each for each in outcome.results if each.outcome != "done"]
    shown = outcome.results if common.verbose else _telling(unwell if common.quiet else outcome.results)
    if shown:
        show_table(
            [Column("about"), Column("outcome"), Column("what", wraps=True), Column("workflow", drop=1)],
            [
                (
                    brief_label(each.label),
                    styled(each.outcome, OUTCOME_STYLES[each.outcome]),
                    _what(each),
                    each.workflow,
                )
                for each in shown
            ],
        )
    hidden = sum(outcome.counts.values()) - len(shown)
    if hidden and not common.quiet:
        say(f"and {hidden} more of the same kind; all of them: --verbose, or whenvoca runs")
    for fault in outcome.faults:
        show_line((fault, "red"), err=True, wraps=False)
    for wait in outcome.waits:
        say(wait)
    for trouble in outcome.troubles:
        say(f"not looked at: {trouble}", style="red")
    _summary(outcome, common, noun)


def _telling(results: list[RunResult]) -> list[RunResult]:
    """What a person looks at first: whatever did not go well, then the others, as many as fit a screen or two."""
    if len(results) <= _MOST_SHOWN:
        return results
    unwell = [each for each in results if each.outcome != "done"][:_MOST_SHOWN]
    return [*unwell, *[each for each in results if each.outcome == "done"][: max(3, _MOST_SHOWN - len(unwell))]]


def _what(result: RunResult) -> str:
    if result.outcome != "done":
        return result.reason + (f" ({result.fix})" if result.fix else "")
    return "; ".join(describe_effect(effect) for effect in result.effects) or "nothing to do"


def _summary(outcome: Outcome, common: Common, noun: str) -> None:
    counts = {word: outcome.counts.get(word, 0) for word in ("done", "failed", "waiting", "missed", "not taken up")}
    said = [count_of(counts["done"], noun) + " done", *(f"{n} {word}" for word, n in list(counts.items())[1:] if n)]
    for held in outcome.held:
        say(f"held: {held.said}; nothing of that batch was done", style="yellow")
    if outcome.held:
        say_next("look at what it would do: whenvoca rehearse; and let it go: whenvoca run --yes", quiet=common.quiet)
    if not outcome.counts and not outcome.faults:
        if not outcome.held and not outcome.troubles:
            say("nothing new")
        if outcome.unanswered:
            verb = "waits" if outcome.unanswered == 1 else "wait"
            say(
                f"{count_of(outcome.unanswered, noun)} that failed before {verb} for a correction: whenvoca runs "
                "--failed"
            )
        return
    say(", ".join(said))
    if counts["failed"] or counts["waiting"]:
        say_next("correct what is named and run again: only those rows run", quiet=common.quiet)
    elif counts["done"]:
        say_next("whenvoca agenda", quiet=common.quiet)


def run_to_json(each: RunResult) -> dict[str, Any]:
    """One run as JSON."""
    return {
        "run": each.run,
        "workflow": each.workflow,
        "subject": each.label,
        "outcome": each.outcome,
        "reason": each.reason,
        "mend": each.fix,
        "effects": [effect_to_json(effect) for effect in each.effects],
    }


def outcome_to_json(outcome: Outcome) -> dict[str, Any]:
    """The outcome of `run` and `retry` as JSON."""
    return {
        "runs": [run_to_json(each) for each in outcome.results],
        "faults": [{"message": fault} for fault in outcome.faults],
        "waits": list(outcome.waits),
        "unanswered": outcome.unanswered,
        "troubles": list(outcome.troubles),
        "held": [held_to_json(held) for held in outcome.held],
    }


def held_to_json(held: Held) -> dict[str, Any]:
    """A held batch as JSON."""
    return {
        "workflow": held.workflow,
        "what": held.what,
        "count": held.count,
        "limit": held.limit,
        "effects": [effect_to_json(effect) for effect in held.effects],
    }
