"""Numbers, ticks, blanks, and values on their way into the ledger and back."""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.engine.ledger.codec import decode_state, encode
from whenvoca.values.blanks import is_blank, plain_signs, squeeze_blanks
from whenvoca.values.durations import Duration
from whenvoca.values.kinds import from_plain, is_empty, show_raw, tidy_raw, to_plain
from whenvoca.values.numbers import COMMA, POINT, shape_number, shape_yes_no, show_number, tidy_number

READ = [
    ("12", {"": 12}),
    ("-12", {"": -12}),
    ("1,234", {POINT: 1234, COMMA: Decimal("1.234")}),
    ("1.234", {POINT: Decimal("1.234"), COMMA: 1234}),
    ("2.5", {POINT: Decimal("2.5")}),
    ("2,5", {COMMA: Decimal("2.5")}),
    ("1 234,50", {COMMA: Decimal("1234.5")}),
    ("1'234.5", {POINT: Decimal("1234.5")}),
    ("1,234,567", {POINT: 1234567}),
    ("１２", {"": 12}),
    ("−3", {"": -3}),
    ("007", None),
    ("0", {"": 0}),
    ("0.5", {POINT: Decimal("0.5")}),
    ("1,2,3", None),
    ("12 kg", None),
    ("", None),
    ("+", None),
    ("1234567890123456", None),
    ("+351912345678", None),
    ("1.2.3", None),
]


@pytest.mark.parametrize(("text", "fits"), READ, ids=[repr(text) for text, _ in READ])
def test_numbers_with_every_reading_that_fits(text: str, fits: dict[str, Any] | None) -> None:
    shaped = shape_number(text)
    assert (None if shaped is None else dict(shaped.fits)) == fits


@given(st.decimals(allow_nan=False, allow_infinity=False, places=3, min_value=-(10**9), max_value=10**9))
def test_a_number_in_plain_digits_reads_as_itself(number: Decimal) -> None:
    tidy = tidy_number(number)
    shaped = shape_number(show_number(tidy))
    assert shaped is not None
    assert tidy in shaped.fits.values()


TICKS = [
    ("yes", True),
    ("Y", True),
    (" TRUE ", True),
    ("x", True),
    ("✓", True),
    ("no", False),
    ("False", False),
    ("☐", False),
    ("maybe", None),
    ("1", None),
    ("", None),
]


@pytest.mark.parametrize(("text", "said"), TICKS)
def test_yes_and_no_as_people_tick_them(text: str, said: bool | None) -> None:
    shaped = shape_yes_no(text)
    assert (None if shaped is None else shaped.fits[""]) is said


BLANKS = ["", " ", "\t\n", "\u00a0", "\u200b", "\u3000 \ufeff", "\u2060\u00ad"]


@pytest.mark.parametrize("text", BLANKS, ids=ascii)
def test_blanks_of_every_kind_are_nothing(text: str) -> None:
    assert is_blank(text)
    assert is_empty(text)
    assert tidy_raw(text) is None
    assert squeeze_blanks(f"a{text}{text}b") == (
        "ab" if not text.translate(dict.fromkeys(map(ord, "\u200b\u2060\u00ad"))) else "a b"
    )


@given(st.text(max_size=30))
def test_squeezed_texts_stay_so_and_are_blank_together(text: str) -> None:
    once = squeeze_blanks(text)
    assert squeeze_blanks(once) == once
    assert (once == "") == is_blank(text)
    assert plain_signs(plain_signs(text)) == plain_signs(text)


@pytest.mark.parametrize(
    ("value", "empty"),
    [(None, True), ([], True), ((), True), (0, False), (False, False), ([None], False), ("0", False)],
)
def test_what_is_empty(value: Any, empty: bool) -> None:
    assert is_empty(value) is empty


RAWS = [
    (None, ""),
    (True, "yes"),
    (False, "no"),
    (2.50, "2.5"),
    (3.0, "3"),
    (Decimal("1E+3"), "1000"),
    (date(2027, 3, 1), "2027-03-01"),
    (datetime(2027, 3, 1, 9, 5), "2027-03-01 09:05"),
    (datetime(2027, 3, 1, 9, 5, 7), "2027-03-01 09:05:07"),
    (time(9, 5), "09:05"),
    (time(9, 5, 7), "09:05:07"),
    (timedelta(hours=26, minutes=5), "26:05"),
    (7, "7"),
    ("as it is", "as it is"),
]


@pytest.mark.parametrize(("raw", "text"), RAWS, ids=[text or "nothing" for _, text in RAWS])
def test_cells_as_messages_show_them(raw: Any, text: str) -> None:
    assert show_raw(raw) == text


ZONES = st.sampled_from(["Atlantic/Azores", "Europe/Lisbon", "Asia/Kathmandu"]).map(ZoneInfo)
PLAIN = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(),
    st.text(max_size=20),
    st.dates(),
    st.times().map(lambda t: t.replace(microsecond=0, fold=0)),
    st.decimals(allow_nan=False, allow_infinity=False, places=2),
    st.builds(Duration, st.integers(0, 9), st.integers(0, 9), st.integers(0, 9)),
    st.timedeltas(timedelta(), timedelta(days=9)).map(lambda span: timedelta(seconds=round(span.total_seconds()))),
    st.datetimes(datetime(1990, 1, 1), datetime(2060, 1, 1)).map(lambda wall: wall.replace(fold=0)),
    st.builds(
        lambda wall, zone: wall.replace(tzinfo=UTC).astimezone(zone),
        st.datetimes(datetime(1990, 1, 1), datetime(2060, 1, 1)),
        ZONES,
    ),
)
VALUES = st.recursive(
    PLAIN,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=6,
)


def told(value: Any) -> Any:
    """A value with all that equality leaves out: kind, zone, fold."""
    if isinstance(value, list):
        return [told(each) for each in value]
    if isinstance(value, dict):
        return {name: told(each) for name, each in value.items()}
    return type(value).__name__, str(value), str(getattr(value, "tzinfo", "")), getattr(value, "fold", 0)


@given(VALUES)
def test_values_come_back_from_the_ledger_as_they_were(value: Any) -> None:
    assert told(from_plain(to_plain(value))) == told(value)


@given(st.dictionaries(st.text(max_size=8), PLAIN, max_size=6))
def test_states_come_back_from_the_ledger_as_they_were(state: dict[str, Any]) -> None:
    assert told(decode_state(encode(state))) == told(state)
    assert encode(state) == encode(dict(state))


def test_what_cannot_be_stored_is_refused() -> None:
    with pytest.raises(TypeError, match="object cannot be stored"):
        to_plain(object())
    with pytest.raises(ValueError, match="is of no known kind"):
        from_plain({"colour": "teal"})
