"""Hears of changed files, and of being told to stop: what `watch` waits on."""

from __future__ import annotations

import contextlib
import signal
import threading
from collections.abc import Iterable
from pathlib import Path
from types import FrameType
from typing import Any

from whenvoca.engine.watching.watching import Waker

_SETTLE_MS = 150  # changes within so many milliseconds are heard of together
_SLICE_SECONDS = 1.0  # a signal that comes in the moment before a wait begins is only heard when it ends
_PROBES, _PROBE_SECONDS = 60, 0.1
_OWN = tuple("-wal -shm -journal .tmp ledger.sqlite watch.json worker.lock sheets.json .whenvoca-tmp".split())


class FileWaker(Waker):
    """Waits for changes at files and folders (through the system's own notices), and for SIGINT and SIGTERM."""

    def __init__(self, probe: Path) -> None:
        self._probe = probe  # a file that may be written, to see that changes are heard of
        self._heard = threading.Event()
        self._changed: set[Path] = set()
        self._poked: set[str] = set()
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._stopped = False
        self._thread: threading.Thread | None = None
        self._end: threading.Event | None = None
        self._paths: list[Path] = []
        self._before: dict[int, Any] = {}

    def heed_signals(self) -> None:
        """From now on SIGINT and SIGTERM end the waiting, and nothing else: what is at work is finished first."""
        for number in (signal.SIGINT, signal.SIGTERM):
            self._before[number] = signal.signal(number, self._stop)

    def close(self) -> None:
        """Hears of nothing any more."""
        for number, handler in self._before.items():
            signal.signal(number, handler)
        self._end_thread()

    def _stop(self, number: int, frame: FrameType | None) -> None:
        self._stopped = True
        self._wake.set()

    @property
    def is_stopped(self) -> bool:
        return self._stopped

    def watch(self, paths: Iterable[Path]) -> None:
        wanted = sorted({_standing(path.absolute()) for path in paths})
        if wanted == self._paths and self._thread is not None:
            return
        self._end_thread()
        self._heard.clear()
        self._paths, self._end = wanted, threading.Event()
        self._thread = threading.Thread(target=self._listen, args=(wanted, self._end), daemon=True)
        self._thread.start()
        for _ in range(_PROBES):  # until the system surely tells: what changes from now on is not missed
            with contextlib.suppress(OSError):
                self._probe.write_text("", encoding="ascii")
            if self._heard.wait(_PROBE_SECONDS):
                return

    def _end_thread(self) -> None:
        if self._end is not None and self._thread is not None:
            self._end.set()
            self._thread.join(timeout=5)
        self._thread = None

    def _listen(self, paths: list[Path], end: threading.Event) -> None:
        from watchfiles import watch

        heard = watch(
            *dict.fromkeys([*paths, self._probe.parent]),
            stop_event=end,
            debounce=_SETTLE_MS,
            step=50,
            rust_timeout=1000,
            recursive=False,
            raise_interrupt=False,
            watch_filter=lambda change, path: not path.endswith(_OWN),
        )
        for changes in heard:
            with self._lock:
                self._changed |= {Path(path) for _, path in changes if path != str(self._probe)}
            self._heard.set()
            self._wake.set()

    def poke(self, place: str) -> None:
        with self._lock:
            self._poked.add(place)
        self._wake.set()

    def poked(self) -> set[str]:
        with self._lock:
            found, self._poked = self._poked, set()
        return found

    def wait(self, seconds: float) -> set[Path]:
        while seconds > 0 and not self._wake.wait(min(seconds, _SLICE_SECONDS)):
            seconds -= _SLICE_SECONDS
        self._wake.clear()
        with self._lock:
            found, self._changed = self._changed, set()
        return found


def _standing(path: Path) -> Path:
    while not path.exists() and path != path.parent:
        path = path.parent
    return path if path.is_dir() else path.parent
