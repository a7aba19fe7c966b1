"""The standard layout: stable, keeps comments and meaning."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.language.reader import read_workflow
from whenvoca.language.tidy import tidy_text
from whenvoca.open_workspace import VOCABULARY

UNTIDY = """\
# first
title “Slots”


brake    20 deletions
when requests gains a row
\twhere Answer is empty      # only new ones
create event in domes as slot
      title \t "{Target}   x"
      start   Night-of at From # joined
      details \"\"\"
           two
             lines
           \"\"\"
      attendees Who,
            "ines"   # and she
if Answer is   empty
    change row
        Answer   "granted"
else
    stop
# last
"""
TIDY = """\
# first
title  "Slots"

brake  20 deletions
when requests gains a row
  where  Answer is empty                      # only new ones
create event in domes as slot
  title      "{Target}   x"
  start      Night-of at From                 # joined
  details \"\"\"
    two
      lines
    \"\"\"
  attendees  Who,
             "ines"                           # and she
if Answer is empty
  change row
    Answer  "granted"
else
  stop
# last
"""


def test_untidy_file_is_laid_out() -> None:
    assert tidy_text(UNTIDY, VOCABULARY) == TIDY
    assert tidy_text(TIDY, VOCABULARY) == TIDY


@pytest.mark.parametrize("name", ["slot-requests", "school-visits"])
def test_demo_workflows_are_tidy(name: str) -> None:
    text = (Path("src/whenvoca/demo/files/workflows") / f"{name}.voca").read_text(encoding="utf-8")
    assert tidy_text(text, VOCABULARY) == text


def test_file_whose_lines_cannot_be_told_apart_is_refused() -> None:
    assert tidy_text("when a gains a row\nif x\n    stop\n  stop\n", VOCABULARY) is None


VALUES = st.sampled_from(
    [
        "Target",
        '"{Target} # no comment"',
        "Night-of at From",
        "1 hour  30 minutes",
        'if Answer is empty then "a" else "{lower("B  c")}"',
        'Who,"ines"',
        "empty",
    ]
)
COMMENTS = st.sampled_from(["", "# why", '   # "quoted" {odd', "\t#tab"])
FIELDS = st.lists(
    st.tuples(st.sampled_from(["title", "start", "end", "location", "details"]), VALUES, COMMENTS),
    min_size=1,
    max_size=4,
)


@st.composite
def workflows(draw: st.DrawFn) -> str:
    """Workflows in any layout that can be read."""
    blank = st.sampled_from([" ", "  ", "    ", "\t"])
    lines = [
        draw(st.sampled_from(['title "x"', "title  “y”", "# note"])),
        "when  requests gains a row" + draw(COMMENTS),
    ]
    for number in range(draw(st.integers(0, 3))):
        indent = " " * draw(st.integers(1, 6))
        lines.append(draw(st.sampled_from(["", f"create event in domes as e{number}", f"if Pupils > {number}"])))
        if lines[-1].startswith("if"):
            lines += [
                f"{indent}let n{number} = 3{draw(COMMENTS)}",
                *[f"{indent}# inside"] * draw(st.integers(0, 1)),
                f"{indent}stop",
            ]
        elif lines[-1]:
            lines += [f"{indent}{name}{draw(blank)}{value}{comment}" for name, value, comment in draw(FIELDS)]
    return "\n".join([*lines, *[""] * draw(st.integers(0, 2)), "stop"]) + "\n"


@given(workflows())
def test_tidying_keeps_the_meaning_and_the_comments_and_is_stable(text: str) -> None:
    tidied = tidy_text(text, VOCABULARY)
    assert tidied is not None
    assert read_workflow("w", "w", tidied, VOCABULARY)[0] == read_workflow("w", "w", text, VOCABULARY)[0]
    assert tidy_text(tidied, VOCABULARY) == tidied
    assert tidied.count("#") == text.count("#")


@given(st.text(alphabet=' "{}#\nabcif:,.=-\\\t“”', max_size=80))
def test_any_text_whatever_is_read_and_laid_out_without_an_exception(text: str) -> None:
    read_workflow("w", "w", text, VOCABULARY)
    tidied = tidy_text(text, VOCABULARY)
    assert tidied is None or tidy_text(tidied, VOCABULARY) == tidied
