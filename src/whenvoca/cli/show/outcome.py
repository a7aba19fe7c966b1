"""What runs came to, for people and as JSON."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from datetime import date, datetime
from itertools import groupby
from typing import Any

from whenvoca.cli.common import Common
from whenvoca.cli.show.effects import brief_label, effect_to_json, tell_effects
from whenvoca.cli.show.output import OUTCOME_STYLES, Column, count_of, say, say_next, show_line, show_table, styled
from whenvoca.engine.running.brake import Held
from whenvoca.engine.running.outcome import HeldBack, Outcome, RunResult

MOST_SHOWN = 40


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
                    _what(each, every=common.verbose),
                    each.workflow,
                )
                for each in shown
            ],
        )
    hidden = sum(outcome.counts.values()) - len(shown)
    if hidden and not common.quiet:
        say(f"and {hidden} more of the same kind; all of them: --verbose, or whenvoca runs")
    most = len(outcome.faults) + len(outcome.waits) if common.verbose else MOST_SHOWN
    for fault in outcome.faults[:most]:
        show_line((fault, "red"), err=True, wraps=False)
    if len(outcome.faults) > most:
        say(f"and {len(outcome.faults) - most} more that cannot run; all of them: --verbose")
    for wait in outcome.waits[:most]:
        say(wait)
    if len(outcome.waits) > most:
        say(f"and {len(outcome.waits) - most} more that wait; all of them: --verbose")
    for trouble in outcome.troubles:
        say(f"not looked at: {trouble}", style="red")
    _summary(outcome, common, noun)


def _telling(results: list[RunResult]) -> list[RunResult]:
    """What a person looks at first: whatever did not go well, then the others, as many as fit a screen or two."""
    if len(results) <= MOST_SHOWN:
        return results
    unwell = [each for each in results if each.outcome != "done"][:MOST_SHOWN]
    return [*unwell, *[each for each in results if each.outcome == "done"][: max(3, MOST_SHOWN - len(unwell))]]


def _what(result: RunResult, *, every: bool) -> str:
    if result.outcome != "done":
        return result.reason + (f" ({result.fix})" if result.fix else "")
    return tell_effects(result.effects, every=every) or "nothing to do"


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
        _show_held_back(outcome.held_back)
        return
    say(", ".join(said))
    waiting = [each for each in outcome.results if each.outcome == "waiting"]
    if not counts["failed"] and waiting and all(getattr(each.trouble, "is_passing", False) for each in waiting):
        say_next("whenvoca run goes on with what waits, when the place is back", quiet=common.quiet)
    elif counts["failed"] or counts["waiting"]:
        say_next("correct what is named and run again: only those rows run", quiet=common.quiet)
    elif following := _next_after(outcome.results):
        say_next(following, quiet=common.quiet)


def _next_after(results: Sequence[RunResult]) -> str:
    """The command that shows what was done: the events, else the tasks; empty after anything else."""
    effects = [effect for each in results for effect in each.effects]
    starts = [(effect.after or effect.before or {}).get("start") for effect in effects if effect.noun == "event"]
    if starts:
        days = [each.date() if isinstance(each, datetime) else each for each in starts if isinstance(each, date)]
        return "whenvoca agenda" + (f" --from {min(days)}" if days else "")
    return "whenvoca tasks" if any(effect.noun == "task" for effect in effects) else ""


def _show_held_back(held_back: Sequence[HeldBack]) -> None:
    """Subjects whose runs were undone, by workflow, with the command that starts them again."""
    for workflow, group in groupby(held_back, lambda each: each.workflow):
        subjects = list(group)
        noun, is_one = subjects[0].noun, len(subjects) == 1
        if noun != "row":
            options = " ".join(f"--event {shlex.quote(each.key)}" for each in subjects)
        elif all(each.key == each.label for each in subjects):
            options = f"--key {shlex.quote(','.join(each.key for each in subjects))}"
        else:
            options = f"--row {','.join(each.label.removeprefix('row ') for each in subjects)}"
        held = "is held because its run was undone" if is_one else "are held because their runs were undone"
        again = f"whenvoca run {workflow} {options} starts {'it' if is_one else 'them'} again"
        say(f"{count_of(len(subjects), noun)} {held}; {again}")


def run_to_json(each: RunResult) -> dict[str, Any]:
    """One run as JSON."""
    return {
        "run": each.occurrence.run,
        "workflow": each.workflow,
        "subject": each.label,
        "outcome": each.outcome,
        "reason": each.reason,
        "fix": each.fix,
        "mend": each.fix,  # its old name, until 0.2
        "effects": [effect_to_json(effect) for effect in each.effects],
    }


def outcome_to_json(outcome: Outcome) -> dict[str, Any]:
    """The outcome of `run` and `retry` as JSON."""
    return {
        "runs": [run_to_json(each) for each in outcome.results],
        "faults": [{"message": fault} for fault in outcome.faults],
        "waits": list(outcome.waits),
        "unanswered": outcome.unanswered,
        "held_back": [
            {"workflow": each.workflow, "subject": each.label, "key": each.key} for each in outcome.held_back
        ],
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
