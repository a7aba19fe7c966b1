"""Each hostile file among the places of a workspace: how long the commands take, and how much memory.

    python -m benchmarks.hostile [NAME]...

Prints one line a file: the slowest command and its seconds, the most memory of any, the exit codes of check, run,
agenda and places.
"""

from __future__ import annotations

import multiprocessing
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from tests.hostile_files import CALENDARS, SHEETS
from tests.hostile_workspace import COMMANDS, lay_out

_PROGRAM = str(Path(sys.executable).with_name("whenvoca"))


def measure(folder: Path, arguments: tuple[str, ...]) -> tuple[int, float, int]:
    """Exit code, seconds, and megabytes of one command."""
    begin = time.perf_counter()
    child = os.fork()
    if not child:
        os.chdir(folder)
        null = os.open(os.devnull, os.O_RDWR)
        for number in range(3):
            os.dup2(null, number)
        os.execv(_PROGRAM, [_PROGRAM, *arguments])
    _, status, used = os.wait4(child, 0)
    return os.waitstatus_to_exitcode(status), time.perf_counter() - begin, used.ru_maxrss // 1024


def _build(folder: str, name: str, make: Callable[[], bytes]) -> None:
    lay_out(Path(folder), name, make())


def main() -> None:
    """Measures them all."""
    chosen = sys.argv[1:]
    for name, make in {**{f"{name}.ics": make for name, make in CALENDARS.items()}, **SHEETS}.items():
        if chosen and name not in chosen:
            continue
        with tempfile.TemporaryDirectory() as folder:
            builder = multiprocessing.Process(target=_build, args=(folder, name, make))
            builder.start()  # a process of its own, for memory counts from the one that starts another
            builder.join()
            found = {command[0]: measure(Path(folder), command) for command in COMMANDS}
        slowest = max(found, key=lambda each: found[each][1])
        codes = " ".join(str(code) for code, _, _ in found.values())
        most = max(memory for _, _, memory in found.values())
        print(f"{name:26} {slowest:7} {found[slowest][1]:6.2f} s {most:5} MB   {codes}", flush=True)


if __name__ == "__main__":
    main()
