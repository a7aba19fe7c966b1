"""Subjects that are called otherwise from now on: nothing that the SQLite ledger knows of them is lost."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from whenvoca.engine.ledger.connection import SqliteFile
from whenvoca.engine.lineage import Lineage

TABLES_OF_PLACES = (
    *("cursors", "observations", "standing", "readers", "prints", "occurrences", "runs", "effects", "things"),
    *("resources", "marks", "starts", "claims", "presences", "numbers", "entries", "arrivals", "repeats"),
    "samples",
)
_ASIDE = "\x01"  # begins a name that is on its way: two subjects may change theirs for each other's


def answers_of(place: str) -> str:
    """How the ledger calls the answers to the invitations of a calendar, or what of them a mailbox brought."""
    return f"{place} answers"


def own_name(place: str) -> str:
    """The name of the place that such a name belongs to; names of places hold no blank."""
    return place.removesuffix(answers_of(""))


class SqliteRenaming(SqliteFile):
    """The renaming, over all tables that name subjects."""

    def rename_subjects(self, place: str, names: Mapping[str, str]) -> None:
        """Calls the subjects of a sheet by other keys, and what was made of them by the lineages that follow."""
        if not names:
            return
        with self.transaction():
            workflows = {
                name
                for (name,) in self._db.execute("SELECT DISTINCT workflow FROM occurrences WHERE place=?", (place,))
            }
            self._db.execute("CREATE TEMP TABLE renamed (old TEXT PRIMARY KEY, new TEXT NOT NULL)")
            self._db.executemany("INSERT INTO renamed VALUES (?,?)", names.items())
            for table, column in (
                ("observations", "subject"),
                ("standing", "subject"),
                ("occurrences", "subject"),
                ("runs", "subject"),
                ("effects", "target"),
            ):
                self._db.execute(
                    f"UPDATE {table} SET {column}=?||(SELECT new FROM renamed WHERE old={column}) "
                    f"WHERE place=? AND {column} IN (SELECT old FROM renamed)",
                    (_ASIDE, place),
                )
                self._db.execute(
                    f"UPDATE {table} SET {column}=substr({column},2) WHERE place=? AND substr({column},1,1)=?",
                    (place, _ASIDE),
                )
            self._db.execute("DROP TABLE renamed")
            self._db.execute("DELETE FROM prints WHERE place=?", (place,))
            self._rename_lineages(names, workflows)

    def places(self) -> set[str]:
        """The names of all places that it knows something of."""
        tables = ("cursors", "readers", "standing", "things", "resources")
        found = {name for table in tables for (name,) in self._db.execute(f"SELECT DISTINCT place FROM {table}")}
        return {own_name(name) for name in found}

    def rename_place(self, old: str, new: str) -> None:
        """Calls a place otherwise in everything that is known of it."""
        with self.transaction():
            for table, column in (*((name, "place") for name in TABLES_OF_PLACES), ("claims", "event_place")):
                for before, after in ((old, new), (answers_of(old), answers_of(new))):
                    self._db.execute(f"UPDATE {table} SET {column}=? WHERE {column}=?", (after, before))

    def _rename_lineages(self, names: Mapping[str, str], workflows: set[str]) -> None:
        marks = [
            mark
            for (mark,) in self._db.execute(
                "SELECT DISTINCT lineage FROM things UNION SELECT DISTINCT lineage FROM effects"
            )
        ]
        renamed: list[tuple[str, str]] = []
        for mark in marks:
            lineage = Lineage.from_mark(mark)
            if lineage is not None and lineage.workflow in workflows and lineage.subject in names:
                renamed.append((replace(lineage, subject=names[lineage.subject]).to_mark(), mark))
        self._db.execute("CREATE TEMP TABLE marks_renamed (old TEXT PRIMARY KEY, new TEXT NOT NULL)")
        self._db.executemany("INSERT INTO marks_renamed (new, old) VALUES (?,?)", renamed)
        self._db.execute(  # what is in the way of a thing that is about to get its lineage
            "DELETE FROM things WHERE lineage NOT IN (SELECT old FROM marks_renamed) AND EXISTS (SELECT 1 FROM things "
            "t JOIN marks_renamed m ON m.old=t.lineage WHERE m.new=things.lineage AND t.place=things.place AND "
            "t.thing=things.thing)"
        )
        for table in ("things", "effects"):
            self._db.execute(
                f"UPDATE {table} SET lineage=?||(SELECT new FROM marks_renamed WHERE old=lineage) "
                "WHERE lineage IN (SELECT old FROM marks_renamed)",
                (_ASIDE,),
            )
            self._db.execute(f"UPDATE {table} SET lineage=substr(lineage,2) WHERE substr(lineage,1,1)=?", (_ASIDE,))
        self._db.execute("DROP TABLE marks_renamed")
