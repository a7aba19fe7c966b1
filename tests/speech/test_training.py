"""The training of the judges: the same lines give the same weights, and weights choose what they were shown."""

from __future__ import annotations

from tests.speech.fitting import fit_chance, fit_choice
from tests.speech.training import _Groups as Groups
from tests.speech.training import load_lines, read_line, train_parts
from whenvoca.speech.judging.judge import shipped


def test_a_small_sample_trains_to_the_same_numbers() -> None:
    """Twice the same lines: twice the same weights, to the last digit."""
    lines = load_lines("N")[:60]
    one, other = (train_parts(Groups(), lines) for _ in range(2))
    assert one == other
    assert len(one["title"]) > 100


def test_what_is_right_becomes_the_likeliest() -> None:
    groups = [([{"red": 1.0}, {"blue": 1.0}, {"red": 1.0, "blue": 1.0}], [False, True, False])] * 4
    weights = fit_choice(groups, restraint=0.1)
    assert weights["blue"] > 0 > weights["red"]
    sure = fit_chance(
        [{"always": 1.0, "odd": float(n % 2)} for n in range(40)], [n % 2 == 1 for n in range(40)], least=1
    )
    assert sure["odd"] > 0 > sure["always"]


def test_the_shipped_weights_read_what_they_were_trained_on() -> None:
    """Not a figure of how good they are: only that the file belongs to this code."""
    reads = [read_line(line, shipped()) for line in load_lines("P")[:80] if not line.is_email]
    assert sum(read.right[0] for read in reads) >= 0.75 * len(reads)
