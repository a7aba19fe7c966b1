"""Places for the checker's tests, without files."""

from __future__ import annotations

from whenvoca.engine.things.event import event_type
from whenvoca.language.checker import check_workflow
from whenvoca.language.definitions import ColumnInfo, PlaceInfo
from whenvoca.language.faults import Fault
from whenvoca.language.field_checks import FieldContext
from whenvoca.language.reader import read_workflow
from whenvoca.open_workspace import VOCABULARY
from whenvoca.values.kinds import Kind


def _column(name: str, letter: str, kind: str, **more: object) -> ColumnInfo:
    return ColumnInfo(name=name, letter=letter, kind=Kind(kind), filled=3, sample=f'{letter}5 is "x"', **more)  # type: ignore[arg-type]


COLUMNS = (
    _column("Answer", "A", "text"),
    _column("Night of", "B", "date"),
    _column("From", "C", "time"),
    _column("To", "D", "time"),
    _column("Target", "E", "text"),
    _column("Pupils", "F", "number"),
    _column("Who", "G", "addresses"),
    _column("Online", "H", "yes-no"),
    _column("Minutes", "I", "number"),
    _column("Seen at", "J", "moment"),
    _column(
        "Doubtful",
        "K",
        "date",
        status="ambiguous",
        doubt="s.csv, K2: 03/04/2027 can be two days",
        fix='dates = "day first"',
    ),
    ColumnInfo(name="Empty one", letter="L", kind=Kind.TEXT),
    _column("№", "M", "number"),
    _column("Day", "N", "date"),
)
PLACES = {
    "requests": PlaceInfo(name="requests", kind="sheet", columns=COLUMNS, twice={"Notes": "O4 and P4"}),
    "log": PlaceInfo(
        name="log", kind="sheet", columns=(_column("What", "A", "text"), _column("Seen", "B", "moment", declared=True))
    ),
    "fresh": PlaceInfo(name="fresh", kind="sheet"),
    "fixed": PlaceInfo(name="fixed", kind="sheet", readonly=True, columns=COLUMNS),
    "gone": PlaceInfo(name="gone", kind="sheet", trouble="there is no such file", trouble_fix="look at its path"),
    "domes": PlaceInfo(name="domes", kind="calendar"),
    "staff": PlaceInfo(name="staff", kind="calendar", readonly=True),
    "chat": PlaceInfo(name="chat", kind="chat"),
}
AROUND = FieldContext(PLACES, frozenset({"ines"}), event_type)
HEAD = "when requests gains a row\n"
EVENT = "create event in domes\n  title  Target\n  start  Night-of at From\n"


def faults_of(text: str) -> list[Fault]:
    """All faults of a workflow against these places."""
    workflow, faults = read_workflow("test", "test.voca", text, VOCABULARY)
    return check_workflow(workflow, faults, AROUND)
