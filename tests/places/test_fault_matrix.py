"""Every fault of a calendar server against every kind of work: rows that come, change and go, a person's edit, an undo.

However bad the day was: what was to be there is there once, the person's edit stays, and nothing else is left over.
"""

from __future__ import annotations

import gzip
import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

import pytest

from tests.conftest import Result
from tests.places.test_bad_days import (  # noqa: F401  (fixtures)
    PAGE,
    ROWS,
    BadDay,
    cut_data,
    day,
    domes,
    empty_multistatus,
    no_pauses,
    property_404,
    radicale,
    with_etag,
    without_data,
)
from tests.servers import Answer, Fault

ASKED = [ROWS[0], ROWS[1].replace("Tour 2", "Walk 2"), ",,R-4,Tour 4,20.03.2027,21:30,22:00"]
WANTED = ["Theirs", "Tour 4", "Walk 2"]
BEFORE = ["Theirs", "Tour 2", "Tour 3"]


def replaced(old: bytes, new: bytes) -> Callable[[Answer], Answer]:
    """The answer with another text in its content."""
    return lambda answer: Answer(answer.status, answer.headers, re.sub(old, new, answer.content))


def with_mark(answer: Answer) -> Answer:
    is_calendar = answer.content.startswith(b"BEGIN:VCALENDAR")
    return Answer(answer.status, answer.headers, b"\xef\xbb\xbf" + answer.content if is_calendar else answer.content)


def packed(answer: Answer) -> Answer:
    headers = {**answer.headers, "content-encoding": "gzip"}
    return Answer(answer.status, headers, gzip.compress(answer.content)) if answer.content else answer


def cut_short(answer: Answer) -> Answer:
    return Answer(answer.status, answer.headers, answer.content[: len(answer.content) // 2])


def with_a_broken_item(answer: Answer) -> Answer:
    item = b"<response><href>/x</href><status>HTTP/1.1 500 Oops</status></response></multistatus>"
    return Answer(answer.status, answer.headers, answer.content.replace(b"</multistatus>", item))


def other_prefixes(answer: Answer) -> Answer:
    """The same multistatus, with the namespace DAV: under a prefix."""
    if b'xmlns="DAV:"' not in answer.content:
        return answer
    content = answer.content.replace(b'xmlns="DAV:"', b'xmlns:D="DAV:"')
    content = re.sub(rb"<(/?)([a-z][a-z-]*)(?=[\s/>])", rb"<\1D:\2", content)
    return Answer(answer.status, answer.headers, content)


LATER = format_datetime(datetime.now(UTC) + timedelta(minutes=2), usegmt=True)
FAULTS: dict[str, Fault] = {
    **{
        str(status): str(status)
        for status in (400, 401, 403, 404, 405, 409, 410, 412, 415, 423, 429, 500, 502, 503, 507)
    },
    "429 with a date": Answer(429, {"retry-after": LATER}, b""),
    "503 with seconds": "503 1",
    "200 and a page": PAGE,
    "202": Answer(202, {}, b""),
    "301 elsewhere": Answer(301, {"location": "http://127.0.0.1:9/"}, b""),
    "302 without a place": Answer(302, {}, b""),
    "303 to itself": Answer(303, {"location": "/"}, b""),
    "reset before": "refuse",
    "reset after": "cut",
    "cut short": cut_short,
    "huge": Answer(207, {"content-encoding": "gzip"}, gzip.compress(bytes(40_000_000))),
    "no ETag": with_etag(lambda etag: ""),
    "weak ETag": with_etag(lambda etag: f"W/{etag}"),
    "changed ETag": with_etag(lambda etag: etag[:-1] + '-gzip"'),
    "item with an error": with_a_broken_item,
    "items without data": without_data,
    "items cut off": cut_data,
    "properties that are 404": property_404,
    "empty multistatus": empty_multistatus,
    "refused token": lambda answer: Answer(403, {}, b"") if b"sync-token" in answer.content else answer,
    "other prefixes": other_prefixes,
    "whole addresses": replaced(rb"<href>(/[^<]*)</href>", rb"<href>http://127.0.0.1\1</href>"),
    "quoted addresses": replaced(rb"(<href>[^<]*)-", rb"\1%2D"),
    "mark of byte order": with_mark,
    "gzip": packed,
}
SPREADS = {
    "always": lambda method, number: True,
    "writes": lambda method, number: method in ("PUT", "DELETE"),
    "reads": lambda method, number: method not in ("PUT", "DELETE"),
    "every second": lambda method, number: number % 2 == 0,
    "every third": lambda method, number: number % 3 == 0,
}
IN_SHORT = [
    ("401", "always"),
    ("429 with a date", "every second"),
    ("refused token", "always"),
    ("other prefixes", "always"),
    ("reset after", "writes"),
]


def run_until_clean(day: BadDay) -> None:  # noqa: F811
    """As somebody would: run again, and what failed for good is tried once more."""
    for _ in range(3):
        day.desk.run("retry", "--failed")
        if is_clean(day.desk.run("run", "--yes")):
            return
    result = day.desk.run("run", "--yes")
    assert is_clean(result), result


def is_clean(result: Result) -> bool:
    """Whether nothing failed, now or before."""
    return result.code == 0 and "failed before" not in result.err


def check(day: BadDay, fault: str, spread: str) -> None:  # noqa: F811
    """A bad day with this fault, and the good one after it; then an undo of it all, on a bad and on a good day."""
    number = [0]

    def plan(method: str) -> Fault:
        number[0] += 1
        return FAULTS[fault] if SPREADS[spread](method, number[0]) else ""

    day.edit(b"Tour 1", b"Theirs")
    day.fault = plan
    day.desk.rows(*ASKED)
    has_failed = False  # for good, which the next run need not tell once more
    for _ in range(2):
        result = day.desk.run("run", "--yes")
        assert result.code in (0, 1, 3), result
        has_failed = has_failed or " failed" in result.err
        assert has_failed or not is_clean(result) or day.titles() == WANTED, result  # what is told as done is there
        assert set(day.titles()) <= {*WANTED, *BEFORE}
        assert len(set(day.titles())) == len(day.titles())
        assert "Theirs" in day.titles()
    day.heal()
    run_until_clean(day)
    assert day.titles() == WANTED
    told = day.log()
    assert len(told) == len(set(told)), told
    assert {"Theirs,changed", "Tour 4,gained", "Walk 2,changed", "Tour 3,lost"} <= set(told) | {
        "Tour 4,gained",
        "Walk 2,changed",
        "Tour 3,lost",
    }
    runs = [each for each in day.desk.run("runs", "--json").json["runs"] if each["workflow"] == "mirror"]
    numbers = [str(each["run"]) for each in runs if each["effects"] and int(each["run"]) > 3]
    day.fault = plan
    result = day.desk.run("undo", *numbers, "--yes")
    assert result.code in (0, 1, 3), result
    assert result.code != 0 or day.titles() == BEFORE, result
    day.heal()
    for each in numbers:
        day.desk.run("undo", each, "--yes")
    assert day.titles() == BEFORE


@pytest.mark.parametrize(("fault", "spread"), IN_SHORT)
def test_a_bad_day_leaves_nothing_behind(day: BadDay, fault: str, spread: str) -> None:  # noqa: F811
    check(day, fault, spread)


@pytest.mark.soak
@pytest.mark.parametrize("spread", SPREADS)
@pytest.mark.parametrize("fault", FAULTS)
def test_every_fault_everywhere(day: BadDay, fault: str, spread: str) -> None:  # noqa: F811
    check(day, fault, spread)
