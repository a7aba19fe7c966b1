"""Rehearsing: the same runs on a copy of the ledger in memory and on places where a write is only remembered."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.engine.clock import Clock, PlayedClock
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.running.brake import Held, limits_of, to_held
from whenvoca.engine.running.open_program import OpenPlaces, open_program
from whenvoca.engine.running.outcome import Outcome
from whenvoca.engine.running.presence import next_end
from whenvoca.engine.running.run_options import RunOptions
from whenvoca.engine.running.run_workflows import run_workflows
from whenvoca.engine.seeing.starts import next_due, to_mark
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import ExitCode, RequestFault, WhenvocaError
from whenvoca.language import tree


class Rehearsal(Struct):
    """What would happen."""

    outcome: Outcome
    held: list[Held] = field(default_factory=list)  # batches that the brake would hold
    set_off: dict[str, int] = field(default_factory=dict)  # other workflows, and how many runs of theirs

    @property
    def exit_code(self) -> ExitCode:
        """As that of a run."""
        return ExitCode.NEEDS_YES if self.held and self.outcome.exit_code is ExitCode.DONE else self.outcome.exit_code


def rehearse(
    workspace: Workspace,
    workflows: Sequence[tree.Workflow],
    others: Sequence[tree.Workflow],
    places: OpenPlaces,
    clock: Clock,
    *,
    request: RunOptions,
    sample: Path | None = None,
    until: datetime | None = None,
) -> Rehearsal:
    """Plays what a run of these workflows would do. ``others`` are named if it would set them off. ``sample`` is a
    file whose rows stand for those of the one workflow's sheet. ``until``: the clock, which stands at the beginning of
    a period, is played up to there, for workflows that wait for moments."""
    ledger = SqliteLedger.copy_of(workspace.state_folder / "ledger.sqlite")
    try:
        instead = _instead(workflows, sample) if sample is not None else {}
        rehearsed = places.rehearsed(instead)
        for place in instead:
            ledger.forget(place)
            if place in rehearsed.chats:
                ledger.set_reader(workflows[0].identity, rehearsed.chats[place].name, 0)  # what the sample says counts
        idle = {} if instead else _take_up(others, rehearsed, ledger, clock, workspace)
        if until is not None and isinstance(clock, PlayedClock):
            return Rehearsal(_play(workspace, workflows, rehearsed, ledger, clock, request, until))
        done = Rehearsal(run_workflows(workspace, workflows, rehearsed, ledger, clock, request))
        for workflow in workflows:
            mine = [result for result in done.outcome.results if result.workflow == workflow.identity]
            effects = [effect for result in mine for effect in result.effects]
            if held := to_held(workflow.name, limits_of(workflow), effects, 0):
                done.held.append(held)
        for name, count in _take_up(others, rehearsed, ledger, clock, workspace).items() if not instead else ():
            if count > idle.get(name, 0):
                done.set_off[name] = count - idle.get(name, 0)
        return done
    finally:
        ledger.close()


def _play(
    workspace: Workspace,
    workflows: Sequence[tree.Workflow],
    places: OpenPlaces,
    ledger: SqliteLedger,
    clock: PlayedClock,
    request: RunOptions,
    until: datetime,
) -> Outcome:
    """Goes from moment to moment: which triggers would fire when, and what would come of it."""
    timed = [
        each for each in workflows if each.trigger and each.trigger.definition.watches in ("starts", "ends", "clock")
    ]
    if not timed:
        raise RequestFault(
            "none of these workflows waits for a moment", fix="--from and --until play clock, begins and ends triggers"
        )
    for workflow in timed:
        ledger.restart_times(workflow.identity, to_mark(clock.now() - timedelta(microseconds=1)))
    total = Outcome()
    look = request.look
    while True:
        outcome = run_workflows(workspace, timed, places, ledger, clock, replace(request, look=look))
        look = frozenset()
        for result in outcome.results:
            total.hear(result, 10**9)
        total.faults += [each for each in outcome.faults if each not in total.faults]
        total.troubles = list(dict.fromkeys([*total.troubles, *outcome.troubles]))
        following = _next(workspace, timed, places, ledger, clock)
        if following is None or following > until:
            return total
        clock.move_to(following)


def _next(
    workspace: Workspace, workflows: Sequence[tree.Workflow], places: OpenPlaces, ledger: SqliteLedger, clock: Clock
) -> datetime | None:
    found = [next_end(ledger)]
    for workflow in workflows:
        program = open_program(workflow, places, ledger, workspace.zone)
        found.append(next_due(ledger, program.program, clock.now(), program.zone or workspace.zone))
    return min((each for each in found if each is not None), default=None)


def _instead(workflows: Sequence[tree.Workflow], sample: Path) -> dict[str, Path]:
    (workflow,) = workflows
    trigger = workflow.trigger
    if trigger is None or trigger.definition.subject not in ("row", "message"):
        fix = "a sample stands for rows of a sheet or for messages"
        raise RequestFault(f"{workflow.name} is about neither rows nor messages", fix=fix)
    if not sample.exists():
        raise RequestFault("there is no such file", where=str(sample))
    return {trigger.places[0].lower(): sample}


def _take_up(
    workflows: Sequence[tree.Workflow], places: OpenPlaces, ledger: SqliteLedger, clock: Clock, workspace: Workspace
) -> dict[str, int]:
    """How much waits for each of these workflows."""
    found: dict[str, int] = {}
    for workflow in workflows:
        if workflow.settings.paused:
            continue
        try:
            program = open_program(workflow, places, ledger, workspace.zone)
            for source in program.sources.values():
                program.take_up(source, ledger, places, clock.now(), workspace.root)
        except WhenvocaError:
            continue
        found[workflow.name] = ledger.count_waiting(workflow.identity)
    return found
