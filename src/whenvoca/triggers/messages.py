"""The trigger of a chat: somebody says something, in a room or to us alone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from whenvoca.engine.seeing.changes import CHANGES
from whenvoca.engine.things.message import message_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition


def _is_meant(message: Any, said: Mapping[str, Sequence[str]]) -> bool:
    """Whether it comes from one of the people and rooms that the settings name; without them from anybody, anywhere."""
    room = str(message.value_of("room") or "").lower()
    return all(
        not wanted or set(values) & set(wanted)
        for values, wanted in ((message.names, said.get("from")), ([room], said.get("room")))
    )


HEARS = TriggerDefinition(
    sentence=Sentence("CHAT hears a message"),
    meaning="Starts for each message that somebody says in a room of the chat or to its account alone; never for what "
    "Whenvoca says itself. Messages are taken up one after the other, in order. sender is a name of [people], "
    "else an address; in a room that hides who is who it is empty. A dictated message is read by the chat's "
    "`dictation`.",
    subject="message",
    subject_type=message_type,
    settings=(
        FieldDefinition("from", "people", "Whose messages count. Without it everybody's.", example='"ines", "tomas"'),
        FieldDefinition(
            "room", "rooms", "In which rooms. Without it in all, and those to us alone.", example='"dome-floor"'
        ),
        FieldDefinition(
            "where",
            "condition",
            "Which messages count. Several lines must all hold.",
            example='room is empty or text begins with "calendar"',
        ),
        FieldDefinition("existing", "yes-no", "Whether messages from before the first run count.", default="no"),
    ),
    strategy=CHANGES,
    takes_sample=True,
    existing_by_default=False,
    happening="gained",
    admits=_is_meant,
    example='when chat hears a message\n  from   "ines", "tomas"\n  where  room is empty or text begins with '
    '"calendar"',
)
