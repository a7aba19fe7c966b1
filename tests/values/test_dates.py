"""Dates, times and moments as texts: which readings each allows."""

from __future__ import annotations

import itertools
from datetime import UTC, date, datetime, time, timedelta, timezone

import pytest
from babel.dates import get_month_names
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import ids
from whenvoca.values.dates import from_serial, shape_date, to_serial
from whenvoca.values.month_names import FOREIGN_MONTHS
from whenvoca.values.times import shape_moment, shape_time

D = date(2027, 3, 17)
DAY, MONTH, YEAR = "day first", "month first", "year first"
DATES = [
    ("17.03.2027", {DAY: D}),
    ("17/3/2027", {DAY: D}),
    ("3/17/2027", {MONTH: D}),
    ("17-03-2027", {DAY: D}),
    ("03/04/2027", {DAY: date(2027, 4, 3), MONTH: date(2027, 3, 4)}),
    ("17/03/27", {DAY: D}),
    ("03.04.2027", {DAY: date(2027, 4, 3), MONTH: date(2027, 3, 4)}),
    ("27-03-17", {DAY: date(2017, 3, 27), YEAR: D}),
    ("2027-03-17", {"": D}),
    ("2027/3/17", {"": D}),
    ("2027.03.17.", {"": D}),
    ("20270317", {"": D}),
    ("2027年3月17日", {"": D}),
    ("17 March 2027", {"": D}),
    ("March 17th, 2027", {"": D}),
    ("17-Mar-27", {"": D}),
    ("2027 Mar 17", {"": D}),
    ("Sept. 3 2027", {"": date(2027, 9, 3)}),
    ("Wed 17 Mar 2027", {"": D}),
    ("17 March 2027 (Wednesday)", {"": D}),
    ("Wednesday, 17.03.2027", {DAY: D}),
    ("17 de março de 2027", {"": D}),
    ("17. März 2027", {"": D}),
    ("17 mars 2027", {"": D}),
    ("１７/０３/２０２７", {DAY: D}),
    ("\u00a0 17.03.2027\u200b", {DAY: D}),
    ("17\u201103\u20112027", {DAY: D}),
    ("29.02.2028", {DAY: date(2028, 2, 29)}),
    ("1.1.70", {DAY: date(1970, 1, 1), MONTH: date(1970, 1, 1)}),
    ("1.1.69", {DAY: date(2069, 1, 1), MONTH: date(2069, 1, 1)}),
]


@pytest.mark.parametrize(("text", "fits"), DATES, ids=ids(DATES))
def test_date_texts_have_exactly_these_readings(text: str, fits: dict[str, date]) -> None:
    shaped = shape_date(text)
    assert shaped is not None
    assert dict(shaped.fits) == fits


FAULTS = [
    ("31.02.2027", "31.02.2027 is no date: February 2027 has 28 days"),
    ("31/04/2027", "31/04/2027 is no date: April 2027 has 30 days"),
    ("2027-13-01", "2027-13-01 is no date: there is no month 13"),
    ("29 February 2027", "29 February 2027 is no date: February 2027 has 28 days"),
    ("Mon 17 Mar 2027", "17 March 2027 is a Wednesday, not a Monday"),
    ("17 March", "17 March has no year"),
]


@pytest.mark.parametrize(("text", "fault"), FAULTS, ids=ids(FAULTS))
def test_date_that_is_none_says_why(text: str, fault: str) -> None:
    shaped = shape_date(text)
    assert shaped is not None
    assert not shaped.fits
    assert shaped.fault == fault


@pytest.mark.parametrize(
    "text", ["hello", "R-104", "12-13", "1.2.3", "", "Mirror 12", "M 42", "2027-03", "march", "may be"]
)
def test_text_that_looks_like_no_date_is_none(text: str) -> None:
    assert shape_date(text) is None


TIMES = [
    ("21:30", time(21, 30)),
    ("9:30 pm", time(21, 30)),
    ("9pm", time(21)),
    ("12am", time(0)),
    ("12 p.m.", time(12)),
    ("21h30", time(21, 30)),
    ("14h", time(14)),
    ("noon", time(12)),
    ("12 noon", time(12)),
    ("Midnight", time(0)),
    ("9:30 a.m.", time(9, 30)),
    ("21:30:15", time(21, 30, 15)),
    ("\u00a09:05\u202fpm", time(21, 5)),
    ("7 o'clock", time(7)),
]


@pytest.mark.parametrize(("text", "value"), TIMES, ids=ids(TIMES))
def test_time_texts_are_read(text: str, value: time) -> None:
    shaped = shape_time(text)
    assert shaped is not None
    assert list(shaped.fits.values()) == [value]


@pytest.mark.parametrize("text", ["25:00", "13pm", "9:75", "24:00", "0 am"])
def test_impossible_times_are_faults(text: str) -> None:
    shaped = shape_time(text)
    assert shaped is not None
    assert shaped.fault


@pytest.mark.parametrize(
    ("text", "value"), [("9.30", time(9, 30)), ("0930", time(9, 30)), ("7", time(7)), ("1430", time(14, 30))]
)
def test_bare_numbers_are_times_only_where_times_are_known_to_stand(text: str, value: time) -> None:
    assert shape_time(text) is None
    eager = shape_time(text, eager=True)
    assert eager is not None
    assert list(eager.fits.values()) == [value]


M = datetime(2027, 3, 17, 21, 30)
MOMENTS = [
    ("17.03.2027 21:30", {DAY: M}),
    ("2027-03-17T21:30", {"": M}),
    ("2027-03-17T21:30:00Z", {"": M.replace(tzinfo=UTC)}),
    ("2027-03-17 21:30+01:00", {"": M.replace(tzinfo=timezone(timedelta(hours=1)))}),
    ("2027-03-17T21:30:00-0100", {"": M.replace(tzinfo=timezone(timedelta(hours=-1)))}),
    ("17/03/2027 9:30 pm", {DAY: M}),
    ("17 March 2027 at 21:30", {"": M}),
    ("21:30, 17.03.2027", {DAY: M}),
    ("Wed 17 Mar 2027 21:30", {"": M}),
    ("17 March 2027 noon", {"": datetime(2027, 3, 17, 12)}),
    ("17 Mar 2027 21:30 UTC", {"": M.replace(tzinfo=UTC)}),
    ("20270317T213000Z", {"": M.replace(tzinfo=UTC)}),
    ("03/04/2027 10:00", {DAY: datetime(2027, 4, 3, 10), MONTH: datetime(2027, 3, 4, 10)}),
]


@pytest.mark.parametrize(("text", "fits"), MOMENTS, ids=ids(MOMENTS))
def test_moment_texts_are_read(text: str, fits: dict[str, datetime]) -> None:
    shaped = shape_moment(text)
    assert shaped is not None
    assert dict(shaped.fits) == fits


@given(st.datetimes(min_value=datetime(1904, 1, 2), max_value=datetime(2199, 12, 31)), st.booleans())
def test_serial_numbers_go_there_and_back(wall: datetime, epoch_1904: bool) -> None:
    wall = wall.replace(microsecond=0)
    assert from_serial(to_serial(wall, epoch_1904=epoch_1904), epoch_1904=epoch_1904) == wall


def test_serial_number_of_both_systems() -> None:
    assert from_serial(46098) == datetime(2026, 3, 17)
    assert from_serial(46098, epoch_1904=True) == datetime(2030, 3, 18)
    assert from_serial(60) is None  # the 29 February 1900 that never was
    assert from_serial(46098.875) == datetime(2026, 3, 17, 21)


@given(
    st.dates(min_value=date(1970, 1, 1), max_value=date(2068, 12, 31)),
    st.sampled_from(["%d.%m.%Y", "%m/%d/%Y", "%Y-%m-%d", "%d %B %Y", "%d-%b-%y"]),
)
def test_every_date_in_every_form_has_itself_among_its_readings(day: date, form: str) -> None:
    shaped = shape_date(day.strftime(form))
    assert shaped is not None
    assert day in shaped.fits.values()


@given(st.text(max_size=40))
def test_any_text_whatever_is_read_without_an_exception(text: str) -> None:
    shape_date(text)
    shape_time(text, eager=True)
    shape_moment(text)


def test_foreign_month_names_are_those_of_the_unicode_cldr() -> None:
    found: dict[str, set[int]] = {}
    for language in ("pt", "es", "fr", "de", "it", "nl", "da", "sv", "pl"):
        for width, context in itertools.product(("wide", "abbreviated"), ("format", "stand-alone")):
            for number, name in get_month_names(width, context, language).items():
                if not name.isdigit():
                    found.setdefault(name.lower().rstrip("."), set()).add(number)
    assert {name: min(numbers) for name, numbers in found.items() if len(numbers) == 1} == FOREIGN_MONTHS
