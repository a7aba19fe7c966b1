"""The setting meeting-link of [workspace]: where links to join an event from afar come from."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any
from urllib.parse import urlsplit

from msgspec import Struct, field

WORD = "{secret}"  # stands in a pattern for what nobody can guess
_EXAMPLE = 'meeting-link = { pattern = "https://hall.example.org/{secret}" }, or { service = "http://127.0.0.1:8099" }'


class MeetingLinks(Struct, frozen=True):
    """Links are made by a pattern, with a word that nobody can guess, or by a service, with the reference of a
    password that it may want."""

    pattern: str = ""
    service: str = ""
    password: Mapping[str, str] = field(default_factory=dict)


def read_meeting_links(table: Any, refuse: Callable[[str, str], Any]) -> MeetingLinks:
    """The setting; ``refuse`` takes message and fix of a fault, and raises."""
    if not isinstance(table, Mapping) or len({"pattern", "service"} & set(table)) != 1:
        refuse("meeting-link is neither a pattern nor a service", _EXAMPLE)
    for key in table:
        if key not in ("pattern", "service", "password"):
            refuse(f'meeting-link has no "{key}"', _EXAMPLE)
    address = str(table.get("pattern") or table.get("service"))
    parts = urlsplit(address)
    if parts.scheme not in ("http", "https") or not parts.hostname or any(sign.isspace() for sign in address):
        refuse(f'meeting-link: "{address}" is not a web address', _EXAMPLE)
    if "pattern" in table and address.count(WORD) != 1:
        refuse(f"meeting-link: the pattern needs {WORD}, once: it becomes a word that nobody can guess", _EXAMPLE)
    password = table.get("password", {})
    if not isinstance(password, Mapping) or ("password" in table and "service" not in table):
        fix = 'password = { env = "LARKMOOR_MEETINGS" }'
        refuse("meeting-link: the password is a reference, and of a service", fix)
    return MeetingLinks(str(table.get("pattern", "")), str(table.get("service", "")).rstrip("/"), dict(password))
