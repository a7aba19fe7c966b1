"""Effects with their keys, as a run asks for them."""

from __future__ import annotations

from collections.abc import Callable, Generator
from typing import Any

from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import WaitingFault

Acting = Generator[Effect, Receipt, Any]
Performing = Generator[tuple[EffectKey, Effect], Receipt, Any]


def with_keys(acting: Acting, to_key: Callable[[Effect], EffectKey]) -> Performing:
    """The same effects, each with its key. What comes of each is handed on: its receipt, or the fault that refused it;
    a fault by which the run waits ends it."""
    answer: Receipt | None = None
    fault: RowFault | None = None
    while True:
        try:
            effect = acting.throw(fault) if fault else acting.send(answer) if answer else next(acting)
        except StopIteration as end:
            return end.value
        answer = fault = None
        try:
            answer = yield to_key(effect), effect
        except WaitingFault:
            raise
        except RowFault as refused:
            fault = refused
