"""What comes in by the web, in the ledger: numbers are never given twice, and nothing present is forgotten."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import pytest

from whenvoca.engine.ledger.records import KeptEntry
from whenvoca.engine.ledger.sqlite import SqliteLedger

EARLY, LATE = "2027-01-01T00:00:00+00:00", "2027-06-01T00:00:00+00:00"


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[SqliteLedger]:
    with closing(SqliteLedger(tmp_path / "ledger.sqlite")) as made:
        yield made


def put(ledger: SqliteLedger, subject: str, name: str | None, at: str = EARLY, once: str = "") -> None:
    state = None if name is None else {"Name": name, "sent": datetime(2027, 1, 1, tzinfo=UTC)}
    ledger.put_entry("lending", KeptEntry(subject, int(subject), at, state), once)


def test_numbers_are_given_once_each_place_for_itself(ledger: SqliteLedger) -> None:
    assert [ledger.next_number(place) for place in ("a", "a", "b", "a")] == [1, 2, 1, 3]


def test_changes_come_in_order_and_the_entry_is_as_the_last_says(ledger: SqliteLedger) -> None:
    for name in ("Joana", "Joana M", None):
        put(ledger, "1", name)
    put(ledger, "2", "Paulo")
    found = ledger.arrivals("lending", 0)
    assert [(each.subject, (each.state or {}).get("Name")) for each in found] == [
        ("1", "Joana"),
        ("1", "Joana M"),
        ("1", None),
        ("2", "Paulo"),
    ]
    assert ledger.arrivals("lending", found[2].sequence) == found[3:]
    assert ledger.last_arrival("lending") == found[-1].sequence
    assert ledger.count_entries("lending") == 1
    assert ledger.newest_entry("lending") == ledger.entry("lending", "2")


def test_what_comes_again_is_known_by_its_word(ledger: SqliteLedger) -> None:
    put(ledger, "1", "Joana", once="page")
    assert ledger.taken_before("lending", "page") == "1"
    assert ledger.taken_before("lending", "") is None
    assert ledger.taken_before("other", "page") is None
    ledger.remember_once("lending", "page", "2", LATE)
    assert ledger.taken_before("lending", "page") == "1"


def test_what_stands_outlives_its_history(ledger: SqliteLedger) -> None:
    put(ledger, "1", "Joana", once="page")
    ledger.next_number("lending")
    ledger.observe("lending", [], str(ledger.last_arrival("lending")), EARLY)
    put(ledger, "2", "Paulo", at=LATE)  # nobody has looked at it yet
    ledger.prune(LATE)
    assert [each.subject for each in ledger.arrivals("lending", 0)] == ["2"]
    kept = ledger.entry("lending", "1")
    assert kept is not None
    assert kept.state is not None
    assert kept.state["Name"] == "Joana"
    assert ledger.next_number("lending") == 2
    before = ledger.last_arrival("lending")
    put(ledger, "3", "Marta")
    assert ledger.last_arrival("lending") > before


def test_a_renamed_form_keeps_its_entries(ledger: SqliteLedger) -> None:
    put(ledger, "1", "Joana", once="page")
    ledger.next_number("lending")
    ledger.rename_place("lending", "loans")
    assert ledger.entry("loans", "1") is not None
    assert ledger.taken_before("loans", "page") == "1"
    assert ledger.next_number("loans") == 2
    assert len(ledger.arrivals("loans", 0)) == 1
