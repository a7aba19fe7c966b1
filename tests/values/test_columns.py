"""Columns read as a whole: kind, status, format, and what each cell gives."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any

import pytest

from tests.conftest import ids
from whenvoca.values.columns import ColumnHints, Unread, read_column
from whenvoca.values.dates import DAY_FIRST, MONTH_FIRST
from whenvoca.values.durations import Duration
from whenvoca.values.kinds import Kind
from whenvoca.values.numbers import COMMA

X = Unread
D = date(2027, 4, 7)
# heading, cells, kind, status, format, values (X: unread)
COLUMNS: list[tuple[Any, ...]] = [
    ("one decides", ["07/04/2027", "18/04/2027"], "date", "ok", DAY_FIRST, [D, date(2027, 4, 18)]),
    ("month first", ["04/07/2027", "04/18/2027"], "date", "ok", MONTH_FIRST, [D, date(2027, 4, 18)]),
    ("none decides", ["07/04/2027", "08/04/2027"], "date", "ambiguous", "", [X, X]),
    ("same either way", ["05/05/2027"], "date", "ok", DAY_FIRST, [date(2027, 5, 5)]),
    ("an impossible one decides nothing", ["07/04/2027", "31/04/2027"], "date", "ambiguous", "", [X, X]),
    (
        "contradictory",
        ["17/04/2027", "04/17/2027", "03/04/2027"],
        "date",
        "contradictory",
        "",
        [date(2027, 4, 17)] * 2 + [X],
    ),
    ("typed beside text", [D, "18.04.2027"], "date", "ok", DAY_FIRST, [D, date(2027, 4, 18)]),
    ("typed", [D, None, D], "date", "ok", "typed", [D, None, D]),
    ("iso", ["2027-04-07"], "date", "ok", "year first", [D]),
    ("month names", ["7 April 2027", "Apr 7, 2027"], "date", "ok", "month names", [D, D]),
    ("month names do not decide for numbers", ["7 April 2027", "03/04/2027"], "date", "ambiguous", "", [D, X]),
    (
        "misfits",
        ["17/04/2027", "tbd", "18/04/2027"],
        "date",
        "ok",
        DAY_FIRST,
        [date(2027, 4, 17), X, date(2027, 4, 18)],
    ),
    ("Night date serials", [46119, 46120], "date", "ok", "serial (1900)", [date(2026, 4, 7), date(2026, 4, 8)]),
    (
        "Night of, texts of serials",
        ["46119", "46120"],
        "date",
        "ok",
        "serial (1900)",
        [date(2026, 4, 7), date(2026, 4, 8)],
    ),
    ("Amount", [46119, 46120], "number", "ok", "typed", [46119, 46120]),
    ("serial among dates", [46119, "17/04/2027"], "date", "ok", DAY_FIRST, [date(2026, 4, 7), date(2027, 4, 17)]),
    ("Begin", ["21:30", "9:05"], "time", "ok", "24-hour", [time(21, 30), time(9, 5)]),
    ("Begin 12-hour", ["9:30 pm", "noon"], "time", "ok", "12-hour", [time(21, 30), time(12)]),
    (
        "Begin without am or pm among them",
        ["9:30 pm", "10:00", "13:00"],
        "time",
        "ok",
        "12-hour",
        [time(21, 30), X, time(13)],
    ),
    (
        "Begin with hours written as on the 24-hour clock",
        ["9:30 pm", "10h15", "9 Uhr", "11 hrs", "7 o'clock"],
        "time",
        "ok",
        "12-hour",
        [time(21, 30), time(10, 15), time(9), time(11), X],
    ),
    ("Begin with points", ["9.30", "10.15"], "time", "ok", "24-hour", [time(9, 30), time(10, 15)]),
    ("Price with points", ["9.30", "10.15"], "number", "ok", "decimal point", [Decimal("9.3"), Decimal("10.15")]),
    ("typed times", [time(21, 30), "22:00"], "time", "ok", "24-hour", [time(21, 30), time(22)]),
    ("fraction of a day among times", ["21:30", Decimal("0.5")], "time", "ok", "24-hour", [time(21, 30), time(12)]),
    (
        "moments",
        ["17.04.2027 21:30", "18.04.2027"],
        "moment",
        "ok",
        DAY_FIRST,
        [datetime(2027, 4, 17, 21, 30), datetime(2027, 4, 18)],
    ),
    (
        "typed moments",
        [datetime(2027, 4, 7, 5), D],
        "moment",
        "ok",
        "typed",
        [datetime(2027, 4, 7, 5), datetime(2027, 4, 7)],
    ),
    ("comma decides", ["1,5", "1,234"], "number", "ok", COMMA, [Decimal("1.5"), Decimal("1.234")]),
    ("thousands or parts", ["1,234"], "number", "ambiguous", "", [X]),
    ("plain numbers", ["12", "-5"], "number", "ok", "", [12, -5]),
    ("a number missing", ["24", "about 20", "30"], "number", "ok", "", [24, X, 30]),
    ("noughts in front", ["007", "012"], "text", "ok", "", ["007", "012"]),
    ("ticks", ["x", None, "X"], "yes-no", "ok", "", [True, None, True]),
    ("yes and no", ["yes", "No"], "yes-no", "ok", "", [True, False]),
    (
        "addresses",
        ["a@example.org; b@example.org", "C <c@example.org>"],
        "addresses",
        "ok",
        "",
        [["a@example.org", "b@example.org"], ["c@example.org"]],
    ),
    ("no address", ["a@example.org", "nobody"], "addresses", "ok", "", [["a@example.org"], X]),
    (
        "durations",
        ["90 min", "1 h 30 min", "PT2H"],
        "duration",
        "ok",
        "",
        [Duration(seconds=5400)] * 2 + [Duration(seconds=7200)],
    ),
    ("typed durations", [timedelta(hours=30)], "duration", "ok", "typed", [Duration(seconds=108000)]),
    ("words", ["M 42", "M 13"], "text", "ok", "", ["M 42", "M 13"]),
    ("empty", [None, None], "text", "ok", "", [None, None]),
]


@pytest.mark.parametrize(("name", "cells", "kind", "status", "form", "values"), COLUMNS, ids=ids(COLUMNS))
def test_column_is_read_as_a_whole(
    name: str, cells: list[Any], kind: str, status: str, form: str, values: list[Any]
) -> None:
    reading = read_column(name, cells)
    assert (reading.kind, reading.status, reading.format) == (kind, status, form)
    read = [reading.read(cell) for cell in cells]
    assert [Unread if isinstance(value, Unread) else value for value in read] == values


def test_ambiguous_column_names_both_readings_and_the_setting() -> None:
    reading = read_column("Day", ["07/04/2027", "18 April 2027"])
    assert reading.readings == {DAY_FIRST: [D, date(2027, 4, 18)], MONTH_FIRST: [date(2027, 7, 4), date(2027, 4, 18)]}
    doubt = reading.read("07/04/2027")
    assert doubt == Unread(
        "07/04/2027",
        "07/04/2027 can be 2027-04-07 (day first) or 2027-07-04 (month first), and no other cell of the column decides",
        'say which at the place in whenvoca.toml: dates = "day first" or dates = "month first"',
        waits=True,
    )


def test_declared_order_decides_and_what_does_not_fit_it_is_a_fault() -> None:
    reading = read_column("Day", ["17/04/2027", "04/17/2027"], ColumnHints(dates=MONTH_FIRST))
    assert reading.status == "ok"
    assert reading.read("04/17/2027") == date(2027, 4, 17)
    assert reading.read("17/04/2027").fault == "17/04/2027 is no date read month first, only read day first"


@pytest.mark.parametrize(
    ("kind", "cell", "value"),
    [
        (Kind.TIME, "9", time(9)),
        (Kind.TIME, "0930", time(9, 30)),
        (Kind.TEXT, 12, "12"),
        (Kind.DURATION, "1:30", Duration(seconds=5400)),
        (Kind.NUMBER, "1.5", Decimal("1.5")),
        (Kind.YES_NO, 1, True),
        (Kind.DATE, 46119, date(2026, 4, 7)),
    ],
)
def test_declared_kind_overrides_what_is_worked_out(kind: Kind, cell: Any, value: Any) -> None:
    assert read_column("X", [cell], ColumnHints(kind=kind)).read(cell) == value


def test_1904_system_is_heeded() -> None:
    assert read_column("Day", [44657], ColumnHints(kind=Kind.DATE, epoch_1904=True)).read(44657) == date(2026, 4, 7)


def test_people_may_stand_among_addresses() -> None:
    reading = read_column("Who", ["a@example.org", "Ines, rui"], ColumnHints(names=frozenset({"ines", "rui"})))
    assert reading.read("Ines, rui") == ["Ines", "rui"]
    assert isinstance(reading.read("nobody"), Unread)
