"""The triggers of a sheet: a row comes into the set that `where` describes, changes in it, or leaves it."""

from __future__ import annotations

from whenvoca.engine.seeing.changes import CHANGES
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition
from whenvoca.language.names import row_type

FIELDS = FieldDefinition(
    "fields",
    "names",
    "What alone counts as a change. Without it every field counts that the workflow does not write itself.",
    example="Visit-date, Begin, Finish",
)


ROWS = TriggerDefinition(
    sentence=Sentence("SHEET CHANGES a row"),
    meaning="Starts for each row that comes into the set that `where` describes (gains), changes in it, or leaves it "
    "(loses): one of the three, or several joined. A new row is gained, one that a change brings into the set "
    "as well. old.COLUMN is the value before, changes lists field, old and new, happened is gained, changed "
    "or lost. What Whenvoca wrote itself is no change for the workflow that wrote it. After a failed run the "
    "row runs again as soon as somebody corrects it.",
    subject="row",
    subject_type=row_type,
    settings=(
        FieldDefinition(
            "where",
            "condition",
            "Which rows count. Several lines must all hold. Column names stand for the row's cells.",
            example="Answer is empty and Instrument is filled",
        ),
        FIELDS,
        FieldDefinition(
            "existing",
            "yes-no",
            "Whether rows that were there before the first run count: a sheet is a to-do list, so they do.",
            default="yes",
            example="no",
        ),
    ),
    strategy=CHANGES,
    takes_sample=True,
    existing_by_default=True,
    example="when requests gains a row\n  where  Answer is empty",
)
