"""One look: every place is observed once, then every workflow takes up what that is for it."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.engine.running.outcome import Outcome, RunResult
from whenvoca.engine.running.run_options import RunOptions
from whenvoca.engine.seeing.observing import observe_calendar
from whenvoca.errors import PlaceTrouble, WhenvocaError
from whenvoca.language.blocks import iter_steps
from whenvoca.language.definitions import EVERY_PLACE
from whenvoca.unforeseen import tell_unforeseen


def look(
    stage: WorkspaceStage, programs: Sequence[OpenProgram], options: RunOptions, outcome: Outcome, *, first: bool
) -> tuple[int, set[str]]:
    """Answers how many occurrences are new, and which places could not be observed; the outcome hears of what is wrong.

    ``first``: faults of the data are told.
    """
    away: dict[str, str] = {}
    for source in {source.name: source for each in programs for source in each.sources.values()}.values():
        if options.look is not None and source.name.lower() not in options.look:
            continue
        try:
            before = stage.ledger.last_sequence(source.name)
            noticed = source.observe(stage.clock.now())
            outcome.seen += stage.ledger.last_sequence(source.name) - before
        except PlaceTrouble as trouble:
            away[source.name] = str(trouble)
            continue
        except WhenvocaError:
            raise
        except Exception as error:
            away[source.name] = f"{source.name}: {tell_unforeseen(error)}"
            continue
        if first:
            outcome.faults += noticed.faults
            outcome.waits += noticed.waits
            outcome.told[source.name.lower()] = [*noticed.faults, *noticed.waits]
    _watch(stage, programs, options, away)
    outcome.troubles = list(away.values())
    new = 0
    for each in programs:
        for source in each.sources.values():
            if source.name in away:
                continue
            try:
                taken = each.take_up(source)
            except WhenvocaError:
                raise
            except Exception as error:
                outcome.faults.append(f"{each.workflow.name}: {tell_unforeseen(error)}")
                continue
            outcome.faults += taken.faults
            new += taken.new
            for missed in taken.missed:
                reason = f"was due at {missed.at[:16].replace('T', ' ')}"
                outcome.hear(RunResult(missed, "missed", reason), options.kept)
    return new, set(away)


def _watch(stage: WorkspaceStage, programs: Sequence[OpenProgram], options: RunOptions, away: dict[str, str]) -> None:
    """Observes the calendars that steps want to know the past of, besides those that triggers are about."""
    steps = [step for each in programs for step in iter_steps(each.workflow) if step.definition.watches]
    named = {name for step in steps for name in step.places}
    every = stage.calendar_names() if EVERY_PLACE in named else ()
    looked_at = {name for each in programs for name in each.sources}
    for name in sorted({*named, *every} - looked_at - {EVERY_PLACE}):
        if options.look is None or name.lower() in options.look:
            try:
                observe_calendar(stage.ledger, stage.calendar(name), stage.clock.now())
            except PlaceTrouble as trouble:
                away[name] = str(trouble)
