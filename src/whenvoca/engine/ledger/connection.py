"""The file of the SQLite ledger (WAL, synchronous=FULL): a commit is on the disk when it returns."""

from __future__ import annotations

import shutil
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any, Self
from weakref import WeakKeyDictionary

from whenvoca.engine.ledger.codec import copy_still
from whenvoca.engine.ledger.protocol import Transactions
from whenvoca.engine.ledger.schema import STEPS, TABLES, VERSION
from whenvoca.errors import LedgerTrouble, SettingsFault

_CACHE_KIB = 8_000
_SHRINK_FROM = 4  # a quarter of the file is free


def upsert(table: str, key: Sequence[str], values: Sequence[str]) -> str:
    """The statement that keeps a row by its key, in place of one that is there: key and values in that order."""
    columns = (*key, *values)
    return (
        f"INSERT INTO {table} ({','.join(columns)}) VALUES ({','.join('?' * len(columns))}) "
        f"ON CONFLICT ({','.join(key)}) DO UPDATE SET {','.join(f'{name}=excluded.{name}' for name in values)}"
    )


_OPENING = threading.Lock()
_OPEN: WeakKeyDictionary[SqliteFile, Path] = WeakKeyDictionary()  # what this process has open

_KEEP_META = upsert("meta", ("name",), ("value",))


class SqliteFile(Transactions):
    """A ledger's file. Raises SettingsFault for one of a newer version, PlaceTrouble where it cannot be kept."""

    def __init__(self, path: Path) -> None:
        self._path = path
        with self._telling(), _OPENING:
            self._db = sqlite3.connect(path, isolation_level=None, timeout=10)
            _OPEN[self] = path.absolute()
        try:
            self._begin()
        except BaseException:
            self.close()
            raise

    def _begin(self) -> None:
        with self._telling():
            self._db.execute("PRAGMA journal_mode=WAL")
            self._db.execute("PRAGMA synchronous=FULL")
            # a batch of thousands of runs touches all of its pages
            self._db.execute(f"PRAGMA cache_size=-{_CACHE_KIB}")
            self._db.execute("PRAGMA wal_autocheckpoint=8000")  # pages: each checkpoint waits for the disk once more
            self._prepare()

    @classmethod
    def copy_of(cls, path: Path) -> Self:
        """A copy in memory of the ledger in that file, an empty one if there is none.

        Its files are copied and opened elsewhere: opening them where they stand would touch the side files. Where this
        process has them open it reads them by SQLite: any other closing of them would end its locks, as POSIX has it,
        and another process would then take the write-ahead log away from under it.
        Raises PlaceTrouble where it cannot be read.
        """
        ledger = cls(Path(":memory:"))
        try:
            ledger._path = path
            if path.exists():
                import tempfile

                with ledger._telling(), tempfile.TemporaryDirectory() as folder, _OPENING:
                    is_open = path.absolute() in _OPEN.values()
                    with closing(sqlite3.connect(path if is_open else copy_still(path, Path(folder)))) as source:
                        source.backup(ledger._db)
                ledger._prepare()
        except BaseException:
            ledger.close()
            raise
        return ledger

    def copy(self) -> Self:
        """A copy in memory, to rehearse on. Raises PlaceTrouble where it cannot be read."""
        ledger = type(self)(Path(":memory:"))
        with self._telling():
            self._db.backup(ledger._db)
        return ledger

    def _prepare(self) -> None:
        version = self._db.execute("PRAGMA user_version").fetchone()[0]
        if version > VERSION:
            raise SettingsFault(
                f"the ledger is of version {version}, and this Whenvoca knows up to {VERSION}",
                where=str(self._path),
                fix="use the newer Whenvoca; or move the ledger away, what was made is then found by its marks",
            )
        if version == 0:
            self._db.executescript(f"BEGIN IMMEDIATE; {TABLES} PRAGMA user_version={VERSION}; COMMIT;")
        for earlier in range(version or VERSION, VERSION):
            self._db.executescript(f"BEGIN IMMEDIATE; {STEPS[earlier]} PRAGMA user_version={earlier + 1}; COMMIT;")

    @contextmanager
    def _telling(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.DatabaseError as error:
            raise LedgerTrouble(error, str(self._path)) from error

    @contextmanager
    def transaction(self) -> Iterator[None]:
        if self._db.in_transaction:
            yield
            return
        with self._telling():
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
                self._db.execute("COMMIT")
            finally:
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")

    def shrink(self) -> None:
        """Gives back what is free in the file, where that is a good part and there is room to write it anew."""
        if str(self._path) == ":memory:":
            return
        with self._telling():
            free, pages = (
                self._db.execute(f"PRAGMA {name}").fetchone()[0] for name in ("freelist_count", "page_count")
            )
            if free * _SHRINK_FROM < pages or shutil.disk_usage(self._path.parent).free < 2 * self._path.stat().st_size:
                return
            self._db.execute("VACUUM")
            self._db.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def close(self) -> None:
        self._db.close()
        _OPEN.pop(self, None)

    def meta(self, name: str) -> str:
        return str(self._one("SELECT value FROM meta WHERE name=?", (name,)) or "")

    def set_meta(self, name: str, value: str) -> None:
        with self._telling():
            self._db.execute(_KEEP_META, (name, value))

    def _one(self, statement: str, values: Sequence[Any]) -> Any:
        with self._telling():
            row = self._db.execute(statement, values).fetchone()
        return row[0] if row else None

    def _add(self, statement: str, values: Sequence[Any]) -> int:
        """Adds a row; answers the number that it got, which the statement returns."""
        with self.transaction():
            ((number,),) = self._db.execute(statement, values).fetchall()
        return int(number)
