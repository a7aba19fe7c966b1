"""The triggers of forms and hooks: an entry or a call comes in, is changed, or is no longer there."""

from __future__ import annotations

from whenvoca.engine.seeing.changes import CHANGES
from whenvoca.engine.things.entry import call_type, entry_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition
from whenvoca.triggers.rows import FIELDS


def _settings(noun: str, example: str) -> tuple[FieldDefinition, ...]:
    return (
        FieldDefinition("where", "condition", f"Which {noun} count. Several lines must all hold.", example=example),
        FieldDefinition("existing", "yes-no", f"Whether {noun} from before the first run count.", default="no"),
    )


_OF_FORMS = _settings("entries", 'Purpose is "at school"')
_OF_HOOKS = _settings("calls", "Pupils is more than 10")

RECEIVES_ENTRY = TriggerDefinition(
    sentence=Sentence("FORM receives an entry"),
    meaning="Starts once for each entry that somebody sends by the form. Its fields are those of the form, besides "
    "number and sent. The sender waits for the answer: what the page then says is what the workflow did, "
    "and `fail` gives its sentence back with the form. One that was refused starts again when it is corrected.",
    subject="entry",
    subject_type=entry_type,
    settings=_OF_FORMS,
    strategy=CHANGES,
    happening="gained",
    existing_by_default=False,
    takes_sample=True,
    example='when lending receives an entry\n  where  Purpose is "at school"',
)
ENTRIES = TriggerDefinition(
    sentence=Sentence("FORM CHANGES an entry"),
    meaning="Starts for each entry that comes in (gains), that its sender changes by the private link (changes), or "
    "withdraws (loses): one of the three, or several joined. With changes and loses the page gives senders that "
    "link.",
    subject="entry",
    subject_type=entry_type,
    settings=(*_OF_FORMS, FIELDS),
    strategy=CHANGES,
    existing_by_default=False,
    takes_sample=True,
    example="when lending gains, changes or loses an entry",
)
RECEIVES_CALL = TriggerDefinition(
    sentence=Sentence("HOOK receives a call"),
    meaning="Starts once for each call that another system makes to the hook's address. Its fields are those that the "
    "hook's settings name, besides number and sent.",
    subject="call",
    subject_type=call_type,
    settings=_OF_HOOKS,
    strategy=CHANGES,
    happening="gained",
    existing_by_default=False,
    takes_sample=True,
    example="when school-page receives a call\n  where  Address is filled",
)
CALLS = TriggerDefinition(
    sentence=Sentence("HOOK CHANGES a call"),
    meaning="Starts for each thing that calls are about (the hook's `about`): when the first call tells of it (gains), "
    "when a later one tells it otherwise (changes), or that it is gone (loses).",
    subject="call",
    subject_type=call_type,
    settings=(*_OF_HOOKS, FIELDS),
    strategy=CHANGES,
    existing_by_default=False,
    takes_sample=True,
    example="when school-bookings gains, changes or loses a call",
)
