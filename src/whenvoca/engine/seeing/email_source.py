"""A mailbox as a trigger sees it: the emails that came in."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from whenvoca.calendars.itip import stamped_events
from whenvoca.calendars.state import event_key
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import StateChange
from whenvoca.engine.mail_protocols import Mailbox
from whenvoca.engine.place_protocols import Change, Noticed, Resource, RowState
from whenvoca.engine.seeing.observing import KEPT
from whenvoca.engine.seeing.sources import LoggedSource
from whenvoca.engine.things.email import BRIEF, CALENDAR, EMAIL_FIELDS, METHOD, NAME, EmailThing
from whenvoca.engine.things.invitation import INVITATION_FIELDS, InvitationThing

INVITING = ("REQUEST", "ADD", "CANCEL")  # what an invitation's calendar is (RFC 5546)
_LONGEST_LABEL = 60


def observe_mailbox(ledger: Ledger, mailbox: Mailbox, at: datetime) -> Noticed:
    """Enters the emails that came in into the observation log, each once; what is old is forgotten.

    Raises PlaceTrouble where it cannot be reached.
    """
    noticed = Noticed()
    while True:
        look = mailbox.look(lambda: ledger.resources(mailbox.name), ledger.cursor(mailbox.name))
        noticed.faults += look.faults
        if look.fresh or look.cursor != ledger.cursor(mailbox.name):
            with ledger.transaction():
                seen = {each.uid for each in ledger.resources(mailbox.name).values()} if look.fresh else set()
                changes = []
                for name, each in look.fresh.items():
                    if each.key not in seen and each.state is not None and _is_news(ledger, mailbox, each.state):
                        changes.append(StateChange(each.key, {**each.state, NAME: name}))
                    seen.add(each.key)
                ledger.observe(mailbox.name, changes, look.cursor, at.isoformat())
                fresh = {name: Resource(each.key, each.stamp) for name, each in look.fresh.items()}
                ledger.keep_resources(mailbox.name, fresh)
                ledger.forget_messages(mailbox.name, (at - KEPT).isoformat())
        if not look.is_partial:
            return noticed


def _is_news(ledger: Ledger, mailbox: Mailbox, state: Mapping[str, Any]) -> bool:
    """Whether an email says something; an old copy of an invitation does not: its SEQUENCE, or its moment, is lower
    than what is known (RFC 5546 2.1.5)."""
    if state.get(METHOD) not in INVITING:
        return True
    is_news = False
    for event, stamp in stamped_events(str(state[CALENDAR]).encode(), mailbox.zone):
        known = f"invitation {mailbox.name} {event_key(event.uid, event.occurrence)} {event.organizer.lower()}"
        version = f"{event.sequence:09} {stamp} {state[METHOD]}"
        if version > ledger.meta(known):
            ledger.set_meta(known, version)
            is_news = True
    return is_news


class EmailSource(LoggedSource):
    """A mailbox's emails, as they came in."""

    fields = EMAIL_FIELDS
    takes_current = True

    def __init__(self, mailbox: Mailbox, ledger: Ledger) -> None:
        super().__init__(mailbox.name, mailbox.zone, ledger)
        self.mailbox = mailbox

    def observe(self, at: datetime, cause: Mapping[str, int] | None = None) -> Noticed:
        return observe_mailbox(self._ledger, self.mailbox, at)

    def describe(self, key: str, state: RowState) -> tuple[int, str]:
        return 0, self.label(key, state)

    def thing(self, key: str, state: RowState) -> EmailThing:
        return EmailThing(key, state, self.name, self.zone)

    def label(self, key: str, state: RowState | None) -> str:
        told: Mapping[str, Any] = state or {}
        about = " ".join(str(told.get("subject") or "(no subject)").split())
        short = about if len(about) <= _LONGEST_LABEL else about[: _LONGEST_LABEL - 1] + "…"
        return f"{told.get('sender') or 'somebody'}: {short}"

    def current(self, key: str) -> RowState | None:
        """The email; one that was there before the first look is read now. None where it was forgotten."""
        state = self._ledger.standing(self.name, [key]).get(key)
        if state is None or not state.get(BRIEF):
            return state
        name = str(state.get(NAME) or "")
        whole = self.mailbox.read(key, name)
        return None if whole is None else {**whole, NAME: name}

    def keys_with(self, words: str) -> list[str]:
        standing = self._ledger.standing(self.name)
        wanted = words.lower()
        keys = [key for key, _ in self._ledger.standing_sequences(self.name)]
        return [key for key in keys if wanted in self.label(key, standing[key]).lower() or wanted == key.lower()]

    def changes(self, old: RowState, new: RowState) -> list[Change]:
        """An email does not change."""
        return []


class InvitationSource(EmailSource):
    """The invitations among a mailbox's emails."""

    fields = INVITATION_FIELDS

    def thing(self, key: str, state: RowState) -> EmailThing:
        told = state.get(METHOD) in INVITING
        return (
            InvitationThing(key, state, self.name, self.zone) if told else EmailThing(key, state, self.name, self.zone)
        )
