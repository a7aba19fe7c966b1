"""Which moments a calendar can hold: the check that everything that is written passes."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date

from whenvoca.errors import RowFault

FIRST_YEAR, LAST_YEAR = 1900, 9998


def refuse_unusable(value: date, what: str) -> None:
    """Raises RowFault for a date or moment outside the years 1900 to 9998: other programs, and zones, cannot take
    it."""
    if not FIRST_YEAR <= value.year <= LAST_YEAR:
        raise RowFault(
            f"the {what} {value.isoformat()[:10]} lies outside the years {FIRST_YEAR} to {LAST_YEAR}",
            fix="give a day that is meant; leave the cell empty where there is none",
        )


@contextmanager
def within_the_calendar(what: str) -> Iterator[None]:
    """Turns what cannot be reckoned with dates, since it leaves the calendar, into RowFault."""
    try:
        yield
    except (OverflowError, ValueError) as error:
        raise RowFault(f"{what} lies outside the years {FIRST_YEAR} to {LAST_YEAR}") from error
