"""Runs turned round: what they did, backwards, as far as nobody has changed it since."""

from __future__ import annotations

from whenvoca.engine.acting.effect_kind import Inverse
from whenvoca.engine.acting.program import TroubleFault
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import Receipt
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.errors import RowFault

INSTEAD = "instead"  # in keys: what took back an earlier run, since its subject was corrected


def invert_run(stage: Stage, record: RunRecord, left: list[str], *, names_told: bool = False) -> Inverse:
    """The effects of a run turned round, the last one first. ``left`` hears of what somebody changed since, and with
    ``names_told`` of what was told to others and cannot be undone. An earlier run that it took back stays so.

    Raises TroubleFault where a place kept some of them from being done, when the others are done.
    """
    troubles: list[TroubleFault] = []
    for entry in reversed(stage.effects_of(record.number)):
        if entry.key.step == INSTEAD:
            continue
        kind = stage.kinds.of(entry.effect)
        if kind.invert is not None:
            try:
                yield from _as_far_as_it_goes(kind.invert(stage, entry.effect, left), left)
            except TroubleFault as fault:
                troubles.append(fault)
        elif names_told and kind.told_as is not None:
            left.append(f"{entry.effect.place}: {kind.told_as(entry.effect)} cannot be taken back")
    if troubles:
        raise troubles[0]


def _as_far_as_it_goes(inverting: Inverse, left: list[str]) -> Inverse:
    """An effect that is refused ends it."""
    answer: Receipt | None = None
    while True:
        try:
            effect = next(inverting) if answer is None else inverting.send(answer)
        except StopIteration:
            return
        try:
            answer = yield effect
        except TroubleFault:
            raise
        except RowFault as fault:
            left.append(f"{effect.place}: {fault.message}")
            return
