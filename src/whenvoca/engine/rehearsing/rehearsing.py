"""Rehearsing: the same runs on a copy of the ledger in memory and on places where a write is only remembered."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.clock import PlayedClock
from whenvoca.engine.running.brake import NO_LOSSES, Held, limits_of, to_held
from whenvoca.engine.running.open_program import open_program
from whenvoca.engine.running.outcome import Outcome
from whenvoca.engine.running.presence import next_end
from whenvoca.engine.running.run_options import RunOptions
from whenvoca.engine.running.run_workflows import run_workflows
from whenvoca.engine.seeing.entry_source import EntrySource
from whenvoca.engine.seeing.strategy import JUST_BEFORE, to_mark
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
    copied: WorkspaceStage,
    workflows: Sequence[tree.Workflow],
    others: Sequence[tree.Workflow],
    options: RunOptions,
    *,
    sample: Path | None = None,
    until: datetime | None = None,
) -> Rehearsal:
    """Plays what a run of these workflows would do, on a stage whose ledger is a copy. ``others`` are named if it would
    set them off. ``sample`` is a file that stands for what the workflows' one place holds. ``until``: the clock, which
    stands at the beginning of a period, is played up to there, for workflows that wait for moments. Raises
    RequestFault."""
    instead = _instead(workflows, sample) if sample is not None else {}
    stage = copied.on(copied.places.rehearsed(instead), copied.ledger)
    for place, file in instead.items():
        _begin_with(file, place, workflows, stage)
    idle = {} if instead else _take_up(others, stage)
    if until is not None and isinstance(stage.clock, PlayedClock):
        return Rehearsal(_play(stage, stage.clock, workflows, options, until))
    done = Rehearsal(run_workflows(stage, workflows, options))
    for workflow in workflows:
        mine = [result for result in done.outcome.results if result.workflow == workflow.identity]
        effects = [effect for result in mine for effect in result.effects]
        losses = done.outcome.losses.get(workflow.identity, NO_LOSSES)
        if held := to_held(workflow.name, stage.kinds, limits_of(workflow, stage.kinds), effects, losses):
            done.held.append(held)
    for name, count in _take_up(others, stage).items() if not instead else ():
        if count > idle.get(name, 0):
            done.set_off[name] = count - idle.get(name, 0)
    return done


def _begin_with(sample: Path, place: str, workflows: Sequence[tree.Workflow], stage: WorkspaceStage) -> None:
    """Sees to it that the sample, and nothing else of its place, is what the workflows look at."""
    source, now = stage.places.source(place, stage.ledger), stage.clock.now()
    if isinstance(source, EntrySource):  # it comes on top of what has come in
        source.observe(now)
        _take_up(workflows, stage)
        for workflow in workflows:
            for occurrence in stage.ledger.waiting(workflow.identity, stage.ledger.count_waiting(workflow.identity)):
                stage.ledger.drop(occurrence, "")
        source.put_sample(sample, now)
        return
    stage.ledger.forget(place)
    if not workflows[0].trigger.definition.existing_by_default:  # what the sample says counts
        stage.ledger.set_reader(workflows[0].identity, source.name, 0)


def _play(
    stage: WorkspaceStage, clock: PlayedClock, workflows: Sequence[tree.Workflow], options: RunOptions, until: datetime
) -> Outcome:
    """Goes from moment to moment: which triggers would fire when, and what would come of it."""
    timed = [each for each in workflows if each.trigger.definition.strategy.is_timed]
    if not timed:
        raise RequestFault(
            "none of these workflows waits for a moment", fix="--from and --until play clock, begins and ends triggers"
        )
    for workflow in timed:
        stage.ledger.restart_times(workflow.identity, to_mark(clock.now() - JUST_BEFORE))
    total = Outcome()
    look = options.look
    while True:
        outcome = run_workflows(stage, timed, replace(options, look=look))
        look = frozenset()
        for result in outcome.results:
            total.hear(result, 10**9)
        total.faults += [each for each in outcome.faults if each not in total.faults]
        total.troubles = list(dict.fromkeys([*total.troubles, *outcome.troubles]))
        found = [next_end(stage.ledger), *(open_program(each, stage).next_due() for each in timed)]
        following = min((each for each in found if each is not None), default=None)
        if following is None or following > until:
            return total
        clock.move_to(following)


def _instead(workflows: Sequence[tree.Workflow], sample: Path) -> dict[str, Path]:
    for workflow in workflows:
        if not workflow.trigger.definition.takes_sample:
            fix = "a sample stands for rows of a sheet, messages, entries or calls"
            raise RequestFault(f"{workflow.name} is about none of what a sample stands for", fix=fix)
    if not sample.exists():
        raise RequestFault("there is no such file", where=str(sample))
    (place,) = {workflow.trigger.places[0].lower() for workflow in workflows}
    return {place: sample}


def _take_up(workflows: Sequence[tree.Workflow], stage: WorkspaceStage) -> dict[str, int]:
    """How much waits for each of these workflows."""
    found: dict[str, int] = {}
    for workflow in workflows:
        if workflow.settings.paused:
            continue
        try:
            program = open_program(workflow, stage)
            for source in program.sources.values():
                program.take_up(source)
        except WhenvocaError:
            continue
        found[workflow.name] = stage.ledger.count_waiting(workflow.identity)
    return found
