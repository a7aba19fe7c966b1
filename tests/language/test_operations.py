"""What values do with each other: reckoning, comparing, and the functions of the language."""

from __future__ import annotations

from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.errors import RowFault
from whenvoca.language.operations import (
    FUNCTIONS,
    TEXT_RELATIONS,
    calculate,
    compare_order,
    is_same,
    to_instant,
    to_list,
)
from whenvoca.values.durations import Duration

AZORES = ZoneInfo("Atlantic/Azores")
NOON = datetime(2027, 3, 17, 12, tzinfo=AZORES)
HOUR, DAY = Duration(seconds=3600), Duration(days=1)

RECKONED = [
    (2, "+", 3, 5),
    (2, "-", 3, -1),
    (2, "*", Decimal("1.5"), 3),
    (1, "/", 4, Decimal("0.25")),
    (6, "/", 3, 2),
    (NOON, "+", HOUR, NOON.replace(hour=13)),
    (NOON, "-", DAY, NOON.replace(day=16)),
    (HOUR, "+", NOON, NOON.replace(hour=13)),
    (date(2027, 3, 17), "+", DAY, date(2027, 3, 18)),
    (DAY, "+", date(2027, 3, 17), date(2027, 3, 18)),
    (date(2027, 3, 17), "-", DAY, date(2027, 3, 16)),
    (HOUR, "+", DAY, Duration(days=1, seconds=3600)),
    (DAY, "-", HOUR, Duration(days=1, seconds=-3600)),
    (DAY, "/", HOUR, 24),
    (HOUR, "*", 2, Duration(seconds=7200)),
    (HOUR, "/", 2, Duration(seconds=1800)),
    (Decimal("0.5"), "*", HOUR, Duration(seconds=1800)),
    (time(22), "-", time(21, 30), Duration(seconds=1800)),
    (date(2027, 3, 17), "-", date(2027, 3, 1), Duration(days=16)),
    (NOON, "-", date(2027, 3, 17), Duration(seconds=43200)),
]


@pytest.mark.parametrize(("first", "sign", "second", "result"), RECKONED)
def test_what_can_be_reckoned(first: Any, sign: str, second: Any, result: Any) -> None:
    assert calculate(first, sign, second, AZORES) == result


REFUSED = [
    (1, "/", 0, "1 cannot be divided by nothing"),
    ("a", "+", 1, "a + 1 cannot be reckoned"),
    (True, "+", 1, "yes + 1 cannot be reckoned"),
    (date(2027, 3, 17), "+", HOUR, "hours and minutes cannot be added to a date"),
    (NOON, "*", 2, "cannot be reckoned"),
    (NOON, "+", NOON, "cannot be reckoned"),
    (HOUR, "-", NOON, "cannot be reckoned"),
    (HOUR, "/", Duration(), "cannot be divided by nothing"),
]


@pytest.mark.parametrize(("first", "sign", "second", "fault"), REFUSED, ids=[fault[:25] for *_, fault in REFUSED])
def test_what_cannot_be_reckoned_says_so(first: Any, sign: str, second: Any, fault: str) -> None:
    with pytest.raises(RowFault, match=fault.replace("+", r"\+").replace("(", r"\(")):
        calculate(first, sign, second, AZORES)


SAME = [
    ("Dome 2", "dome  2", True),
    ("a", "b", False),
    (None, "", True),
    (None, [], True),
    (None, 0, False),
    ("7", 7, True),
    (Decimal("7.0"), 7, True),
    (True, "yes", True),
    (True, 1, False),
    (["a", "B"], "b", True),
    ("c", ["a", "B"], False),
    (["a"], ["A"], True),
    (["a", "b"], ["b", "a"], False),
    (date(2027, 3, 17), datetime(2027, 3, 17, tzinfo=AZORES), True),
    (date(2027, 3, 17), NOON, False),
    (NOON, NOON.astimezone(UTC), True),
    (Duration(days=1), Duration(days=1), True),
    ("17 Mar 2027", date(2027, 3, 17), True),
]


@pytest.mark.parametrize(("first", "second", "same"), SAME)
def test_what_is_the_same(first: Any, second: Any, same: bool) -> None:
    assert is_same(first, second, AZORES) is same
    assert is_same(second, first, AZORES) is same


RELATIONS = [
    ("contains", "Wide Camera", "camera", True),
    ("contains", ["a@example.org"], "A@example.org", True),
    ("contains", ["ab"], "a", False),
    ("contains", None, "a", False),
    ("begins with", "Dome 2", "dome", True),
    ("begins with", ["x", "Dome 2"], "dome", True),
    ("ends with", "report.PDF", ".pdf", True),
    ("ends with", "report", "", False),
    ("like", "R-0017", "r-*17", True),
    ("like", "R-0017", "r-??", False),
]


@pytest.mark.parametrize(("relation", "first", "second", "holds"), RELATIONS)
def test_how_texts_relate(relation: str, first: Any, second: Any, holds: bool) -> None:
    assert TEXT_RELATIONS[relation](first, second, AZORES) is holds


ORDERED = [
    (1, "<", 2, True),
    (2, "<=", 2, True),
    (Decimal("2.5"), ">", 2, True),
    ("a", "<", "B", True),
    (None, "<", 1, False),
    (1, ">=", None, False),
    (date(2027, 3, 17), "<", NOON, True),
    (NOON, ">", date(2027, 3, 18), False),
    (HOUR, "<", DAY, True),
    (Duration(days=1), ">=", Duration(seconds=86400), True),
    (time(9), "<", time(10), True),
]


@pytest.mark.parametrize(("first", "sign", "second", "holds"), ORDERED)
def test_what_comes_first(first: Any, sign: str, second: Any, holds: bool) -> None:
    assert compare_order(first, sign, second, AZORES) is holds


def test_unlike_things_have_no_order() -> None:
    with pytest.raises(RowFault, match="1 and a cannot be compared"):
        compare_order(1, "<", "a", AZORES)
    with pytest.raises(RowFault, match="a is no moment"):
        to_instant("a", AZORES)


@given(st.lists(st.integers(-50, 50) | st.decimals(-50, 50, places=1), min_size=2, max_size=2))
def test_numbers_are_before_after_or_the_same(pair: list[Any]) -> None:
    first, second = pair
    held = [
        compare_order(first, "<", second, AZORES),
        is_same(first, second, AZORES),
        compare_order(first, ">", second, AZORES),
    ]
    assert held.count(True) == 1


CALLED = [
    ("count", [["a", "b"]], 2),
    ("count", [None], 0),
    ("count", ["one"], 1),
    ("sum", [[1, Decimal("1.5")]], Decimal("2.5")),
    ("sum", [[]], 0),
    ("sum", [[HOUR, HOUR]], Duration(seconds=7200)),
    ("sum", [[1, None, 2]], 3),
    ("first", [["a", "b"]], "a"),
    ("first", [None], None),
    ("last", [["a", "b"]], "b"),
    ("join", [["a", 2]], "a, 2"),
    ("join", [["a", "b"], " / "], "a / b"),
    ("split", ["a; b, c"], ["a", "b", "c"]),
    ("split", ["a|b| ", "|"], ["a", "b"]),
    ("split", [None], []),
    ("lower", ["ÀB"], "àb"),
    ("upper", ["àb"], "ÀB"),
    ("round", [Decimal("2.45"), 1], Decimal("2.4")),
    ("round", [Decimal("2.6")], 3),
    ("round", [None], None),
    ("number", ["12"], 12),
    ("number", [None], None),
    ("number", [3], 3),
    ("number", ["2.5"], Decimal("2.5")),
    ("town", ["Rua do Farol 3, 9930-123 Lajes, PT"], "Lajes"),
    ("town", ["Rua do Farol 3\n9930-123 Lajes"], "Lajes"),
    ("town", [None], ""),
]


@pytest.mark.parametrize(
    ("name", "arguments", "result"), CALLED, ids=[f"{name} {arguments}"[:40] for name, arguments, _ in CALLED]
)
def test_functions_of_the_language(name: str, arguments: list[Any], result: Any) -> None:
    assert FUNCTIONS[name](*arguments) == result


@pytest.mark.parametrize(
    ("name", "value", "fault"),
    [
        ("number", "1,234", "can be read in two ways"),
        ("number", "many", "is no number"),
        ("sum", ["a"], "sum adds numbers"),
    ],
)
def test_functions_refuse_what_they_cannot_do(name: str, value: Any, fault: str) -> None:
    with pytest.raises(RowFault, match=fault):
        FUNCTIONS[name](value)


@pytest.mark.parametrize(("value", "listed"), [(None, []), ("", []), ("a", ["a"]), (("a", "b"), ["a", "b"]), (0, [0])])
def test_anything_is_a_list(value: Any, listed: list[Any]) -> None:
    assert to_list(value) == listed
