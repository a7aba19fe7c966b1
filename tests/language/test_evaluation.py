"""Values and conditions, evaluated."""

from __future__ import annotations

from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from tests.conftest import ids
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Compiler, Scope, WaitingFault
from whenvoca.language.expressions import read_value
from whenvoca.language.faults import FaultList
from whenvoca.language.repeats import NoRepeat, parse_repeat
from whenvoca.language.tokens import Piece
from whenvoca.values.columns import Unread
from whenvoca.values.durations import Duration

AZORES = ZoneInfo("Atlantic/Azores")
NOW = datetime(2027, 3, 17, 17, 20, tzinfo=UTC)
ROW: dict[str, Any] = {
    "answer": None,
    "night-of": date(2027, 3, 17),
    "from": time(21, 30),
    "to": time(2),
    "target": "M 42",
    "pupils": 24,
    "who": ["a@example.org", "b@example.org"],
    "online": True,
    "blank": " \u00a0",
    "hours": Decimal("2.5"),
    "bad": Unread("31.02.2027", "31.02.2027 is no date"),
    "open": Unread("03/04/2027", "two readings", waits=True),
    "seen": datetime(2027, 3, 27, 22, tzinfo=AZORES),
    "at": "word",
    "№": 7,
}


class Row:
    def value_of(self, word: str) -> Any:
        return ROW[word]

    def where_is(self, word: str) -> str:
        return f"s.csv, {word}"


def evaluate(text: str, block: list[str] | None = None, **names: Any) -> Any:
    faults = FaultList("t", text)
    node = read_value([Piece(text, 1, 1)], faults, block)
    assert node is not None, [fault.message for fault in faults.sorted()]
    scope = Scope(Row(), "row", NOW, AZORES, dict(names))
    return Compiler(frozenset(ROW)).value(node)(scope)


def at(*parts: int) -> datetime:
    return datetime(*parts, tzinfo=AZORES)  # type: ignore[misc,arg-type]


VALUES: list[tuple[str, Any]] = [
    ('"{Target} at {From}, {Pupils} pupils{Answer}"', "M 42 at 21:30, 24 pupils"),
    ('"a \\"b\\" \\{c} \\\\"', 'a "b" {c} \\'),
    ("“curly {Target}”", "curly M 42"),
    ('"{if Online then "yes, {Target}" else "no"}"', "yes, M 42"),
    ('"{bad}"', "31.02.2027"),
    ("12", 12),
    ("2.50", Decimal("2.5")),
    ("yes", True),
    ("empty", None),
    ("none", None),
    ("21:30", time(21, 30)),
    ("2027-03-17", date(2027, 3, 17)),
    ("Night-of at From", at(2027, 3, 17, 21, 30)),
    ("2027-03-17 at 21:30", at(2027, 3, 17, 21, 30)),
    ("Answer at From", None),
    ("today", date(2027, 3, 17)),
    ("tomorrow at 08:00", at(2027, 3, 18, 8)),
    ("now", NOW),
    ("now as time", time(16, 20)),
    ("now as date", date(2027, 3, 17)),
    ('Seen as "EEE d MMM HH:mm"', "Sat 27 Mar 22:00"),
    ('2027-01-03 as "YYYY w"', "2026 53"),
    ('2027-03-15 as "YYYY-ww"', "2027-11"),
    ('Pupils / 5 as "0.0"', "4.8"),
    ('Pupils * 100 as "#,##0"', "2,400"),
    ('now in zone "Europe/Lisbon" as time', time(17, 20)),
    ("row.Target", "M 42"),
    ("row.at", "word"),
    ('column "№"', 7),
    ('row.column "№" + 1', 8),
    ("NIGHT-OF", date(2027, 3, 17)),
    ("Night_of", date(2027, 3, 17)),
    ("Pupils minutes", Duration(seconds=1440)),
    ("1 hour 30 minutes", Duration(seconds=5400)),
    ("2 days", Duration(days=2)),
    ("Answer minutes", None),
    ("Seen + 1 day", at(2027, 3, 28, 22)),
    ("Seen + 24 hours", at(2027, 3, 28, 23)),
    ("Night-of - 2 days", date(2027, 3, 15)),
    ("today - 1 month", date(2027, 2, 17)),
    ("Night-of at From + 5 hours", at(2027, 3, 18, 2, 30)),
    ("(today + 1 day) at 10:00", at(2027, 3, 18, 10)),
    ("Seen - Night-of", Duration(seconds=10 * 86400 + 79200)),
    ("2027-03-20 - Night-of", Duration(days=3)),
    ("To - From", Duration(seconds=-19.5 * 3600)),
    ("(Seen - Night-of) / 1 hour", 262),
    ("1 hour / 40 minutes", Decimal("1.5")),
    ("Pupils * 2 + 1", 49),
    ("7 / 2", Decimal("3.5")),
    ("1 / 3 * 3 > 0.99", True),
    ("- Pupils", -24),
    ("Hours * 2", 5),
    ("Answer + 1", None),
    ("3 * 20 minutes", Duration(seconds=3600)),
    ('"a", "b"', ["a", "b"]),
    ('Who, "c@example.org"', ["a@example.org", "b@example.org", "c@example.org"]),
    ("Answer, 1", [1]),
    ('each w in Who where w contains "b": upper(w)', ["B@EXAMPLE.ORG"]),
    ("count(Who)", 2),
    ("count(Answer)", 0),
    ("sum(each w in Who: 2.5)", 5),
    ("first(Who)", "a@example.org"),
    ("last(Answer)", None),
    ('join(Who, " and ")', "a@example.org and b@example.org"),
    ('split("x; y, z")', ["x", "y", "z"]),
    ('split("x-y", "-")', ["x", "y"]),
    ("round(Hours)", 2),
    ("round(2.346, 2)", Decimal("2.35")),
    ('number("2.5")', Decimal("2.5")),
    ('lower("AB")', "ab"),
    ('town("Sea School, Rua 1, Port Town")', "Port Town"),
    ("sum(each w in Who: 30 minutes)", Duration(seconds=3600)),
    ("sum(each w in Who where w is Target: 30 minutes) / 1 hour", 0),
    ("sum(each w in Who where w is Target: 30 minutes) + 1 hour", Duration(seconds=3600)),
    ("1 hour - sum(each w in Who where w is Target: 30 minutes)", Duration(seconds=3600)),
    ("Night-of + sum(each w in Who where w is Target: 30 minutes)", date(2027, 3, 17)),
    ('if Pupils > 20 then "big" else "small"', "big"),
    ("if Pupils > 30 then 1", None),
    ("if Answer is empty then Night-of", date(2027, 3, 17)),
    ("25 minutes before", Duration(seconds=-1500)),
    ("1 hour after", Duration(seconds=3600)),
    ("40 minutes before, 1 day before", [Duration(seconds=-2400), Duration(days=-1)]),
    ("every 2 weeks on wednesday", "every 2 weeks on wednesday"),
]


@pytest.mark.parametrize(("text", "value"), VALUES[:-1], ids=ids(VALUES[:-1]))
def test_value(text: str, value: Any) -> None:
    assert evaluate(text) == value


CONDITIONS = [
    ("Answer is empty", True),
    ("Blank is empty", True),
    ("bad is filled", True),
    ("Target is filled", True),
    ("Answer is not empty", False),
    ('Target is "m  42"', True),
    ('Target is not "M 13"', True),
    ('Target is one of "M 13", "M 42"', True),
    ('Target is not one of "M 13"', True),
    ('Target contains "42"', True),
    ('Target begins with "m"', True),
    ('Target ends with "2"', True),
    ('Who like "*@example.org"', True),
    ('Who contains "A@example.org"', True),
    ('Who is "b@example.org"', True),
    ("Pupils between 20 and 24", True),
    ("Pupils > 24", False),
    ("sum(each w in Who where w is Target: 30 minutes) < 1 hour", True),
    ("Pupils >= 24", True),
    ("From after 21:00", True),
    ("Night-of before 2027-03-18", True),
    ("Seen > Night-of", True),
    ("Night-of is 2027-03-17", True),
    ("Online", True),
    ("Online is yes", True),
    ('Online is "yes"', True),
    ("not Online", False),
    ("Pupils > 3 and not (Online is no or Answer is filled)", True),
    ("Answer > 3", False),
    ('Answer is "x"', False),
    ('bad is "31.02.2027"', True),
    ("Seen between today and today + 12 days", True),
    ("(Pupils > 30 or Online) and Target is filled", True),
    ("1 hour is 60 minutes", True),
    ('"b" > "A"', True),
]


@pytest.mark.parametrize(("text", "holds"), CONDITIONS, ids=ids(CONDITIONS))
def test_condition(text: str, holds: bool) -> None:
    assert bool(evaluate(text)) is holds


def test_unread_cell_fails_only_where_it_is_used_and_names_its_cell() -> None:
    with pytest.raises(RowFault, match=r"s.csv, bad: 31.02.2027 is no date"):
        evaluate("bad at From")
    with pytest.raises(WaitingFault, match="two readings"):
        evaluate("row.open at From")
    with pytest.raises(RowFault, match="cannot be divided by nothing"):
        evaluate("1 / 0")


def test_text_block_loses_its_indent_and_lists_repeat_their_line() -> None:
    block = ["    {count(Who)} people", "      {Who}", "    {Answer}", '    {split("")}', "    end"]
    assert evaluate('"""', block) == "2 people\n  a@example.org\n  b@example.org\n\nend"


def test_names_of_each_do_not_leak() -> None:
    assert evaluate("each w in Who: w", w="kept") == ["a@example.org", "b@example.org"]


REPEATS = [
    ("every day", {"FREQ": "DAILY"}),
    ("every 2 weeks on wednesday, 6 times", {"FREQ": "WEEKLY", "INTERVAL": "2", "BYDAY": "WE", "COUNT": "6"}),
    ("every week on monday, wednesday", {"FREQ": "WEEKLY", "BYDAY": "MO,WE"}),
    ("every weekday", {"FREQ": "WEEKLY", "BYDAY": "MO,TU,WE,TH,FR"}),
    ("every month on the last friday", {"FREQ": "MONTHLY", "BYDAY": "-1FR"}),
    ("every month on the 1st and 15th", {"FREQ": "MONTHLY", "BYMONTHDAY": "1,15"}),
    ("every month on the last day", {"FREQ": "MONTHLY", "BYMONTHDAY": "-1"}),
    ("every other year", {"FREQ": "YEARLY", "INTERVAL": "2"}),
    ("every monday and friday", {"FREQ": "WEEKLY", "BYDAY": "MO,FR"}),
    ("FREQ=WEEKLY;BYDAY=TU", {"FREQ": "WEEKLY", "BYDAY": "TU"}),
    ("RRULE:FREQ=DAILY;COUNT=3", {"FREQ": "DAILY", "COUNT": "3"}),
]


@pytest.mark.parametrize(("text", "parts"), REPEATS, ids=ids(REPEATS))
def test_repetition_is_read(text: str, parts: dict[str, str]) -> None:
    assert parse_repeat(text) == parts


@pytest.mark.parametrize(
    "text",
    [
        "weekly",
        "every blue moon",
        "every week on",
        "every month on friday",
        "every week, 0 times",
        "every 0 days",
        "every month on the 1st, last friday",
    ],
)
def test_other_phrases_are_no_repetition(text: str) -> None:
    with pytest.raises(NoRepeat):
        parse_repeat(text)
