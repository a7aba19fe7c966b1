"""The emails of the tour: two wishes of schools, an absence note, and a teacher's answer to an invitation."""

from __future__ import annotations

import os
from email.message import EmailMessage
from pathlib import Path
from zoneinfo import ZoneInfo

from whenvoca.calendars.itip import to_reply, write_itip
from whenvoca.calendars.reader import read_events
from whenvoca.places.files import replace_file

_ZONE = ZoneInfo("Atlantic/Azores")
_TEACHER = "joana@example.org"


def deliver_emails(folder: Path) -> None:
    """What comes in by email in the tour."""
    wish = (
        "Dear all,\n\nSchool: Quay School\nDay: next thursday\nTime: half past ten\nPupils: 24 children\n\n-- \nMarta\n"
    )
    _deliver(folder, "wish", "marta@example.com", "May we come?", wish)
    _deliver(folder, "short", "luis@example.com", "Visit", "School: Cove School\nTime: 14:00\nPupils: 12\n")
    _deliver(folder, "away", "paulo@example.com", "Out of office", "I am away.\n", auto="auto-replied")
    for path in sorted((folder / "calendars/outreach").glob("*.ics")):
        for event in read_events(path.read_bytes(), _ZONE):
            if _TEACHER in [each.address for each in event.attendees] and event.organizer:
                answer = to_reply(event, _TEACHER, "accepted")
                text = write_itip("REPLY", [answer], event.span(_ZONE)[0], comment="We look forward to it.")
                _deliver(folder, "accepted", _TEACHER, "Accepted", "I come.\n", calendar=text)
                return


def _deliver(
    folder: Path, name: str, sender: str, subject: str, text: str, *, auto: str = "", calendar: bytes = b""
) -> None:
    email = EmailMessage()
    email["From"], email["To"], email["Subject"] = sender, "visits@example.org", subject
    email["Message-ID"], email["Date"] = f"<{name}@example.com>", "Wed, 17 Mar 2027 08:40:00 -0100"
    if auto:
        email["Auto-Submitted"] = auto
    email.set_content(text)
    if calendar:
        email.add_alternative(calendar, maintype="text", subtype="calendar", params={"method": "REPLY"})
    path = folder / "post" / f"{name}.eml"
    path.parent.mkdir(exist_ok=True)
    replace_file(path, email.as_bytes())
    os.utime(path, (1, 1))  # it has been there for a while
