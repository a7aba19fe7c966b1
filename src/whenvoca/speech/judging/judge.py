"""The trained judge: weights of marks by name, and how likely each of several candidates is by them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from importlib import resources
from math import exp, log

import msgspec

Weights = Mapping[str, Mapping[str, float]]  # by stage, by mark


@lru_cache(maxsize=1)
def shipped() -> Weights:
    """The weights that come with the program."""
    data = resources.files("whenvoca.speech.judging").joinpath("weights.json").read_bytes()
    return msgspec.json.decode(data, type=dict[str, dict[str, float]])


def score(weights: Mapping[str, float], marks: Mapping[str, float]) -> float:
    """The sum of the weights of some marks."""
    get = weights.get
    return sum(get(name, 0.0) * value for name, value in marks.items() if value)


def shares(scores: Sequence[float]) -> list[float]:
    """How likely each is, as a logarithm."""
    if not scores:
        return []
    top = max(scores)
    total = top + log(sum(exp(each - top) for each in scores))
    return [each - total for each in scores]


def chance(value: float) -> float:
    """The logistic function: a sum of weights as a chance between 0 and 1."""
    return 1 / (1 + exp(-max(min(value, 40.0), -40.0)))
