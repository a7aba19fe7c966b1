"""The trigger `SHEET gains a row`: a row comes into the set that `where` describes."""

from __future__ import annotations

from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition

ROW_GAINED = TriggerDefinition(
    sentence=Sentence(words="SHEET gains a row"),
    meaning="Starts once for each row that comes into the set that `where` describes: a new row, or one that a change "
    "brings into it. What Whenvoca wrote itself is no change for the workflow that wrote it. After a failed run the row "
    "runs again as soon as somebody corrects it.",
    subject="row",
    settings=(
        FieldDefinition(
            name="where", type="condition", example="Answer is empty and Instrument is filled",
            meaning="Which rows count. Several lines must all hold. Column names stand for the row's cells.",
        ),
        FieldDefinition(
            name="existing", type="yes-no", default="yes", example="no",
            meaning="Whether rows that were there before the first run count: a sheet is a to-do list, so they do.",
        ),
    ),
    existing_by_default=True,
    changes=("gained",),
    example="when requests gains a row\n  where  Answer is empty",
)  # fmt: skip
