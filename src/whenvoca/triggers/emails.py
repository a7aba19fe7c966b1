"""The trigger of a mailbox: an email comes in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from whenvoca.engine.seeing.changes import CHANGES
from whenvoca.engine.seeing.email_source import INVITING
from whenvoca.engine.things.email import METHOD, email_type
from whenvoca.engine.things.invitation import invitation_type
from whenvoca.language.definitions import FieldDefinition, Sentence, TriggerDefinition

FROM = FieldDefinition("from", "people", "Whose emails count. Without it everybody's.", example='"ines", "tomas"')
IN_MAILBOX = FieldDefinition(
    "mailbox", "texts", "In which folders of the account. Without it in all that the place names.", example='"Visits"'
)


def is_from(email: Any, said: Mapping[str, Sequence[str]]) -> bool:
    """Whether it comes from one of the people, into one of the folders, that the settings name."""
    wanted, folders = said.get("from"), said.get("mailbox")
    folder = str(email.state.get("mailbox") or "").lower()
    return (not wanted or bool(set(email.names) & set(wanted))) and (not folders or folder in folders)


def _is_plain(email: Any, said: Mapping[str, Sequence[str]]) -> bool:
    return METHOD not in email.state and is_from(email, said)


def _is_invitation(email: Any, said: Mapping[str, Sequence[str]]) -> bool:
    return email.state.get(METHOD) in INVITING and is_from(email, said)


RECEIVES_INVITATION = TriggerDefinition(
    sentence=Sentence("MAILBOX receives an invitation"),
    meaning="Starts once for each invitation that comes in: invitation.kind is new, changed or cancelled, "
    "invitation.to are the addresses that it was written to; the other fields are those of its event. An old copy of "
    "an invitation, and one that nothing proves to come from its sender (the mailbox's `trust`), is none.",
    subject="invitation",
    subject_type=invitation_type,
    settings=(
        FROM,
        IN_MAILBOX,
        FieldDefinition(
            "where",
            "condition",
            "Which invitations count. Several lines must all hold.",
            example='invitation.to contains "library@example.org"',
        ),
        FieldDefinition("existing", "yes-no", "Whether invitations from before the first run count.", default="no"),
    ),
    strategy=CHANGES,
    takes_sample=True,
    existing_by_default=False,
    happening="gained",
    admits=_is_invitation,
    example='when post receives an invitation\n  where  invitation.to contains "library@example.org"',
)
RECEIVES_EMAIL = TriggerDefinition(
    sentence=Sentence("MAILBOX receives an email"),
    meaning="Starts once for each email that comes in, known by its Message-ID. An invitation, or an answer to one, "
    "is not received as an email as well, unless nothing proves who sent it. email.new-text is what it says without "
    "what it quotes and without the signature; email.automatic tells that a program has sent it; email.trusted that "
    "it comes from whom it says (the mailbox's `trust`).",
    subject="email",
    subject_type=email_type,
    settings=(
        FROM,
        IN_MAILBOX,
        FieldDefinition(
            "where",
            "condition",
            "Which emails count. Several lines must all hold.",
            example='email.to contains "visits@example.org" and not email.automatic',
        ),
        FieldDefinition("existing", "yes-no", "Whether emails from before the first run count.", default="no"),
    ),
    strategy=CHANGES,
    takes_sample=True,
    existing_by_default=False,
    happening="gained",
    admits=_is_plain,
    example='when post receives an email\n  where  email.to contains "visits@example.org" and not email.automatic',
)
