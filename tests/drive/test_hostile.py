"""A file that nobody should have written is named in one line, and everything else in its workspace goes on."""

from __future__ import annotations

import pytest

from tests.conftest import Desk
from tests.hostile_files import CALENDARS, SHEETS
from tests.hostile_workspace import COMMANDS, lay_out

READ = {  # odd, and yet it says what is meant
    *("lone-cr", "unbalanced", "long-line", "folds", "end-before-start", "long-trigger", "many-alarms"),
    *("two-thousand-million", "many-exceptions", "many-dates", "uid-as-a-path", "uid-of-controls", "orphan"),
    *("ten-thousand-guests", "thousand-events", "twins", "never-by-seconds"),
    *("stray-far.xlsx", "stray-down.xlsx", "no-sheet.xlsx", "entities.xlsx", "long-cell.csv"),
    *("escape.csv", "date.csv"),
}
FILES = {**{f"{name}.ics": make for name, make in CALENDARS.items()}, **SHEETS}


@pytest.mark.parametrize("name", FILES)
def test_it_is_named_and_the_rest_goes_on(desk: Desk, name: str) -> None:
    (desk.folder / "workflows").rmdir()
    lay_out(desk.folder, name, FILES[name]())
    before = (desk.folder / ("cal" if name.endswith(".ics") else "") / name).read_bytes()
    results = {command[0]: desk.run(*command) for command in COMMANDS if command[0] in ("run", "agenda")}
    assert all(0 <= each.code <= 3 for each in results.values()), results
    made = [path.read_text() for path in desk.events("out")]
    assert sum("SUMMARY:Night walk" in text for text in made) == 1
    assert sum("SUMMARY:after standing" in text for text in made) == 1
    assert "standing" in results["agenda"].out
    named = [line for command in ("run", "agenda") for line in f"{results[command].err}".splitlines() if name in line]
    is_read = name.removesuffix(".ics") in READ
    assert bool(named) is not is_read, named
    assert len(named) <= 2 or name == "uneven.csv"  # each of its rows waits for its key
    assert "Traceback" not in str(results)
    assert (desk.folder / ("cal" if name.endswith(".ics") else "") / name).read_bytes() == before
