"""Who sends invitations where a server could (RFC 6638): it is told with each attendee (SCHEDULE-AGENT)."""

from __future__ import annotations

import re
from collections.abc import Callable

from whenvoca.calendars.components import unfolded
from whenvoca.calendars.writer import fold_line
from whenvoca.places.calendar.dav_client import DavClient

_ATTENDEE = re.compile(rb"^ATTENDEE[^\r\n]*(?:\r?\n[ \t][^\r\n]*)*(?:\r?\n)?", re.MULTILINE)
_NO_OPTIONS = (400, 403, 404, 405, 501)  # a server that knows no such question does not invite either
_AGENTS = {"us": "CLIENT", "": "CLIENT", "nobody": "NONE"}


class Scheduling:
    """What a calendar's server does with invitations. ``url`` gives the calendar's address."""

    def __init__(self, client: DavClient, url: Callable[[], str]) -> None:
        self._client, self._url = client, url
        self._sends: bool | None = None

    @property
    def sends(self) -> bool:
        """Whether the server sends invitations and their answers by itself (RFC 6638 2). Raises PlaceTrouble."""
        if self._sends is None:
            answer = self._client.request("OPTIONS", self._url(), allowed=_NO_OPTIONS)
            announced = answer.headers.get("dav", "")
            self._sends = "calendar-auto-schedule" in {each.strip().lower() for each in announced.split(",")}
        return self._sends

    def prepared(self, data: bytes, invite: str) -> bytes:
        """The text with what the server is told of its attendees; as it is where the server invites, or cannot.
        Raises PlaceTrouble."""
        if invite == "server" or b"ATTENDEE" not in data or b"ORGANIZER" not in data or not self.sends:
            return data
        return _ATTENDEE.sub(lambda found: _with_agent(found[0], _AGENTS[invite]), data)


def _with_agent(line: bytes, agent: str) -> bytes:
    """The line of an attendee with who invites them (RFC 6638 7.1), unless it says so already."""
    (text,) = unfolded(line)
    if "SCHEDULE-AGENT=" in text.upper():
        return line
    end = "\r\n" if b"\r\n" in line else "\n"
    name, rest = text[: len("ATTENDEE")], text[len("ATTENDEE") :]
    return (fold_line(f"{name};SCHEDULE-AGENT={agent}{rest}").replace("\r\n", end) + end).encode()
