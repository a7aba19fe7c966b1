"""Effects carried out one after the other, where the trouble of one is not that of the next."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.errors import WhenvocaError
from whenvoca.unforeseen import to_fault


def each_by_itself(
    effects: Sequence[Effect], carry_out: Callable[[Effect], Receipt | WhenvocaError]
) -> list[Receipt | WhenvocaError]:
    """What came of each; an error, foreseen or not, is the answer for its own effect alone."""
    answers: list[Receipt | WhenvocaError] = []
    for effect in effects:
        try:
            answers.append(carry_out(effect))
        except WhenvocaError as error:
            answers.append(error)
        except Exception as error:
            answers.append(to_fault(error))
    return answers
