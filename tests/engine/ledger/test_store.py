"""The ledger's contract; a second backing has to pass it too."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing
from datetime import date
from pathlib import Path

import pytest

from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Journal, Occurrence, StateChange
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.place_protocols import SaveIntent
from whenvoca.engine.row_hashes import HashBlock, RowHashes
from whenvoca.errors import PlaceTrouble, SettingsFault

AT = "2027-03-17T10:00:00+00:00"


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    with closing(SqliteLedger(tmp_path / "ledger.sqlite")) as ledger:
        yield ledger


def begun(ledger: Ledger, subject: str = "R-1", sequence: int = 1) -> Occurrence:
    ledger.add_occurrences([Occurrence("w", "p", subject, sequence, AT)])
    return ledger.begin_runs(ledger.waiting("w", 10)[-1:], AT)[0]


def test_observations_are_numbered_and_there_and_back_is_two_changes(ledger: Ledger) -> None:
    a, b = {"Day": date(2027, 3, 17)}, {"Day": date(2027, 3, 18)}
    for state in (a, b, a, None):
        ledger.observe("p", [StateChange("R-1", state)], "c", AT)
    seen = list(ledger.observations("p", 0))
    assert [(each.old, each.new) for each in seen] == [(None, a), (a, b), (b, a), (a, None)]
    assert [each.sequence for each in seen] == [1, 2, 3, 4]
    assert ledger.standing("p") == {}
    assert ledger.last_sequence("p") == 4
    assert [each.sequence for each in ledger.observations("p", 3)] == [4]


def test_observation_tells_the_workflow_that_caused_it(ledger: Ledger) -> None:
    run = begun(ledger).run
    ledger.observe("p", [StateChange("R-1", {"A": "x"})], "c", AT, {"R-1": run})
    assert next(ledger.observations("p", 0)).cause_workflow == "w"


def test_one_occurrence_waits_for_a_subject_at_a_time(ledger: Ledger) -> None:
    assert ledger.add_occurrences([Occurrence("w", "p", "R-1", 1, AT), Occurrence("w", "p", "R-1", 2, AT)]) == 1
    assert ledger.add_occurrences([Occurrence("w", "p", "R-1", 1, AT)]) == 0
    assert ledger.count_waiting("w") == 1


def test_receipts_and_failures_of_a_run_are_kept(ledger: Ledger) -> None:
    occurrence = begun(ledger)
    key = EffectKey("1 slot", "", 1, "domes u1")
    effect = Effect(
        place="domes",
        verb="create event",
        target="u1",
        lineage="r/w/R-1/slot/",
        number=1,
        after={"start": date(2027, 3, 17)},
        notes=("a", "b"),
    )
    ledger.commit(Journal(intents=[(1, occurrence.run, key, effect)]))
    assert [(entry.key, entry.effect, entry.receipt) for entry in ledger.journal_of(occurrence.run)] == [
        (key, effect, None)
    ]
    assert ledger.made("domes", effect.lineage) is None
    ledger.commit(
        Journal(receipts=[(1, effect, Receipt("v1", "file:///a b.ics"))], ended=[(occurrence, "done", "", 7)])
    )
    assert ledger.journal_of(occurrence.run)[0].receipt == Receipt("v1", "file:///a b.ics")
    made = ledger.made("domes", effect.lineage)
    assert made is not None
    assert (made.uid, made.number, made.version) == ("u1", 1, "v1")
    (record,) = ledger.runs()
    assert (record.outcome, record.milliseconds, record.effects) == ("done", 7, (effect,))
    assert ledger.count_waiting("w") == 0


def test_intents_of_a_way_not_taken_again_are_no_effects_of_the_run(ledger: Ledger) -> None:
    occurrence = begun(ledger)
    ledger.commit(
        Journal(
            intents=[
                (
                    1,
                    occurrence.run,
                    EffectKey("1 a", "", 1),
                    Effect(place="p", verb="change row", target="R-1", after={"A": "x"}),
                )
            ]
        )
    )
    ledger.commit(Journal(ended=[(occurrence, "failed", "why", 1)], abandoned=[occurrence.run]))
    assert ledger.journal_of(occurrence.run) == []
    assert ledger.failed_writes("w") == {"R-1": []}


def test_history_is_told_newest_first_and_by_choice(ledger: Ledger) -> None:
    for number, outcome in enumerate(("done", "failed", "done"), 1):
        occurrence = begun(ledger, f"R-{number}", number)
        ledger.commit(Journal(ended=[(occurrence, outcome, "", 1)]))
    assert [record.subject for record in ledger.runs()] == ["R-3", "R-2", "R-1"]
    assert [record.subject for record in ledger.runs(failed=True)] == ["R-2"]
    assert ledger.runs(workflow="other") == []
    assert ledger.runs(since="2027-03-18") == []


def test_saves_whose_end_was_never_noted_are_told(ledger: Ledger) -> None:
    first = ledger.begin_save(SaveIntent("f", "a", "b"), [1, 2])
    second = ledger.begin_save(SaveIntent("f", "b", "c"), [3])
    ledger.end_save(first, "done")
    assert ledger.open_saves() == [(second, SaveIntent("f", "b", "c"), [3])]


def test_a_transaction_is_all_or_nothing(ledger: Ledger) -> None:
    class Cut(Exception):
        pass

    with pytest.raises(Cut), ledger.transaction():
        ledger.observe("p", [StateChange("R-1", {"A": "x"})], "c", AT)
        raise Cut
    assert ledger.standing("p") == {}
    assert ledger.cursor("p") == ""


def test_ledger_of_a_newer_version_is_refused_with_a_way_on(tmp_path: Path) -> None:
    path = tmp_path / "ledger.sqlite"
    SqliteLedger(path).close()
    with sqlite3.connect(path) as db:
        db.execute("PRAGMA user_version=99")
    db.close()
    with pytest.raises(SettingsFault, match="the ledger is of version 99") as caught:
        SqliteLedger(path)
    assert "move the ledger away" in caught.value.fix


def test_file_that_is_no_ledger_is_told(tmp_path: Path) -> None:
    path = tmp_path / "ledger.sqlite"
    path.write_bytes(b"no database at all, and long enough to be looked at" * 40)
    with pytest.raises(PlaceTrouble, match="the ledger is damaged"):
        SqliteLedger(path)


def test_copy_in_memory_leaves_the_file_alone(tmp_path: Path) -> None:
    path = tmp_path / "ledger.sqlite"
    with closing(SqliteLedger(path)) as real:
        real.observe("p", [StateChange("R-1", {"A": "x"})], "c", AT)
        with closing(SqliteLedger.copy_of(path)) as copy:
            copy.observe("p", [StateChange("R-2", {"A": "y"})], "c", AT)
            assert set(copy.standing("p")) == {"R-1", "R-2"}
        assert set(real.standing("p")) == {"R-1"}


def test_ledger_of_an_earlier_version_is_brought_up_to_date_with_what_it_holds(tmp_path: Path) -> None:
    path = tmp_path / "ledger.sqlite"
    ledger = SqliteLedger(path)
    ledger.observe("p", [StateChange("R-1", {"A": "x"})], "c", AT)
    ledger.close()
    with sqlite3.connect(path) as db:
        tables = ("prints", "numbers", "entries", "arrivals", "repeats", "samples")
        later = " ".join(f"DROP TABLE {name};" for name in tables)
        db.executescript(f"{later} ALTER TABLE things DROP COLUMN made; PRAGMA user_version=3")
    db.close()
    with closing(SqliteLedger(path)) as newer:
        assert newer.standing("p") == {"R-1": {"A": "x"}}
        newer.observe("p", [], "d", AT, prints=RowHashes([HashBlock(b"w", ["R-1"], b"1" * 16)]))
        assert newer.prints("p").keys() == ["R-1"]
        assert newer.next_number("lending") == 1


def test_states_of_many_subjects_are_read_when_they_are_asked_for(ledger: Ledger) -> None:
    ledger.observe("p", [StateChange(f"R-{n}", {"A": n}) for n in range(500)], "c", AT)
    standing = ledger.standing("p")
    assert len(standing) == 500
    assert "R-7" in standing
    assert "R-500" not in standing
    assert standing.get("R-500") is None
    assert [standing[f"R-{n}"]["A"] for n in range(500)] == list(range(500))
    assert standing.is_same("R-499", {"A": 499})
    assert not standing.is_same("R-499", {"A": 1})
    assert not standing.is_same("R-500", {"A": 500})


def test_a_copy_takes_nothing_away_from_who_has_the_ledger_open(tmp_path: Path) -> None:
    path = tmp_path / "ledger.sqlite"
    another = (
        "import sys; from pathlib import Path; from whenvoca.engine.ledger.sqlite import SqliteLedger\n"
        "ledger = SqliteLedger(Path(sys.argv[1])); ledger.set_meta('told', sys.argv[2]); ledger.close()"
    )
    with closing(SqliteLedger(path)) as ledger:
        ledger.set_meta("here", "first")
        with closing(SqliteLedger.copy_of(path)) as copy:
            assert copy.meta("here") == "first"
        for word in ("once", "twice"):
            subprocess.run([sys.executable, "-c", another, str(path), word], check=True)
            assert path.with_name("ledger.sqlite-wal").exists()
            assert ledger.meta("told") == word
            ledger.set_meta("here", word)
    with closing(SqliteLedger(path)) as again:
        assert (again.meta("here"), again.meta("told")) == ("twice", "twice")
