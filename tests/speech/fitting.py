"""Fits weights of marks: the likeliest of several candidates is to be a right one, whichever of the right ones."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np
from scipy.optimize import minimize
from scipy.sparse import csr_matrix

Marks = Mapping[str, float]
Group = tuple[Sequence[Marks], Sequence[bool]]  # the candidates of one text, and which are right


def _columns(marks: list[set[str]], least: int) -> dict[str, int]:
    counts: Counter[str] = Counter()
    for each in marks:
        counts.update(each)
    return {name: n for n, name in enumerate(sorted(name for name, count in counts.items() if count >= least))}


def _matrix(rows: Sequence[Marks], columns: Mapping[str, int]) -> csr_matrix:
    places, names, values = [], [], []
    for n, marks in enumerate(rows):
        for name, value in marks.items():
            if value and name in columns:
                places.append(n)
                names.append(columns[name])
                values.append(value)
    return csr_matrix((values, (places, names)), shape=(len(rows), len(columns)))


def fit_choice(groups: Sequence[Group], *, restraint: float = 0.5, least: int = 3) -> dict[str, float]:
    """The weights by which a right candidate of each group is the likeliest (a softmax, any right one counting).

    ``restraint`` keeps weights small (L2); marks in fewer than ``least`` groups get none.
    """
    some = [(marks, right) for marks, right in groups if any(right) and not all(right)]
    if not some:
        return {}
    columns = _columns([{name for each in marks for name in each} for marks, _ in some], least)
    matrix = _matrix([each for marks, _ in some for each in marks], columns)
    is_right = np.array([each for _, right in some for each in right], dtype=float)
    begins = np.cumsum([0, *[len(marks) for marks, _ in some]])[:-1]
    group = np.repeat(np.arange(len(some)), [len(marks) for marks, _ in some])

    def loss(weights: np.ndarray) -> tuple[float, np.ndarray]:
        scores = matrix @ weights
        top = np.maximum.reduceat(scores, begins)
        parts = np.exp(scores - top[group])
        total, right = np.add.reduceat(parts, begins), np.add.reduceat(parts * is_right, begins) + 1e-300
        slope = matrix.T @ (parts / total[group] - parts * is_right / right[group])
        value = float(np.sum(np.log(total) - np.log(right))) + 0.5 * restraint * float(weights @ weights)
        return value, slope + restraint * weights

    found = minimize(loss, np.zeros(len(columns)), jac=True, method="L-BFGS-B", options={"maxiter": 120}).x
    return _kept(columns, found)


def fit_chance(
    rows: Sequence[Marks], right: Sequence[bool], *, restraint: float = 30.0, least: int = 8
) -> dict[str, float]:
    """The weights of a logistic model that tells how likely something is right; "always" is its constant."""
    columns = _columns([set(each) for each in rows], least)
    matrix = _matrix(rows, columns)
    goal = np.array(right, dtype=float)
    free = np.array([0.0 if name == "always" else 1.0 for name in columns])

    def loss(weights: np.ndarray) -> tuple[float, np.ndarray]:
        scores = matrix @ weights
        value = float(np.sum(np.logaddexp(0, scores) - goal * scores)) + 0.5 * restraint * float(
            (free * weights) @ weights
        )
        slope = matrix.T @ (1 / (1 + np.exp(-scores)) - goal) + restraint * free * weights
        return value, slope

    found = minimize(loss, np.zeros(len(columns)), jac=True, method="L-BFGS-B", options={"maxiter": 400}).x
    return _kept(columns, found)


def _kept(columns: Mapping[str, int], found: np.ndarray) -> dict[str, float]:
    return {name: round(float(found[n]), 4) for name, n in columns.items() if abs(found[n]) > 0.0005}
