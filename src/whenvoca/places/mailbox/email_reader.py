"""An email as the ledger keeps it: what it says, whether it is trusted, and the calendar in it, where that counts."""

from __future__ import annotations

import email
import email.policy
import hashlib
import re
from collections.abc import Mapping
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.itip import read_replies
from whenvoca.calendars.reader import read_events
from whenvoca.engine.mail_protocols import NewEmail
from whenvoca.engine.people import People
from whenvoca.engine.things.email import BRIEF, CALENDAR, METHOD
from whenvoca.errors import RowFault, SourceFault, WhenvocaError
from whenvoca.places.bounded_answer import show_size
from whenvoca.places.mail.reading import ReadEmail, read_brief, read_email
from whenvoca.places.mailbox.trust import is_authentic
from whenvoca.unforeseen import tell_unforeseen

_LONGEST_TEXT = 50_000  # signs of an email that are kept
_LONGEST_CALENDAR = 200_000
_MOST_ATTACHMENTS = 100
_METHOD = re.compile(r"^METHOD(?:;[^:\r\n]*)?:([A-Za-z]+)[ \t]*\r?$", re.MULTILINE)
_METHODS = ("REQUEST", "ADD", "CANCEL", "REPLY", "COUNTER")
ANYBODY = "sender"  # trust = "sender"
_MESSAGE_ID = re.compile(rb"^Message-ID:(?:[ \t]|\r?\n[ \t])*<([!-;=?-~]{1,400})>", re.IGNORECASE | re.MULTILINE)
_END_OF_HEAD = re.compile(rb"\r?\n\r?\n")


class EmailReader:
    """Reads emails for one mailbox. ``trust``: "" (nobody), "sender" (everybody), else the server whose results count;
    ``limit``: bytes that an email may have."""

    def __init__(self, name: str, zone: ZoneInfo, people: People, *, trust: str, limit: int) -> None:
        self._name, self._zone, self._people = name, zone, people
        self._trust, self.limit = trust, limit

    @property
    def trusts_everybody(self) -> bool:
        """Whether every sender is taken for who they say."""
        return self._trust == ANYBODY

    def key_of(self, data: bytes) -> str:
        """What makes it the same email, wherever it lies: its Message-ID, else a hash of its head."""
        head = _head_of(data)
        if found := _MESSAGE_ID.search(head):
            return found[1].decode("ascii", "replace")
        try:
            number = read_email(head).number if b"essage-" in head else ""
        except SourceFault:
            number = ""
        return number or f"head-{hashlib.sha256(head).hexdigest()[:40]}"

    def too_large(self, size: int, where: str) -> str:
        """What is told of an email that is larger than the limit; empty for one that is not."""
        if size <= self.limit:
            return ""
        return f"{where}: the email has {show_size(size)}, more than {show_size(self.limit)}, and was not read"

    def brief(self, data: bytes, mailbox: str, stamp: str = "") -> NewEmail:
        """What the head of an email says."""
        try:
            state: dict[str, Any] = {**read_brief(_head_of(data)), "mailbox": mailbox}
        except SourceFault:
            state = {}
        return NewEmail(self.key_of(data), {**state, BRIEF: True}, stamp)

    def whole(self, data: bytes, mailbox: str, where: str, stamp: str = "") -> tuple[NewEmail, list[str]]:
        """All that an email says, and what has to be told about it; one that cannot be read hides no other."""
        key = self.key_of(data)
        try:
            return self._whole(key, data, mailbox, where, stamp)
        except SourceFault as fault:
            return NewEmail(key, None, stamp), [f"{where}: {fault.message}"]
        except Exception as error:
            return NewEmail(key, None, stamp), [f"{where}: {tell_unforeseen(error)}"]

    def _whole(self, key: str, data: bytes, mailbox: str, where: str, stamp: str) -> tuple[NewEmail, list[str]]:
        found = read_email(data)
        faults = [f"{where}: {cut}" for cut in found.cut]
        state = self._told(found, mailbox)
        state["trusted"] = self._is_trusted(data, found)
        if told := self._calendar(found, state, where, faults):
            state |= told
        return NewEmail(key, {name: value for name, value in state.items() if value}, stamp), faults

    def _told(self, found: ReadEmail, mailbox: str) -> dict[str, Any]:
        person = self._people.find(found.sender) if found.sender else None
        new_text = found.new_text[:_LONGEST_TEXT]
        text = found.text[:_LONGEST_TEXT]
        told: dict[str, Any] = {
            "sender": found.sender,
            "names": ", ".join([found.sender, *([person.name] if person is not None else [])]),
            "reply-to": found.reply_to if found.reply_to != found.sender else "",
            "to": list(found.to),
            "copies": list(found.copies),
            "subject": found.subject,
            "sent": found.sent,
            "text": text,
            "automatic": found.is_automatic,
            "references": list(found.references[-50:]),
            "mailbox": mailbox,
            "attachments": [[each.name, each.kind, each.size] for each in found.attachments[:_MOST_ATTACHMENTS]],
        }
        if new_text != text:
            told["new-text"] = new_text
        return {name: value for name, value in told.items() if value or name == "new-text"}

    def _is_trusted(self, data: bytes, found: ReadEmail) -> bool:
        if self._trust in ("", ANYBODY):
            return bool(self._trust) and bool(found.sender)
        head = email.message_from_bytes(_head_of(data), policy=email.policy.compat32)
        return is_authentic([(name, str(value)) for name, value in head.items()], self._trust, found.sender)

    def _calendar(
        self, found: ReadEmail, state: Mapping[str, Any], where: str, faults: list[str]
    ) -> dict[str, Any] | None:
        """The calendar that makes it an invitation or an answer; what does not count is told, and it stays an email."""
        for data in found.calendars:
            text = data.decode("utf-8", "replace")
            method = _METHOD.search(text)
            if method is None or method[1].upper() not in _METHODS:
                continue
            if len(text) > _LONGEST_CALENDAR:
                faults.append(f"{where}: its calendar is larger than {_LONGEST_CALENDAR:,} signs, and was not read")
                return None
            is_answer = method[1].upper() in ("REPLY", "COUNTER")
            try:
                found_there = read_replies(data, self._zone) if is_answer else read_events(data, self._zone)
            except WhenvocaError as error:
                faults.append(f"{where}: its calendar cannot be read: {error.message}")
                return None
            if not found_there:
                return None
            if not state["trusted"]:
                said, sender = "an answer" if is_answer else "an invitation", found.sender or "somebody"
                faults.append(f"{where}: {said} from {sender}, who is not proven to have sent it, does not count")
                return None
            return {METHOD: method[1].upper(), CALENDAR: text}
        return None


def _head_of(data: bytes) -> bytes:
    found = _END_OF_HEAD.search(data)
    return data[: found.end()] if found else data


def attached_part(data: bytes, number: int) -> bytes:
    """What is attached to an email, by its number there. Raises RowFault where there is none of that number."""
    attachments = read_email(data).attachments
    if number >= len(attachments):
        raise RowFault("what was attached to the email is no longer there")
    return attachments[number].data
