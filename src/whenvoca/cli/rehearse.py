"""`whenvoca rehearse`: what would happen, as a list of effects, with nothing written."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click
from msgspec.structs import replace

from whenvoca.cli.common import Common, common_options, parse_moment
from whenvoca.cli.prompts import Answers, give_option
from whenvoca.cli.show.effects import count_effects, effect_to_json, show_effects
from whenvoca.cli.show.faults import fault_to_json, said_waiting, show_fault
from whenvoca.cli.show.output import OUTCOME_STYLES, console, count_of, say, say_next, show_json, styled
from whenvoca.cli.subject_options import choice_options, to_active
from whenvoca.engine.rehearsing.rehearsing import Rehearsal, rehearse
from whenvoca.engine.running.run_options import RunOptions, SubjectChoice
from whenvoca.errors import ExitCode, RequestFault
from whenvoca.language.faults import nearest
from whenvoca.language.tree import Workflow
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.sample_file import load_sample


@click.command("rehearse")
@click.argument("workflows", nargs=-1, metavar="[WORKFLOW]...")
@choice_options
@give_option
@click.option(
    "--sample",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="What this file holds instead of what its place does: rows of a sheet, messages, an entry of a form, a call.",
)
@click.option("--from", "begin", default="", metavar="MOMENT", help="Play the clock from then on: --from 2027-03-19.")
@click.option("--until", default="", metavar="MOMENT", help='Play it up to then: --until "2027-03-22 20:00".')
@common_options
def command(
    common: Common,
    workflows: tuple[str, ...],
    choice: SubjectChoice | None,
    sample: Path | None,
    given: dict[str, str],
    begin: str,
    until: str,
) -> int:
    """Show what a run would do, as a list of effects, old → new, by place. Nothing is written anywhere.

    The very same steps run as in `run`, on places that are read for real; a later step sees what an earlier one would
    have done. Exit status 1 if a run would fail, 4 if the brake would hold a batch. With --from and --until the clock
    is played through a period: which triggers by the clock, and which starts and ends of events would fire when.

    Example: whenvoca rehearse slot-requests --row 7,9-12
    """
    if bool(begin) != bool(until):
        raise RequestFault("--from and --until go together", fix='such as --from 2027-03-19 --until "2027-03-22 20:00"')
    if begin:
        common = replace(common, now=begin)
    opened = common.open()
    ends = parse_moment(until, opened.workspace.zone, "--until") if until else None
    opened.places.only_look()
    result, waiting = opened.check(workflows).without_waiting()
    if result.hard_faults:
        if common.as_json:
            show_json({"runs": [], "faults": [fault_to_json(fault) for fault in result.hard_faults]})
        for fault in result.hard_faults if not common.as_json else ():
            show_fault(fault, err=True)
        return ExitCode.WRONG
    active = to_active(result, choice)
    if sample is not None:
        active = _for_sample(active, sample, opened, is_named=bool(workflows))
    others = (
        [each for each in opened.check().workflows if each.name not in {one.name for one in active}]
        if workflows
        else []
    )
    answers = Answers(given, active, opened.workspace.zone, opened.workspace.dates, may_ask=not common.as_json)
    by_hand = frozenset(each.identity for each in active if workflows and ends is None)
    options = RunOptions(
        choice, kept=10**9, is_rehearsal=True, by_hand=by_hand, answer=answers.answer, pick=answers.pick
    )
    with opened.copied_ledger() as ledger:
        done = rehearse(opened.stage(ledger), active, others, options, sample=sample, until=ends)
    done.outcome.troubles += [said_waiting(fault) for fault in waiting]
    if ends is None:
        done.outcome.results.sort(key=lambda each: (each.workflow, each.occurrence.run))
    if common.as_json:
        show_json(_to_json(done))
    else:
        show_zone = opened.workspace.zone if ends is not None else None
        _show(done, common, show_zone, is_sample=sample is not None)
    return done.exit_code


def _for_sample(active: list[Workflow], sample: Path, opened: OpenWorkspace, *, is_named: bool) -> list[Workflow]:
    """The workflows that the sample is for: those that look at its place, where it names one. Raises RequestFault."""
    if is_named or sample.suffix != ".json" or len(active) == 1:
        if len(active) != 1:
            raise RequestFault("which workflow is meant?", fix="name one: whenvoca rehearse NAME --sample FILE")
        return active
    place = str(load_sample(sample)["place"])
    if place.lower() not in [each.lower() for each in opened.places.names()]:
        raise RequestFault(f'there is no place "{place}"', where=str(sample), fix=nearest(place, opened.places.names()))
    found = [each for each in active if place.lower() in [name.lower() for name in each.trigger.places]]
    if not found:
        raise RequestFault(f"no workflow looks at {place}", where=str(sample))
    return found


_WOULD = {"done": "would be done", "failed": "would fail", "waiting": "would wait"}


def _moment(text: str, zone: ZoneInfo) -> str:
    return f"{datetime.fromisoformat(text).astimezone(zone):%a %d %b %H:%M}"


def _show(done: Rehearsal, common: Common, zone: ZoneInfo | None, *, is_sample: bool) -> None:
    for result in done.outcome.results:
        when = f"{_moment(result.occurrence.at, zone)} · " if zone is not None and result.occurrence.at else ""
        head = f"{when}{result.workflow} · {result.label}: "
        line = styled(head, "bold")
        said = _WOULD.get(result.outcome, result.outcome)
        line.append(said, OUTCOME_STYLES.get(result.outcome, ""))
        if result.reason:
            line.append(f": {result.reason}")
        console().print(line, soft_wrap=True)
        show_effects(result.effects, {result.occurrence.subject: result.label})
    for fault in done.outcome.faults:
        console().print(styled(fault, "red"), soft_wrap=True)
    for trouble in done.outcome.troubles:
        say(f"not looked at: {trouble}", style="red")
    for wait in done.outcome.waits:
        say(wait)
    for held in done.held:
        say(f"the brake would hold this, and run would ask: {held.said}", style="yellow")
    for name, count in done.set_off.items():
        say(f"and would set off {name}, {count_of(count, 'run')}")
    if not done.outcome.results and not done.outcome.faults:
        say("nothing would happen")
        return
    effects = [effect for result in done.outcome.results for effect in result.effects]
    runs = count_of(len(done.outcome.results), "run")
    say(f"{runs}: {count_effects(effects) or 'nothing to write'}; nothing was written")
    if not is_sample:
        say_next("whenvoca run", quiet=common.quiet)


def _to_json(done: Rehearsal) -> dict[str, Any]:
    return {
        "runs": [
            {
                "workflow": each.workflow,
                "subject": each.label,
                "at": each.occurrence.at,
                "outcome": each.outcome,
                "reason": each.reason,
                "fix": each.fix,
                "mend": each.fix,  # its old name, until 0.2
                "effects": [effect_to_json(effect) for effect in each.effects],
            }
            for each in done.outcome.results
        ],
        "faults": [{"message": fault} for fault in done.outcome.faults],
        "waits": list(done.outcome.waits),
        "troubles": list(done.outcome.troubles),
        "held": [
            {"workflow": held.workflow, "what": held.what, "count": held.count, "limit": held.limit}
            for held in done.held
        ],
        "sets_off": dict(done.set_off),
    }
