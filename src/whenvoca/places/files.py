"""Files read whole and replaced whole: whoever looks sees the old file or the new one, never a half.

A file is replaced so: write a temporary beside it, force it to the disk, rename, force the folder.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

from whenvoca.engine.regular_files import read_regular
from whenvoca.errors import PlaceTrouble, SourceFault
from whenvoca.places import deferred_close

ANSWERS_WITHIN = 10.0  # seconds that a file system has to say whether a file is there
TEMPORARY = ".whenvoca-tmp"
_REASONS = {
    errno.ENOSPC: ("the disk is full", "make room and run again; what was begun goes on"),
    errno.EDQUOT: ("the quota of the disk is used up", "make room and run again; what was begun goes on"),
    errno.EROFS: ("the file system is read-only", "make it writable and run again"),
    errno.EACCES: ("no permission", "give permission and run again"),
    errno.EPERM: ("no permission", "give permission and run again"),
    errno.ENOENT: ("there is no such file or folder", "look at its path in whenvoca.toml"),
    errno.EIO: ("the disk reports an error", "look after the disk"),
}


@contextlib.contextmanager
def telling_trouble(path: Path, doing: str) -> Iterator[None]:
    """Turns an operating system's refusal into PlaceTrouble that says what, where and the mend.

    Raises PlaceTrouble in its place.
    """
    try:
        yield
    except OSError as error:
        reason, fix = _REASONS.get(error.errno or 0, (error.strerror or str(error), ""))
        raise PlaceTrouble(f"cannot be {doing}: {reason}", where=str(path), fix=fix) from error


def refuse_silent(path: Path) -> None:
    """Raises PlaceTrouble where the file system does not answer in time, as a network folder whose server is away."""
    answered = threading.Event()

    def look() -> None:
        with contextlib.suppress(OSError, ValueError):
            os.stat(path)
        answered.set()

    threading.Thread(target=look, daemon=True).start()
    if not answered.wait(ANSWERS_WITHIN):
        raise PlaceTrouble(
            f"the folder does not answer within {ANSWERS_WITHIN:g} seconds",
            where=str(path),
            fix="if it is on the network: is its server on, and is it mounted?",
            is_passing=True,
        )


def read_file(path: Path) -> bytes:
    """The whole file. Raises SourceFault if there is none, PlaceTrouble if it cannot be read."""
    with telling_trouble(path, "read"):
        stands = path.is_symlink() or path.exists()
    if not stands:
        raise SourceFault("there is no such file", where=str(path), fix="look at its path")
    if path.is_dir():
        raise SourceFault("is a folder, and a file is wanted here", where=str(path))
    with telling_trouble(path, "read"):
        return read_regular(path)


def hash_bytes(data: bytes) -> str:
    """The content hash that versions and save intents carry."""
    return hashlib.sha256(data).hexdigest()


def write_temporary(path: Path, data: bytes, *, sync: bool = True) -> Path:
    """A temporary file beside ``path`` with that content, forced to the disk at once where ``sync`` says so.

    Raises PlaceTrouble where it cannot be written.
    """
    temporary = path.with_name(f".{path.name}{TEMPORARY}")
    with telling_trouble(path, "written"):
        try:
            descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o666)
            with os.fdopen(descriptor, "wb") as file:
                file.write(data)
                file.flush()
                if sync:
                    os.fsync(file.fileno())
            if path.exists():
                os.chmod(temporary, path.stat().st_mode & 0o7777)
        except OSError:
            temporary.unlink(missing_ok=True)
            raise
    return temporary


def put_in_place(temporary: Path, path: Path, *, sync: bool = True) -> None:
    """Renames the temporary over the file and forces the folder to the disk, unless that is done for a group.

    Raises PlaceTrouble where that cannot be done.
    """
    with telling_trouble(path, "replaced"):
        try:
            deferred_close.replace(temporary, path)
        except OSError:
            temporary.unlink(missing_ok=True)
            raise
        if sync:
            sync_folder(path.parent)


def replace_file(path: Path, data: bytes) -> None:
    """Replaces (or makes) the file at once and durably.

    Raises PlaceTrouble where it cannot be written; the old one stands then.
    """
    put_in_place(write_temporary(path, data), path)


def sync_folder(folder: Path) -> None:
    """Forces a folder's entries to the disk, where the system can."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def find_lock(path: Path) -> Path | None:
    """The lock file that an office program leaves beside a file it has open."""
    for name in (f".~lock.{path.name}#", f"~${path.name}", f"~${path.name[2:]}"):
        lock = path.with_name(name)
        if lock != path and lock.exists():
            return lock
    return None


def wait_unlocked(path: Path, seconds: float, wait: Callable[[float], None]) -> None:
    """Waits until nobody has the file open. Raises PlaceTrouble after so many seconds."""
    left = seconds
    while lock := find_lock(path):
        if left <= 0:
            raise PlaceTrouble(
                f"is open elsewhere ({lock.name} stands beside it)",
                where=str(path),
                fix="close it there and run again; what was begun goes on then",
            )
        wait(min(0.25, left))
        left -= 0.25


def wait_settled(path: Path, now: Callable[[], float], wait: Callable[[float], None], *, age: float = 1.0) -> None:
    """Waits until the file has stood unchanged for a second, ten seconds at most: it may still be written."""
    for _ in range(40):
        try:
            changed = path.stat().st_mtime
        except OSError:
            return
        young = age - (now() - changed)
        if young <= 0 or young > age:
            return
        wait(min(young + 0.01, 0.26))
