"""Intake of web calls at 16 connections: ours, beside the same application without a commit and with a bare one.

python -m benchmarks.web   (all three in one run, each in a process of its own; medians of three rounds)
"""

from __future__ import annotations

import asyncio
import json
import multiprocessing
import queue
import socket
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

WHENVOCA = str(Path(sys.executable).parent / "whenvoca")
CONNECTIONS, CALLS = 16, 6000
BODY = json.dumps(
    {"id": "0" * 12, "visit": {"number": "V-11"}, "teacher": {"name": "Joana", "mail": "joana@example.org"}}
)
SETTINGS = """
[workspace]
name = "Bench"
root = "00000000-0000-4000-8000-000000000001"
zone = "Atlantic/Azores"
[web]
listen = "127.0.0.1:{port}"
rate = {{ sender = "900000 a second", total = "900000 a second" }}
[places.school-page]
kind = "hook"
once = "id"
fields = {{ Visit = "visit.number", Name = "teacher.name", Address = "teacher.mail" }}
"""


def free_port() -> int:
    """A port that nobody listens on."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


class Committed:
    """A bare grouped commit, as a thread of its own does it."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._work: queue.Queue[tuple[bytes, asyncio.Future[int], Any]] = queue.Queue()
        threading.Thread(target=self._run, daemon=True).start()

    async def add(self, body: bytes) -> int:
        """Its number, when it is on the disk."""
        loop = asyncio.get_running_loop()
        done: asyncio.Future[int] = loop.create_future()
        self._work.put((body, done, loop))
        return await done

    def _run(self) -> None:
        db = sqlite3.connect(self._path, isolation_level=None)
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("PRAGMA synchronous=FULL")
        db.execute("CREATE TABLE calls (number INTEGER PRIMARY KEY, body BLOB)")
        while True:
            group = [self._work.get()]
            while len(group) < 128 and not self._work.empty():
                group.append(self._work.get())
            db.execute("BEGIN IMMEDIATE")
            numbers = [db.execute("INSERT INTO calls (body) VALUES (?)", (body,)).lastrowid for body, _, _ in group]
            db.execute("COMMIT")
            for (_, done, loop), number in zip(group, numbers, strict=True):
                loop.call_soon_threadsafe(done.set_result, number)


def serve_bare(port: int, path: str) -> None:
    """The same application: the body read and parsed, answered with a number; with a path also committed."""
    kept = Committed(Path(path)) if path else None
    count = 0

    async def take(request: Request) -> JSONResponse:
        nonlocal count
        body = await request.body()
        json.loads(body)
        count += 1
        return JSONResponse({"number": await kept.add(body) if kept else count}, 202)

    app = Starlette(routes=[Route("/hook", take, methods=["POST"])])
    uvicorn.run(app, port=port, log_config=None, access_log=False, lifespan="off")


async def load(port: int, path: str, calls: int, first: int) -> float:
    """Calls a second, over connections that stay open."""

    async def talk(numbers: range) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        for number in numbers:
            body = BODY.replace("0" * 12, f"{first + number:012d}").encode()
            head = (
                f"POST {path} HTTP/1.1\r\nhost: x\r\ncontent-type: application/json\r\ncontent-length: "
                f"{len(body)}\r\n\r\n"
            )
            writer.write(head.encode() + body)
            answer = await reader.readuntil(b"\r\n\r\n")
            if not answer.startswith(b"HTTP/1.1 202"):
                raise SystemExit(f"answered {answer[:80]!r}")
            length = int(answer.lower().partition(b"content-length: ")[2].partition(b"\r\n")[0])
            await reader.readexactly(length)
        writer.close()

    begin = time.perf_counter()
    await asyncio.gather(*(talk(range(n, calls, CONNECTIONS)) for n in range(CONNECTIONS)))
    return calls / (time.perf_counter() - begin)


def wait_for(port: int) -> None:
    """Until somebody listens there."""
    for _ in range(200):
        try:
            socket.create_connection(("127.0.0.1", port), 0.2).close()
            return
        except OSError:
            time.sleep(0.1)
    raise SystemExit("nobody listens")


def main() -> None:
    """Prints the three, and their ratios."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        ports = {each: free_port() for each in ("without a commit", "with a bare grouped commit", "ours")}
        bare = [
            multiprocessing.Process(target=serve_bare, args=(ports["without a commit"], ""), daemon=True),
            multiprocessing.Process(
                target=serve_bare, args=(ports["with a bare grouped commit"], str(folder / "bare.sqlite")), daemon=True
            ),
        ]
        for process in bare:
            process.start()
        (folder / "w/workflows").mkdir(parents=True)
        (folder / "w/whenvoca.toml").write_text(SETTINGS.format(port=ports["ours"]), encoding="utf-8")
        watch = subprocess.Popen(
            [WHENVOCA, "watch"], cwd=folder / "w", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        try:
            for port in ports.values():
                wait_for(port)
            told = subprocess.run(
                [WHENVOCA, "places", "school-page", "--json"],
                cwd=folder / "w",
                capture_output=True,
                text=True,
                check=True,
            )
            paths = dict.fromkeys(ports, "/hook")
            paths["ours"] = "/" + json.loads(told.stdout)["address"].split("/", 3)[3]
            rates: dict[str, list[float]] = {each: [] for each in ports}
            for turn in range(4):
                for each, port in ports.items():
                    rate = asyncio.run(load(port, paths[each], CALLS if turn else 500, turn * CALLS))
                    if turn:  # the first is only to warm up
                        rates[each].append(rate)
        finally:
            watch.terminate()
            for process in bare:
                process.terminate()
            watch.wait()
    middle = {each: statistics.median(found) for each, found in rates.items()}
    for each, rate in middle.items():
        ratio = middle["ours"] / rate
        print(f"{each}: {rate:,.0f} calls/s" + ("" if each == "ours" else f"; ours is {ratio:.2f} × that"))


if __name__ == "__main__":
    main()
