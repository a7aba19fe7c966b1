"""The ledger on SQLite, whole."""

from __future__ import annotations

from whenvoca.engine.ledger.intake import SqliteIntake
from whenvoca.engine.ledger.observations import SqliteObservations
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.pruning import SqlitePruning
from whenvoca.engine.ledger.runs import SqliteRuns
from whenvoca.engine.ledger.schedule_store import SqliteSchedule


class SqliteLedger(SqliteObservations, SqliteRuns, SqliteSchedule, SqliteIntake, SqlitePruning, Ledger):
    """A ledger in one file. Raises SettingsFault for a newer version's file, PlaceTrouble where it cannot be kept."""
