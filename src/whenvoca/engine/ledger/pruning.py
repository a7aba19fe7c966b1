"""What a ledger forgets: runs, effects, look-ups and observations that are old and that nothing needs any more.

Kept whatever its age: what waits or has failed or was undone, the newest run of each subject that stands, the states
that stand, what a workflow has not looked at yet, and which things were made (their numbers are identities). Of a
subject that is gone it stays known that it went, and of a thing before or after which observation it was made.
"""

from __future__ import annotations

from whenvoca.engine.ledger.connection import SqliteFile

_KEPT_RUNS = """
INSERT INTO kept_runs
SELECT number FROM runs WHERE started>=? OR outcome IN ('begun','waiting')
UNION SELECT run FROM occurrences WHERE state='waiting'
UNION SELECT max(o.run) FROM occurrences o JOIN standing s ON s.place=o.place AND s.subject=o.subject
    GROUP BY o.workflow, o.place, o.subject
UNION SELECT max(number) FROM runs
"""
# A subject whose newest run failed, or was undone, keeps all of its runs: what they wrote counts until one goes well.
_UNWELL_RUNS = """
INSERT INTO kept_runs
SELECT r.number FROM runs r JOIN (
    SELECT workflow, subject FROM runs u WHERE u.kind='run' AND (u.outcome='failed' OR u.undone IS NOT NULL)
    AND u.number IN (SELECT number FROM kept_runs)
) w ON w.workflow=r.workflow AND w.subject=r.subject WHERE r.number NOT IN (SELECT number FROM kept_runs)
GROUP BY r.number
"""
_MAKING = """
INSERT INTO making
SELECT e.lineage, max(c.sequence) FROM effects e JOIN runs r ON r.number=e.run
JOIN occurrences c ON c.number=r.occurrence
WHERE e.verb LIKE 'create %' AND e.state='done' AND e.run NOT IN (SELECT number FROM kept_runs)
GROUP BY e.lineage
"""
_MADE = """
UPDATE things SET made=(SELECT m.sequence FROM making m WHERE m.lineage=things.lineage)
WHERE made IS NULL AND lineage IN (SELECT lineage FROM making)
"""
_STATEMENTS = (
    "DELETE FROM occurrences WHERE state<>'waiting' AND at<? AND run NOT IN (SELECT number FROM kept_runs) "
    "AND number<(SELECT max(number) FROM occurrences) AND number NOT IN (SELECT max(o.number) FROM occurrences o "
    "JOIN standing s ON s.place=o.place AND s.subject=o.subject GROUP BY o.workflow, o.place, o.subject)",
    "DELETE FROM runs WHERE started<? AND number NOT IN (SELECT number FROM kept_runs)",
)
_FOLLOWING = (
    "DELETE FROM effects WHERE run NOT IN (SELECT number FROM runs) AND number<(SELECT max(number) FROM effects)",
    "DELETE FROM reads WHERE run NOT IN (SELECT number FROM runs)",
    "DELETE FROM arrivals WHERE sequence<=(SELECT CAST(value AS INTEGER) FROM cursors c WHERE c.place=arrivals.place) "
    "AND sequence<(SELECT max(sequence) FROM arrivals)",
    "DELETE FROM saves WHERE state<>'intent' AND number<(SELECT max(number) FROM saves)",
)
# Observations: those that stand, that kept runs were about (with what stood before), that somebody has still to look
# at, and the newest of each subject that is gone.
_KEPT_OBSERVATIONS = """
INSERT INTO kept_observations
SELECT sequence FROM standing
UNION SELECT sequence FROM occurrences WHERE sequence>0
UNION SELECT max(sequence) FROM observations GROUP BY place, subject
UNION SELECT o.sequence FROM observations o JOIN readers r ON r.place=o.place WHERE o.sequence>r.sequence
UNION SELECT max(sequence) FROM observations
"""
_OLD_OBSERVATIONS = """
DELETE FROM observations WHERE seen_at<? AND sequence NOT IN (SELECT sequence FROM kept_observations)
AND sequence NOT IN (SELECT previous FROM observations WHERE previous IS NOT NULL
    AND sequence IN (SELECT sequence FROM occurrences WHERE sequence>0))
"""


class SqlitePruning(SqliteFile):
    """Forgetting, over all tables that grow with time."""

    def prune(self, before: str) -> int:
        """Forgets what is older than that moment (RFC 3339, UTC) and not needed; answers how many runs. The file
        shrinks where a good part of it is free then."""
        with self.transaction():
            self._db.execute("CREATE TEMP TABLE kept_runs (number INTEGER PRIMARY KEY)")
            self._db.execute("CREATE TEMP TABLE kept_observations (sequence INTEGER PRIMARY KEY)")
            self._db.execute(_KEPT_RUNS, (before,))
            self._db.execute("CREATE TEMP TABLE making (lineage TEXT PRIMARY KEY, sequence INTEGER NOT NULL)")
            self._db.execute(_UNWELL_RUNS)
            self._db.execute(_MAKING)
            self._db.execute(_MADE)
            for statement in _STATEMENTS:
                forgotten = self._db.execute(statement, (before,)).rowcount
            self._db.execute("DELETE FROM repeats WHERE at<?", (before,))
            for statement in _FOLLOWING:
                self._db.execute(statement)
            self._db.execute(_KEPT_OBSERVATIONS)
            self._db.execute(_OLD_OBSERVATIONS, (before,))
            for table in ("kept_runs", "kept_observations", "making"):
                self._db.execute(f"DROP TABLE {table}")
        self.shrink()
        return int(forgotten)
