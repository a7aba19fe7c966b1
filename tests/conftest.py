"""Shared fixtures: a workspace in a temporary folder, and the program run in it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from whenvoca.cli.main import run_command

# The same examples each time: what `make test` says does not depend on luck. `make soak` searches at random.
settings.register_profile(
    "default", deadline=None, max_examples=80, derandomize=True, suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("default")

WHENVOCA = str(Path(sys.executable).parent / "whenvoca")
EXAMPLES = Path(__file__).parent / "examples"

SETTINGS = """
[workspace]
name = "Larkmoor"
root = "5b0c6a54-6f0e-4f0b-9a43-2f6a3f0c1d7e"
zone = "Atlantic/Azores"
wait = "0 minutes"
[people.ines]
mail = "ines@example.org"
[people.tomas]
mail = "tomas@example.org"
"""
REQUESTS = """
[places.requests]
kind = "sheet"
file = "requests.csv"
key = "No"
dates = "day first"
[places.domes]
kind = "calendar"
folder = "domes"
[places.log]
kind = "sheet"
file = "log.csv"
create = true
"""
WORKFLOW = """
title "Requests"

when requests gains a row
  where  Answer is empty

create event in domes as slot
  title  Title
  start  Day at From
  end    Day at To

change row
  Booking  slot.uid
  Answer   "granted"

if anything fails
  change row
    Answer  "not granted: {reason}"
"""
HEAD = "Answer,Booking,No,Title,Day,From,To\n"


@dataclass
class Result:
    """What one command gave."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """Standard output as JSON."""
        return json.loads(self.out)


class Desk:
    """A workspace and commands run in it."""

    def __init__(self, folder: Path, capture: pytest.CaptureFixture[str]) -> None:
        self.folder = folder
        self._capture = capture
        (folder / "workflows").mkdir()

    def settings(self, *parts: str) -> Desk:
        """Writes whenvoca.toml."""
        (self.folder / "whenvoca.toml").write_text("".join(parts), encoding="utf-8")
        return self

    def workflow(self, text: str, name: str = "slots") -> Desk:
        """Writes a workflow."""
        (self.folder / f"workflows/{name}.voca").write_text(text, encoding="utf-8")
        return self

    def write(self, name: str, content: str | bytes) -> Path:
        """Writes a file that has stood for a while."""
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        os.utime(path, (1, 1))
        return path

    def rows(self, *rows: str, name: str = "requests.csv", head: str = HEAD) -> Path:
        """Writes the sheet of requests."""
        return self.write(name, head + "".join(row + "\n" for row in rows))

    def read(self, name: str = "requests.csv") -> str:
        """A file as it stands."""
        return (self.folder / name).read_text(encoding="utf-8")

    def run(self, *arguments: str) -> Result:
        """A command in this process, in this workspace."""
        return self.run_anywhere(*arguments, "--workspace", str(self.folder))

    def say(self, text: str, *more: str) -> Result:
        """Says a request; where readings are offered, the first one is meant."""
        said = self.run("say", text, *more)
        return self.run("say", "yes", *more) if said.out.startswith("Which is meant?") else said

    def run_anywhere(self, *arguments: str) -> Result:
        """A command in this process."""
        self._capture.readouterr()
        code = run_command([*arguments])
        told = self._capture.readouterr()
        return Result(code, told.out, told.err)

    def drive(self, *arguments: str, **more: Any) -> Result:
        """A command of the installed program, in a process of its own."""
        done = subprocess.run(
            [WHENVOCA, *arguments], cwd=self.folder, capture_output=True, text=True, timeout=60, **more
        )
        return Result(done.returncode, done.stdout, done.stderr)

    def events(self, calendar: str = "domes") -> list[Path]:
        """The event files of a calendar folder."""
        return sorted((self.folder / calendar).glob("*.ics")) if (self.folder / calendar).exists() else []

    def snapshot(self) -> dict[str, bytes]:
        """Every file outside .whenvoca with its bytes."""
        return {
            str(path.relative_to(self.folder)): path.read_bytes()
            for path in sorted(self.folder.rglob("*"))
            if path.is_file() and ".whenvoca" not in path.parts
        }


@pytest.fixture
def desk(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> Desk:
    """An empty workspace folder."""
    folder = tmp_path / "w"
    folder.mkdir()
    return Desk(folder, capsys)


@pytest.fixture
def slots(desk: Desk) -> Desk:
    """The workspace of most tests: a CSV of requests, a folder calendar, one workflow."""
    return desk.settings(SETTINGS, REQUESTS).workflow(WORKFLOW)


def ids(cases: Iterable[Sequence[Any]]) -> list[str]:
    """Case names: the first element of each, as text."""
    return [str(case[0])[:60] for case in cases]


@pytest.fixture(autouse=True)
def plain_output(monkeypatch: pytest.MonkeyPatch) -> None:
    """Output as wide as a page and without colour, whatever terminal the tests run in."""
    monkeypatch.setenv("COLUMNS", "100")
    monkeypatch.setenv("NO_COLOR", "1")


Make = Callable[..., Any]
