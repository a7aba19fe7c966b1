"""A workspace with a mailbox in a folder, and emails put into it."""

from __future__ import annotations

import os
import textwrap
from collections.abc import Callable
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from pathlib import Path

import pytest

from tests.conftest import Desk

MAIL = """
[workspace]
name = "Larkmoor"
root = "5b0c6a54-6f0e-4f0b-9a43-2f6a3f0c1d7e"
zone = "Atlantic/Azores"
dates = "day first"
organizer = "desk@example.org"
[people.ines]
mail = "ines@example.org"
[people.tomas]
mail = "tomas@example.org"
[places.post]
kind = "mailbox"
folder = "post"
trust = "sender"
[places.mail-out]
kind = "outbox"
folder = "mail-out"
from = "desk@example.org"
[places.outreach]
kind = "calendar"
folder = "outreach"
[places.log]
kind = "sheet"
file = "log.csv"
create = true
kinds = { What = "text", Who = "text" }
"""
LOGGING = "when post receives an email\n\nadd row to log\n  What  email.subject\n  Who   email.sender\n"


class MailDesk:
    """A workspace, its mailbox, and what went out."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.folder, self.run, self.read = desk, desk.folder, desk.run, desk.read
        self.settings()
        (desk.folder / "post").mkdir()
        desk.write("log.csv", "What,Who\n")

    def settings(self, *more: str, post: str = "", base: str = MAIL) -> MailDesk:
        """Writes whenvoca.toml; ``post`` are more settings of the mailbox."""
        self.desk.settings(base.replace('trust = "sender"\n', post) if post else base, *more)
        return self

    def workflow(self, text: str, name: str = "emails") -> MailDesk:
        """Writes a workflow."""
        self.desk.workflow(textwrap.dedent(text), name)
        return self

    def begin(self) -> MailDesk:
        """Looks for the first time: what comes from now on is new."""
        done = self.run("run")
        assert done.code == 0, done
        return self

    def deliver(self, name: str, data: bytes | str, folder: str = "post") -> Path:
        """Puts an email into the folder, as one that has stood there for a while."""
        path = self.folder / folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data if isinstance(data, bytes) else data.encode())
        os.utime(path, (1, 1))
        return path

    def sent(self) -> list[EmailMessage]:
        """What went out, by its name."""
        found = [message_from_bytes(path.read_bytes(), policy=default) for path in (self.folder / "mail-out").glob("*")]
        return sorted((each for each in found if isinstance(each, EmailMessage)), key=lambda each: str(each["Subject"]))

    def events(self, calendar: str = "outreach") -> str:
        """What stands in a calendar, unfolded."""
        files = sorted((self.folder / calendar).glob("*.ics"))
        return "".join(path.read_text(encoding="utf-8").replace("\r", "").replace("\n ", "") for path in files)


@pytest.fixture
def mail(desk: Desk) -> MailDesk:
    return MailDesk(desk)


def make_email(
    number: str,
    text: str = "Hello",
    *,
    sender: str = "Joana Pires <joana@quay.example.org>",
    to: str = "visits@example.org",
    subject: str = "A visit",
    date: str = "Mon, 15 Mar 2027 09:00:00 -0100",
    attach: tuple[str, str, bytes] | None = None,
    change: Callable[[EmailMessage], None] = lambda email: None,
    **headers: str,
) -> bytes:
    """An email. ``attach`` is the name, the media type and the content of what goes with it."""
    email = EmailMessage()
    email["From"], email["To"], email["Subject"] = sender, to, subject
    email["Message-ID"], email["Date"] = f"<{number}@quay.example.org>", date
    for name, value in headers.items():
        email[name.replace("_", "-")] = value
    email.set_content(text)
    if attach is not None:
        main, _, sub = attach[1].partition("/")
        email.add_attachment(attach[2], maintype=main, subtype=sub, filename=attach[0])
    change(email)
    return email.as_bytes()


def make_itip(method: str, number: str, *lines: str, sender: str, to: str = "desk@example.org") -> bytes:
    """An email with a calendar of that method, whose VEVENT has these lines."""
    body = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//x//EN", f"METHOD:{method}", "BEGIN:VEVENT", *lines]
    calendar = "\r\n".join([*body, "END:VEVENT", "END:VCALENDAR", ""])
    email = EmailMessage()
    email["From"], email["To"], email["Subject"] = sender, to, method.title()
    email["Message-ID"], email["Date"] = f"<{number}@example.com>", "Mon, 15 Mar 2027 09:10:00 -0100"
    email.set_content("see the calendar")
    email.add_alternative(calendar.encode(), maintype="text", subtype="calendar", params={"method": method})
    return email.as_bytes()
