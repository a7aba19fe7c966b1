"""What was made for an event keeps up with it: each in a run of its own, of the kind `follow`."""

from __future__ import annotations

from collections.abc import Callable, Container, Sequence
from typing import Any

from whenvoca.engine.acting.effect_kind import Following
from whenvoca.engine.acting.keyed import Acting, Performing, with_keys
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.ledger.records import JournalEntry, Occurrence, RunRecord
from whenvoca.errors import PlaceTrouble, SourceFault

KIND = "follow"
Perform = Callable[[Occurrence, Performing, Sequence[JournalEntry]], Any]


def keep_up(stage: WorkspaceStage, calendars: Sequence[str], perform: Perform, told: Container[str]) -> list[str]:
    """Finds and does it in these calendars; answers what kept it from looking at some, those that are ``told`` left
    out."""
    waits: list[str] = []
    begun = {(each.workflow, each.place, each.subject): each for each in stage.ledger.begun_runs(KIND)}
    for name in calendars:
        try:
            found = [each for follower in stage.kinds.followers for each in follower(stage, name)]
        except (PlaceTrouble, SourceFault) as trouble:
            if name not in told:
                waits.append(f"{name} was not looked at: {trouble}")
            continue
        for each in found:
            before = begun.pop((each.workflow, name, each.subject), None)  # a crash cut it short
            _perform(stage, perform, each, before)
        for before in [each for each in begun.values() if each.place == name]:
            done = Following(before.workflow, name, before.subject, before.label, _nothing)
            _perform(stage, perform, done, before)
    return waits


def _perform(stage: WorkspaceStage, perform: Perform, each: Following, before: RunRecord | None) -> None:
    """Works it as a run; one that was begun before goes on with what it did."""
    ledger, at = stage.ledger, stage.clock.now().isoformat()
    run = before.number if before is not None else 0
    done = ledger.journal_of(run) if run else []
    run = run or ledger.begin_manual_run(each.workflow, each.place, each.subject, at, KIND, each.label)
    occurrence = Occurrence(each.workflow, each.place, each.subject, 0, at, number=-1, run=run, label=each.label)
    perform(occurrence, with_keys(each.act(), _key_of), done)


def _nothing() -> Acting:
    yield from ()


def _key_of(effect: Effect) -> EffectKey:
    return EffectKey(KIND, "", 1, f"{effect.place} {effect.target}")
