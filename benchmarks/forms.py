"""A form's answer with its run, and the memory of `watch` over many entries.

python -m benchmarks.forms [ENTRIES]   (300 answers one after the other; then 20,000 entries, eight at a time)
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from pathlib import Path

import httpx
import psutil
from benchmarks.web import WHENVOCA, free_port, wait_for

ANSWERS, AT_A_TIME = 300, 8
FIRST = date(2027, 1, 1)
SETTINGS = """
[workspace]
name = "Bench"
root = "00000000-0000-4000-8000-000000000001"
zone = "Atlantic/Azores"
[web]
listen = "127.0.0.1:{port}"
rate = {{ sender = "900000 a second", total = "900000 a second" }}
[places.lending]
kind = "form"
path = "/lending"
fields = [ {{ name = "Name", required = true }}, {{ name = "Out", kind = "date", required = true }} ]
[places.visits]
kind = "form"
path = "/visits"
fields = [ {{ name = "Name", required = true }} ]
[places.loans]
kind = "calendar"
folder = "loans"
"""
WORKFLOW = """
when lending receives an entry

create event in loans
  title      "Small telescope: {Name}"
  first-day  Out
  clash      refuse
"""


def main(entries: int) -> None:
    """Prints how long answers took, and what memory was taken."""
    with tempfile.TemporaryDirectory() as name:
        folder, port = Path(name), free_port()
        (folder / "workflows").mkdir()
        (folder / "whenvoca.toml").write_text(SETTINGS.format(port=port), encoding="utf-8")
        (folder / "workflows/lend.voca").write_text(WORKFLOW, encoding="utf-8")
        watch = subprocess.Popen([WHENVOCA, "watch"], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            wait_for(port)
            with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=30) as client:
                taken = []
                for number in range(ANSWERS):
                    given = {"page": f"a{number}", "Name": "Joana", "Out": f"{FIRST + timedelta(days=number)}"}
                    begin = time.perf_counter()
                    answer = client.post("/lending", data=given)
                    taken.append(time.perf_counter() - begin)
                    if answer.status_code != 303:
                        raise SystemExit(f"answered {answer.status_code}")
            found = statistics.quantiles(taken, n=100)
            print(f"{ANSWERS} answers with their runs: median {found[49]:.3f} s, p99 {found[98]:.3f} s")
            process = psutil.Process(watch.pid)

            def send(first: int) -> None:
                with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60) as mine:
                    for number in range(first, entries, AT_A_TIME):
                        mine.post("/visits", data={"page": f"b{number}", "Name": f"Visitor {number}"})

            before = process.memory_info().rss
            begin = time.perf_counter()
            with ThreadPoolExecutor(AT_A_TIME) as pool:
                list(pool.map(send, range(AT_A_TIME)))
            seconds, after = time.perf_counter() - begin, process.memory_info().rss
            print(
                f"{entries:,} entries, {entries / seconds:,.0f} a second: memory of watch {before / 1e6:.0f} → "
                f"{after / 1e6:.0f} MB"
            )
        finally:
            watch.terminate()
            watch.wait()


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 20_000)
