"""What was made for an event keeps up with it: each in a run of its own, of the kind `follow`."""

from __future__ import annotations

from collections.abc import Callable, Container, Sequence
from functools import partial
from itertools import count
from typing import Any

from whenvoca.engine.acting.keyed import Performing, with_keys
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.ledger.records import JournalEntry, Occurrence
from whenvoca.errors import PlaceTrouble, SourceFault

KIND = "follow"
Perform = Callable[[Occurrence, Performing, Sequence[JournalEntry]], Any]


def keep_up(stage: WorkspaceStage, calendars: Sequence[str], perform: Perform, told: Container[str]) -> list[str]:
    """Finds and does it in these calendars; answers what kept it from looking at some, those that are ``told`` left
    out."""
    waits: list[str] = []
    for name in calendars:
        try:
            found = [each for follower in stage.kinds.followers for each in follower(stage, name)]
        except (PlaceTrouble, SourceFault) as trouble:
            if name not in told:
                waits.append(f"{name} was not looked at: {trouble}")
            continue
        for each in found:
            at, numbers = stage.clock.now().isoformat(), count(1)
            run = stage.ledger.begin_manual_run(each.workflow, name, each.subject, at, KIND, each.label)
            occurrence = Occurrence(each.workflow, name, each.subject, 0, at, number=-1, run=run, label=each.label)
            perform(occurrence, with_keys(each.act(), partial(_key_of, numbers)), ())
    return waits


def _key_of(numbers: count[int], effect: Effect) -> EffectKey:
    return EffectKey(KIND, "", next(numbers), f"{effect.place} {effect.target}")
