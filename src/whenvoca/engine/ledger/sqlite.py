"""The ledger on SQLite, whole."""

from __future__ import annotations

from whenvoca.engine.ledger.observations import SqliteObservations
from whenvoca.engine.ledger.renaming import SqliteRenaming
from whenvoca.engine.ledger.runs import SqliteRuns
from whenvoca.engine.ledger.schedule_store import SqliteSchedule


class SqliteLedger(SqliteObservations, SqliteRuns, SqliteSchedule, SqliteRenaming):
    """A ledger in one file. Raises SettingsFault for a file of a newer version, PlaceTrouble where it cannot be
    kept."""
