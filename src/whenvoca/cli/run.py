"""`whenvoca run`: takes up what is waiting, once."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Any

import click

from whenvoca.cli.check import count_of, fault_to_json, show_fault
from whenvoca.cli.common import Common, common_options
from whenvoca.cli.output import OUTCOME_STYLES, Column, console, say, say_next, show_json, show_table, styled
from whenvoca.cli.progress import progress_bar
from whenvoca.engine.batch import RunResult
from whenvoca.engine.checking import CheckResult
from whenvoca.engine.effects import Effect
from whenvoca.engine.working import Outcome, Request, open_ledger, run_workflows
from whenvoca.errors import ExitCode
from whenvoca.values.texts import show_value
from whenvoca.values.times import show_time

_MOST_SHOWN, _ALL = 40, 10**9


@click.command("run")
@click.argument("workflows", nargs=-1, metavar="[WORKFLOW]...")
@common_options
def command(common: Common, workflows: tuple[str, ...]) -> int:
    """Take up what is waiting for these workflows (all, unless some are named), once.

    They are checked first; with a fault nothing runs. A second run changes nothing. Exit status 1 if a run failed,
    3 if a place could not be reached; what was begun then goes on with the next run.

    Example: whenvoca run slot-requests
    """
    kit = common.open(with_root=True)
    if kit.new_root:
        say(f"the workspace had no root of identities; written into whenvoca.toml: {kit.new_root}")
    result = kit.check(workflows)
    if result.hard_faults:
        return _refuse(result, common)
    for fault in result.all_faults if not common.as_json else ():
        show_fault(fault, err=True)
    active = [workflow for workflow in result.workflows if not workflow.settings.paused]
    with (
        open_ledger(kit.workspace, kit.clock, say) as ledger,
        progress_bar("rows", common.quiet or common.as_json) as progress,
    ):
        request = Request(kept=_ALL if common.as_json or common.verbose else _MOST_SHOWN, progress=progress)
        outcome = run_workflows(kit.workspace, active, kit.places, ledger, kit.clock, request)
    outcome.results.sort(key=lambda each: (each.workflow, each.run))
    if common.as_json:
        show_json(_to_json(outcome))
    else:
        _show(outcome, common)
    return outcome.exit_code


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


def _show(outcome: Outcome, common: Common) -> None:
    unwell = [each for each in outcome.results if each.outcome != "done"]
    shown = outcome.results if common.verbose else _telling(unwell if common.quiet else outcome.results)
    if shown:
        show_table(
            [Column("row"), Column("outcome"), Column("what", wraps=True), Column("workflow", drop=1)],
            [
                (each.label, styled(each.outcome, OUTCOME_STYLES[each.outcome]), _what(each), each.workflow)
                for each in shown
            ],
        )
    hidden = sum(outcome.counts.values()) - len(shown)
    if hidden and not common.quiet:
        say(f"and {hidden} more of the same kind; all of them: --verbose, or whenvoca runs")
    for fault in outcome.faults:
        console(err=True).print(styled(fault, "red"), soft_wrap=True)
    for wait in outcome.waits:
        say(wait)
    _summary(outcome, common)


def _telling(results: list[RunResult]) -> list[RunResult]:
    """What a person looks at first: whatever did not go well, then the others, as many as fit a screen or two."""
    if len(results) <= _MOST_SHOWN:
        return results
    unwell = [each for each in results if each.outcome != "done"][:_MOST_SHOWN]
    return [*unwell, *[each for each in results if each.outcome == "done"][: max(3, _MOST_SHOWN - len(unwell))]]


def _what(result: RunResult) -> str:
    if result.outcome != "done":
        return result.reason + (f" ({result.mend})" if result.mend else "")
    return "; ".join(describe_effect(effect) for effect in result.effects) or "nothing to do"


def describe_effect(effect: Effect) -> str:
    """An effect in one line."""
    after = effect.after or {}
    match effect.verb:
        case "create event":
            said = f'"{after.get("title", "")}" {_when(after)} in {effect.place}'
        case "take event as made":
            said = f"its event stands already in {effect.place}"
        case "change event":
            said = f"event changed in {effect.place}: {', '.join(after)}"
        case "add row":
            said = f"row added to {effect.place}"
        case _:
            said = f"{effect.place}: {_cells(after)}"
    return said + "".join(f" ({note})" for note in effect.notes)


def _when(after: dict[str, Any]) -> str:
    """ "17 Mar 2027 21:30–02:00"; the end's day is named where it is more than a night away."""
    start, end = after.get("start"), after.get("end")
    if isinstance(start, datetime) and isinstance(end, datetime):
        end = end.astimezone(start.tzinfo)
        is_near = end.date() == start.date() or (end - start < timedelta(days=1) and end.time() < start.time())
        return f"{show_value(start)}–{show_time(end.time()) if is_near else show_value(end)}"
    if isinstance(start, date) and isinstance(end, date):
        last = end - timedelta(days=1)
        return (
            f"whole day {show_value(start)}"
            if last == start
            else f"whole days {show_value(start)} to {show_value(last)}"
        )
    return ""


def _cells(after: dict[str, Any]) -> str:
    """Written cells: those whose value is short, and how many more."""
    short = [f"{name} “{text}”" for name, value in after.items() if 0 < len(text := show_value(value)) <= 20]
    rest = len(after) - len(short)
    if not short:
        return ", ".join(after)
    return ", ".join(short) + (f" and {rest} more" if rest else "")


def _summary(outcome: Outcome, common: Common) -> None:
    counts = {
        word: sum(1 for each in outcome.results if each.outcome == word) for word in ("done", "failed", "waiting")
    }
    said = [count_of(counts["done"], "row") + " done", *(f"{n} {word}" for word, n in list(counts.items())[1:] if n)]
    if not outcome.counts and not outcome.faults:
        say("nothing new")
        if outcome.unanswered:
            verb = "waits" if outcome.unanswered == 1 else "wait"
            say(
                f"{count_of(outcome.unanswered, 'row')} that failed before {verb} for a correction: whenvoca runs --failed"
            )
        return
    say(", ".join(said))
    if counts["failed"] or counts["waiting"]:
        say_next("correct what is named and run again: only those rows run", quiet=common.quiet)
    elif counts["done"]:
        say_next("whenvoca agenda", quiet=common.quiet)


def _to_json(outcome: Outcome) -> dict[str, Any]:
    return {
        "runs": [
            {
                "run": each.run, "workflow": each.workflow, "subject": each.label, "outcome": each.outcome,
                "reason": each.reason, "mend": each.mend, "effects": [effect_to_json(effect) for effect in each.effects],
            }
            for each in outcome.results
        ],
        "faults": [{"message": fault} for fault in outcome.faults],
        "waits": list(outcome.waits),
        "unanswered": outcome.unanswered,
    }  # fmt: skip


def effect_to_json(effect: Effect) -> dict[str, Any]:
    """An effect as JSON."""
    return {
        "place": effect.place, "verb": effect.verb, "target": effect.target, "before": effect.before, "after": effect.after,
        "notes": list(effect.notes),
    }  # fmt: skip
