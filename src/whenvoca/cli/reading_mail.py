"""`whenvoca read mail FILE`: how an email would be understood, with nothing done."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import Any

import click
from msgspec.structs import replace

from whenvoca.calendars.reader import read_events
from whenvoca.cli.common import Common, common_options
from whenvoca.cli.reading import around
from whenvoca.cli.show.output import Column, console, say, show_json, show_line, show_table
from whenvoca.cli.show.reading import show_reading
from whenvoca.errors import RequestFault, WhenvocaError
from whenvoca.places import files
from whenvoca.places.mail.labelled import labelled, unlabelled
from whenvoca.places.mail.reading import ReadEmail, read_email
from whenvoca.speech.emails import understand_email
from whenvoca.speech.reply import reply_to
from whenvoca.speech.request import Surroundings
from whenvoca.values.texts import show_value

_METHOD = re.compile(rb"^METHOD:([A-Za-z]+)", re.MULTILINE)
_MOST_BYTES = 25_000_000


@click.command("mail")
@click.argument("file", metavar="FILE|-")
@common_options
def mail(common: Common, file: str) -> int:
    """Show how an email would be understood: who sent it, what it says that is new, labelled lines, events, a calendar.

    FILE is an .eml; - is standard input. Relative days count from the day on which it was sent. In a workspace its
    people, zone and date order count.

    Example: whenvoca read mail request.eml
    """
    found = read_email(_bytes_of(file))
    here = around(common)
    if found.sent is not None:
        here = replace(here, now=found.sent)
    document = _document(found, here)
    if common.as_json:
        show_json(document)
        return 0
    _show(found, document, here)
    return 0


def _bytes_of(file: str) -> bytes:
    if file == "-":
        return sys.stdin.buffer.read(_MOST_BYTES)
    path = Path(file)
    if not path.exists():
        raise RequestFault("there is no such file", where=file)
    if path.stat().st_size > _MOST_BYTES:
        raise RequestFault(f"the email is larger than {_MOST_BYTES // 1_000_000} MB", where=file)
    return files.read_file(path)


def _document(found: ReadEmail, here: Surroundings) -> dict[str, Any]:
    request = understand_email(found.new_text, here, found.subject)
    return {
        "sender": found.sender,
        "sender_name": found.sender_name,
        "to": list(found.to),
        "copies": list(found.copies),
        "subject": found.subject,
        "sent": found.sent.isoformat() if found.sent is not None else None,
        "automatic": found.is_automatic,
        "trusted": False,  # that is for the settings of a mailbox to say
        "new_text": found.new_text,
        "fields": labelled(found.new_text),
        "reading": {**request.to_json(), "reply": reply_to(request, here.zone)},
        "attachments": [{"name": each.name, "kind": each.kind, "size": each.size} for each in found.attachments],
        "calendar": _calendar(found, here),
        "cut": list(found.cut),
    }


def _calendar(found: ReadEmail, here: Surroundings) -> dict[str, Any] | None:
    """The first calendar that goes with it; where it cannot be read, the reason."""
    for data in found.calendars:
        method = _METHOD.search(data)
        told: dict[str, Any] = {"method": method[1].decode().upper() if method else "", "events": [], "fault": ""}
        try:
            events = read_events(data, here.zone)
        except WhenvocaError as error:
            return {**told, "fault": error.message}
        told["events"] = [
            {
                "uid": each.uid,
                "title": each.title,
                "start": each.start.isoformat(),
                "end": each.end.isoformat(),
                "location": each.location,
                "organizer": each.organizer,
                "attendees": [one.address for one in each.attendees],
            }
            for each in events
        ]
        return told
    return None


def _show(found: ReadEmail, document: dict[str, Any], here: Surroundings) -> None:
    sender = found.sender or "nobody who could be answered"
    name = f"{found.sender_name} <{sender}>" if found.sender_name else sender
    sent = f", {show_value(found.sent)}" if found.sent is not None else ", without a date that can be read"
    automatic = ", sent by a program" if found.is_automatic else ""
    show_line((f"{name}{sent}{automatic}", ""))
    show_line((found.subject or "(no subject)", "bold"))
    if found.new_text:
        console().print("\n".join(f"  {line}" for line in found.new_text.split("\n")), soft_wrap=True, highlight=False)
    if len(found.new_text) < len(found.text.strip()):
        say("what is quoted, and the signature, are left out")
    if document["fields"]:
        show_table([Column("label"), Column("value", wraps=True)], list(document["fields"].items()))
    plain = unlabelled(found.new_text)  # in labelled lines there is no sentence
    request = understand_email(plain, here, found.subject)
    if request.intent != "none" or not document["fields"]:
        show_reading(request)
        console().print(reply_to(request, here.zone), soft_wrap=True)
    for each in found.attachments:
        show_line((f"with it: {each.name}, {each.kind}, {each.size:,} bytes", ""))
    if (calendar := document["calendar"]) is not None:
        show_line((f"calendar: {calendar['method'] or 'no method'} {calendar['fault']}".rstrip(), ""))
        rows = [(each["title"], each["start"], each["end"], each["organizer"]) for each in calendar["events"]]
        if rows:
            show_table([Column("event", wraps=True), Column("start"), Column("end"), Column("organizer", drop=1)], rows)
    for said in found.cut:
        say(said)
