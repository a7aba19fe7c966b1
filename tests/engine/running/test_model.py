"""A mirror against a model of it: two hands edit the sheet and the calendar between runs, in any order.

After each run the calendar holds what the model says: one event for each row, what another hand changed is not written
over, and an undo gives back the state before.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import tempfile
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import Bundle, RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test
from msgspec.structs import replace

from tests.conftest import REQUESTS, SETTINGS
from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import change_event, remove_event
from whenvoca.calendars.reader import read_events
from whenvoca.cli.main import run_command

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
KEYS = ("R-1", "R-2")
TITLES, HOURS = st.sampled_from(["M 42", "M 13", "Mars"]), st.integers(10, 14)
MIRROR = (
    'brake  100 deletions\nwhen requests gains, changes or loses a row\n  where  Answer is not "withdrawn"\n\n'
    "mirror event in domes\n  title  Title\n  start  Day at From\n  length 1 hour\n  details  row.No\n"
)
Fields = tuple[str, int]  # title, hour of the start


@dataclass
class Mirrored:
    """What the model knows of one key."""

    base: Fields | None = None
    copy: Fields | None = None
    was_lost: bool = False  # its row was seen to be gone since the copy was made


class MirrorMachine(RuleBasedStateMachine):
    """Edits, runs and undoes in any order."""

    keys = Bundle("keys")

    @initialize()
    def begin(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        (self.folder / "workflows").mkdir()
        places = REQUESTS.replace('folder = "domes"', 'file = "domes.ics"')
        (self.folder / "whenvoca.toml").write_text(SETTINGS + places)
        (self.folder / "workflows/keep.voca").write_text(MIRROR)
        self.rows: dict[str, Fields] = {}
        self.withdrawn: set[str] = set()
        self.model = {key: Mirrored() for key in KEYS}
        self.seen: dict[str, Fields] = {}  # the set as the workflow last looked at it
        self.rows = {"R-1": ("M 42", 12), "R-2": ("M 13", 12)}
        self.write_rows()
        self.run()

    def teardown(self) -> None:
        shutil.rmtree(getattr(self, "folder", "/nonexistent"), ignore_errors=True)

    # --- the two hands

    def write_rows(self) -> None:
        lines = ["Answer,Booking,No,Title,Day,From,To"]
        for key, (title, hour) in self.rows.items():
            lines.append(f"{'withdrawn' if key in self.withdrawn else ''},,{key},{title},17.03.2027,{hour}:00,")
        path = self.folder / "requests.csv"
        path.write_text("\n".join(lines) + "\n")
        os.utime(path, (1, 1))

    @rule(key=st.sampled_from(KEYS), title=TITLES, hour=HOURS)
    def put_row(self, key: str, title: str, hour: int) -> None:
        self.rows[key] = (title, hour)
        self.write_rows()

    @rule(key=st.sampled_from(KEYS))
    def take_row(self, key: str) -> None:
        self.rows.pop(key, None)
        self.withdrawn.discard(key)
        self.write_rows()

    @rule(key=st.sampled_from(KEYS))
    def withdraw_or_bring_back(self, key: str) -> None:
        if key in self.rows:
            self.withdrawn ^= {key}
            self.write_rows()

    @rule(order=st.permutations(KEYS))
    def sort_rows(self, order: list[str]) -> None:
        self.rows = {key: self.rows[key] for key in order if key in self.rows}
        self.write_rows()

    @rule(key=st.sampled_from(KEYS), title=TITLES, hour=HOURS)
    def edit_event(self, key: str, title: str, hour: int) -> None:
        event = self.events().get(key)
        if event is not None:
            start = datetime(2027, 3, 17, hour, tzinfo=AZORES)
            new = replace(event, title=title, start=start, end=start.replace(hour=hour + 1))
            path = self.folder / "domes.ics"
            path.write_bytes(change_event(path.read_bytes(), event, new, STAMP, AZORES))
            os.utime(path, (1, 1))
            self.model[key].copy = (title, hour)

    @rule(key=st.sampled_from(KEYS))
    def take_event(self, key: str) -> None:
        event = self.events().get(key)
        if event is not None:
            path = self.folder / "domes.ics"
            path.write_bytes(remove_event(path.read_bytes(), event.uid))
            os.utime(path, (1, 1))
            self.model[key].copy = None

    # --- runs

    def events(self) -> dict[str, Event]:
        path = self.folder / "domes.ics"
        found = read_events(path.read_bytes(), AZORES) if path.exists() else []
        assert len({event.details for event in found}) == len(found), "two events of one row"
        return {event.details: event for event in found}

    def command(self, *arguments: str) -> tuple[int, Any]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            more = ["--yes"] if arguments[0] == "run" else []
            code = run_command([*arguments, *more, "--json", "--workspace", str(self.folder)])
        assert code in (0, 1) or (code == 4 and arguments[0] == "rehearse"), err.getvalue()
        return code, json.loads(out.getvalue())

    def in_set(self) -> dict[str, Fields]:
        return {key: fields for key, fields in self.rows.items() if key not in self.withdrawn}

    def follow(self) -> bool:
        """Moves the model on as a run should; answers whether a run should fail."""
        now, failed = self.in_set(), False
        for key in KEYS:
            row, mirrored = now.get(key), self.model[key]
            mirrored.was_lost = mirrored.was_lost or key not in self.rows
            if row == self.seen.get(key):
                continue
            if row is None:
                if mirrored.copy is not None and mirrored.copy == mirrored.base:
                    mirrored.base = mirrored.copy = None
                elif mirrored.copy is not None:
                    failed = True
            elif mirrored.base is None or (mirrored.copy is None and mirrored.was_lost):
                mirrored.base, mirrored.copy, mirrored.was_lost = row, row, False
            elif mirrored.copy is None:
                failed = True
            else:
                copy, base = list(mirrored.copy), list(mirrored.base)
                for index in (0, 1):
                    if copy[index] == row[index] or copy[index] == base[index]:
                        copy[index] = base[index] = row[index]  # type: ignore[call-overload]
                    else:
                        failed = True
                mirrored.copy, mirrored.base = (copy[0], copy[1]), (base[0], base[1])  # type: ignore[assignment]
        self.seen = now
        return failed

    @rule(key=st.sampled_from(KEYS), title=TITLES, hour=HOURS, other_title=TITLES, other_hour=HOURS)
    def edit_both(self, key: str, title: str, hour: int, other_title: str, other_hour: int) -> None:
        self.edit_event(key, title, hour)
        self.put_row(key, other_title, other_hour)

    @rule()
    def run(self) -> None:
        _, told = self.command("run")
        self.follow()
        assert not any(run["outcome"] == "waiting" for run in told["runs"])
        _, again = self.command("run")
        assert again["runs"] == []

    @rule()
    def rehearse(self) -> None:
        before = {path: path.read_bytes() for path in self.folder.rglob("*") if path.is_file()}
        self.command("rehearse")
        assert {path: path.read_bytes() for path in self.folder.rglob("*") if path.is_file()} == before

    @rule()
    def run_and_undo(self) -> None:
        before = {key: event.content() for key, event in self.events().items()}
        _, told = self.command("run")
        done = [str(run["run"]) for run in told["runs"] if run["effects"]]
        if done:
            self.command("undo", *done, "--yes")
        assert {key: event.content() for key, event in self.events().items()} == before
        known = {key: Mirrored(each.base, each.copy, each.was_lost) for key, each in self.model.items()}
        self.follow()
        for key, each in known.items():  # what was written is as it was; what both sides had made alike stays agreed
            now = self.model[key]
            if each.copy is None or now.copy is None or each.base is None or now.base is None:
                self.model[key] = each if each.copy != now.copy else now
            else:
                was, base = each.base, now.base
                kept = [base[n] if now.copy[n] == each.copy[n] else was[n] for n in (0, 1)]
                self.model[key] = Mirrored((kept[0], kept[1]), each.copy, now.was_lost)  # type: ignore[arg-type]

    @invariant()
    def calendar_is_as_the_model_says(self) -> None:
        if not hasattr(self, "folder"):
            return
        found = {key: (event.title, event.start.hour) for key, event in self.events().items()}  # type: ignore[union-attr]
        assert found == {key: each.copy for key, each in self.model.items() if each.copy is not None}


TestMirror = MirrorMachine.TestCase
TestMirror.settings = settings(max_examples=30, stateful_step_count=24, deadline=None, derandomize=True)


@pytest.mark.soak
def test_mirror_random_histories_keep_the_model() -> None:
    count = int(os.environ.get("MODEL_EXAMPLES", "250"))
    search = settings(
        max_examples=count, stateful_step_count=24, deadline=None, derandomize=False, print_blob=True, database=None
    )
    run_state_machine_as_test(MirrorMachine, settings=search)


def test_undone_deletion_row_that_comes_back_changed_is_followed() -> None:
    machine = MirrorMachine()
    machine.begin()
    try:
        machine.take_row("R-1")
        machine.run_and_undo()
        machine.put_row("R-1", "M 42", 10)
        machine.run()
        machine.calendar_is_as_the_model_says()
    finally:
        machine.teardown()
