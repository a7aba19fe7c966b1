"""How the ledger grows over a simulated year of 500 runs a day, and what forgetting takes and gives back.

Each day 500 rows of a sheet change and a mirror follows them, by `run` with the played time of that day; then the
ledger is pruned to its last 90 days, as `history = "90 days"` does, and once more a day later.

    python benchmarks/history.py [DAYS] [ROWS]
"""

from __future__ import annotations

import sys
import tempfile
import time
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

from whenvoca.cli.main import run_command
from whenvoca.engine.ledger.sqlite import SqliteLedger

SETTINGS = """[workspace]
root = "5b0c6a54-6f0e-4f0b-9a43-2f6a3f0c1d7e"
zone = "UTC"
history = "everything"
[places.requests]
kind = "sheet"
file = "requests.csv"
key = "No"
[places.domes]
kind = "calendar"
folder = "domes"
"""
WORKFLOW = """brake 100000 changes

when requests gains, changes or loses a row

mirror event in domes
  title  Title
  start  Day at From
  end    Day at To
"""
_BEGIN = datetime(2026, 1, 1, 8, tzinfo=UTC)
_HISTORY = 90


def play(folder: Path, days: int, rows: int) -> float:
    """Runs each day once; answers the seconds it took."""
    begin = time.perf_counter()
    for day in range(days):
        lines = [f"R-{n},Talk {n} of day {day},2027-03-17,{n % 20:02}:00,{n % 20 + 1:02}:00" for n in range(rows)]
        (folder / "requests.csv").write_text("No,Title,Day,From,To\n" + "\n".join(lines) + "\n", encoding="utf-8")
        now = (_BEGIN + timedelta(days=day)).isoformat()
        if run_command(["run", "--yes", "--quiet", "--workspace", str(folder), "--now", now]):
            raise SystemExit(f"day {day} failed")
    return time.perf_counter() - begin


def forget(path: Path, now: datetime) -> tuple[int, float]:
    """How many runs are forgotten, and the seconds it takes."""
    begin = time.perf_counter()
    with closing(SqliteLedger(path)) as ledger:
        count = ledger.prune((now - timedelta(days=_HISTORY)).isoformat())
    return count, time.perf_counter() - begin


def main() -> None:
    """Prints the measurements."""
    given = [int(each) for each in sys.argv[1:3]]
    days, rows = [*given, *(365, 500)[len(given) :]]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "workflows").mkdir()
        (folder / "whenvoca.toml").write_text(SETTINGS, encoding="utf-8")
        (folder / "workflows/slots.voca").write_text(WORKFLOW, encoding="utf-8")
        spent = play(folder, days, rows)
        path = folder / ".whenvoca/ledger.sqlite"
        print(f"{days} days of {rows} runs: {spent:.0f} s; the ledger: {path.stat().st_size / 1e6:.1f} MB")
        now = _BEGIN + timedelta(days=days)
        for said, at in (("the first time", now), ("a day later", now + timedelta(days=1))):
            count, took = forget(path, at)
            print(
                f"forgetting to {_HISTORY} days, {said}: {count} runs, {took:.2f} s; {path.stat().st_size / 1e6:.1f} MB"
            )


if __name__ == "__main__":
    main()
