"""A run about what stands instead of something earlier: what its workflow did about that is taken back first."""

from __future__ import annotations

from whenvoca.engine.acting.inverse_effects import INSTEAD, invert_run
from whenvoca.engine.acting.keyed import Performing, with_keys
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.engine.effects import Effect, EffectKey


def instead(context: RunContext, performing: Performing) -> Performing:
    """Takes back the runs about the earlier subjects, newest first, then works through this one."""
    about = context.subject
    runs = context.stage.runs_to_undo(
        [
            record.number
            for key in context.corrected
            for record in context.stage.runs_about(about.workflow, about.place, key)
            if record.undone is None
        ]
    )

    def to_key(effect: Effect) -> EffectKey:
        target = f"{effect.place} {effect.target}"
        return EffectKey(INSTEAD, "", context.count(INSTEAD, "", target), target)

    for record in runs:
        yield from with_keys(invert_run(context.stage, record, context.left), to_key)
    for record in runs:
        context.stage.note_undone(context.run, record)
    return (yield from performing)
