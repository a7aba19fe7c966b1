"""Runs that wait for a place are tried again with growing pauses."""

from __future__ import annotations

from whenvoca.engine.running.patience import Patience


def test_pauses_grow_up_to_a_limit() -> None:
    now = [100.0]
    patience = Patience(lambda: now[0])
    assert (patience.is_due(1), patience.seconds()) == (True, None)
    pauses = []
    for tries in range(1, 60):
        patience.put_off(1, tries)
        assert not patience.is_due(1)
        assert patience.is_due(2)
        pause = patience.seconds()
        assert pause is not None
        pauses.append(pause)
        now[0] += pause
        assert (patience.is_due(1), patience.seconds()) == (True, None)
    assert pauses[:4] == [1, 2, 4, 8]
    assert pauses[-1] == 300
    assert sum(pauses) > 3 * 3600  # 59 tries take hours, not seconds
