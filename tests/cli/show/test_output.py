"""How lines, tables and JSON are shown; figures of a week."""

from __future__ import annotations

import io
import json
from collections.abc import Sequence
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.cli.show import output
from whenvoca.cli.show.output import Column, iso_duration, show_json, show_line, show_table, styled, to_json
from whenvoca.values.durations import Duration


class Terminal(io.StringIO):
    """What looks like a terminal."""

    def isatty(self) -> bool:
        return True


def on_terminal(monkeypatch: pytest.MonkeyPatch) -> Terminal:
    """A terminal of 40 columns in colour; set within a test, since the capture of a test begins after its fixtures."""
    screen = Terminal()
    monkeypatch.setattr("sys.stdout", screen)
    monkeypatch.setenv("COLUMNS", "40")
    monkeypatch.delenv("NO_COLOR", raising=False)
    return screen


def test_lines_in_a_pipe_are_plain_and_whole(capsys: pytest.CaptureFixture[str]) -> None:
    show_line(("sound   ", "bold green"), "word " * 40)
    assert capsys.readouterr().out == "sound   " + "word " * 40 + "\n"


def test_lines_on_a_terminal_are_coloured_and_wrapped_between_words(monkeypatch: pytest.MonkeyPatch) -> None:
    terminal = on_terminal(monkeypatch)
    show_line(("sound ", "bold green"), "one two three four five six seven eight nine ten")
    shown = terminal.getvalue()
    assert shown.startswith("\x1b[32m\x1b[1msound \x1b[0m")
    assert shown.endswith("one two three four five six seven\neight nine ten\n")


def test_no_color_is_heeded(monkeypatch: pytest.MonkeyPatch) -> None:
    terminal = on_terminal(monkeypatch)
    monkeypatch.setenv("NO_COLOR", "1")
    show_line(("sound", "green"), wraps=False)
    assert terminal.getvalue() == "sound\n"


PIECES = st.lists(st.tuples(st.text("ab \n", max_size=60), st.sampled_from(["", "red"])), max_size=4)


@given(PIECES, st.integers(5, 50))
def test_wrapping_breaks_between_words_only_and_loses_none(parts: list[tuple[str, str]], width: int) -> None:
    whole, wrapped = "".join(text for text, _ in parts), "".join(text for text, _ in output._wrapped(parts, width))
    assert wrapped.replace("\n", "").replace(" ", "") == whole.replace("\n", "").replace(" ", "")
    assert [style for _, style in output._wrapped(parts, width)] == [style for _, style in parts]
    if len(parts) == 1:
        assert wrapped.split() == whole.split()
        assert all(len(line) <= width or " " not in line.strip() for line in wrapped.rstrip().split("\n"))


COLUMNS = (
    Column("about"),
    Column("what", wraps=True),
    Column("workflow", drop=1),
    Column("number", drop=2, align="right"),
)
ROW = ("R-0017", "create a rather long event with many words in it", "slot-requests", 7)


@pytest.mark.parametrize(
    ("width", "titles"),
    [(100, ["about", "what", "workflow", "number"]), (50, ["about", "what", "workflow"]), (40, ["about", "what"])],
)
def test_tables_leave_out_what_tells_least(
    width: int, titles: Sequence[str], monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    show_table(COLUMNS, [ROW])
    shown = capsys.readouterr().out
    assert shown.split("\n")[0].split() == titles
    assert max(map(len, shown.split("\n"))) <= width
    assert "R-0017" in shown


JSON = [
    (datetime(2027, 3, 17, 21, 30, tzinfo=UTC), "2027-03-17T21:30:00+00:00"),
    (date(2027, 3, 17), "2027-03-17"),
    (time(21, 30), "21:30"),
    (time(21, 30, 5), "21:30:05"),
    (Duration(seconds=5400), "PT1H30M"),
    (timedelta(hours=26), "PT26H"),
    (Decimal("2.5"), 2.5),
    ({"a": (1, None)}, {"a": [1, None]}),
    ({1}, [1]),
    (True, True),
]


@pytest.mark.parametrize(("value", "shown"), JSON, ids=[str(shown) for _, shown in JSON])
def test_values_as_json_has_them(value: Any, shown: Any) -> None:
    assert to_json(value) == shown


SPANS = [
    (Duration(), "PT0S"),
    (Duration(months=2, days=1), "P2M1D"),
    (Duration(seconds=-90), "-PT1M30S"),
    (Duration(days=3, seconds=3600), "P3DT1H"),
]


@pytest.mark.parametrize(("span", "text"), SPANS)
def test_spans_as_iso_8601_has_them(span: Duration, text: str) -> None:
    assert iso_duration(span) == text


def test_json_is_one_document_and_a_line_where_asked(capsys: pytest.CaptureFixture[str]) -> None:
    show_json({"title": "Inês", "at": date(2027, 3, 17)})
    show_json({"title": "Inês"}, lines=True)
    whole = capsys.readouterr().out
    first, _, second = whole.rpartition('{"title')
    assert json.loads(first) == {"title": "Inês", "at": "2027-03-17"}
    assert '{"title' + second == '{"title":"Inês"}\n'


def test_a_long_table_is_the_same_as_a_short_one(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    columns = [Column("day"), Column("title", wraps=True), Column("count", align="right"), Column("more", drop=1)]
    title = "A talk about nebulae that takes more room than there is on a line of a terminal of eighty signs"
    rows = [(f"day {n}" if n % 3 else "", styled(title[: 7 * n], "bold"), n, "x" * (n % 5)) for n in range(12)]
    monkeypatch.setenv("COLUMNS", "80")
    show_table(columns, rows)
    short = capsys.readouterr().out
    monkeypatch.setattr("whenvoca.cli.show.output._LONG", 3)
    monkeypatch.setattr("whenvoca.cli.show.output._AT_ONCE", 5)
    show_table(columns, rows)
    assert [line.rstrip() for line in capsys.readouterr().out.splitlines()] == [
        line.rstrip() for line in short.splitlines()
    ]
