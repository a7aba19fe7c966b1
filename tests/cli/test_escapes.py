"""What cells and titles hold never steers the terminal, whichever command shows it."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.text import Text

from tests.conftest import REQUESTS, SETTINGS, WORKFLOW, Desk
from whenvoca.cli.show.escapes import escape, escape_styled

STEERING = ("\x1b[31m", "\x9b31m", "\u202e", "\u2066", "\x07")


@given(st.text(alphabet=st.sampled_from(["a", "\t", "\n", "ä", "\x1b", "\x9b", "\u202e", "\u200f", "\x00"])))
def test_no_steering_sign_is_left_and_nothing_else_is_touched(text: str) -> None:
    shown = escape(text)
    assert not set(shown) & set("\x1b\x9b\u202e\u200f\x00")
    assert shown == "".join(each if each in "a\t\nä" else ascii(each)[1:-1] for each in text)
    styled = escape_styled(Text(text, style="bold"))
    assert escape(styled.plain) == styled.plain


@pytest.mark.parametrize("sign", STEERING, ids=ascii)
def test_cell_with_a_steering_sign_is_shown_as_an_escape_everywhere(desk: Desk, sign: str) -> None:
    desk.settings(SETTINGS, REQUESTS).workflow(WORKFLOW).rows(f",,R-1,a{sign}b,17.03.2027,21:30,23:00")
    commands = [
        ("read", "sheet", "requests"),
        ("check",),
        ("rehearse",),
        ("run",),
        ("runs",),
        ("explain", "1"),
        ("agenda", "--from", "2027-03-17"),
        ("undo", "1"),
    ]
    for command in commands:
        told = desk.run(*command)
        assert sign[0] not in told.out + told.err, command
    assert f"a{ascii(sign[0])[1:-1]}" in desk.run("explain", "1").out  # the event itself was made without it
