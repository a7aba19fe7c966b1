"""A first workflow from an example email: what its labelled lines are, which becomes what of an event."""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec import Struct, field

from whenvoca.language.definitions import column_word, written_column
from whenvoca.places.mail.labelled import labelled
from whenvoca.places.mail.reading import ReadEmail
from whenvoca.values.addresses import is_address
from whenvoca.values.columns import ColumnHints, Unread, read_column
from whenvoca.values.kinds import Kind

_KINDS = (  # of a value, the more telling first
    ("date", Kind.DATE),
    ("moment", Kind.MOMENT),
    ("time", Kind.TIME),
    ("duration", Kind.DURATION),
)
_NUMBER = re.compile(r"\d+(?:[.,]\d+)?(?:\s+[a-z].*)?", re.IGNORECASE)
_ENDS = ("to", "until", "end", "end time", "till")
_TITLES = ("title", "topic", "subject", "event", "school", "what", "name")
_PLACES = ("place", "location", "venue", "where", "room")
_MOST = 12


class MailDraft(Struct):
    """The workflow's text, and what is unsure about it."""

    workflow: str
    unsure: list[str] = field(default_factory=list)
    fields: dict[str, str] = field(default_factory=dict)  # the kind of each labelled line


def draft_from_email(found: ReadEmail, mailbox: str, calendar: str) -> MailDraft:
    """A workflow that takes emails like this one."""
    said = dict(list(labelled(found.new_text).items())[:_MOST])
    to = found.to[0] if found.to else ""
    condition = f'email.to contains "{to}" and not email.automatic' if to else "not email.automatic"
    lines = ['title "Emails become events"', "", f"when {mailbox} receives an email", f"  where  {condition}", ""]
    if not said:
        return MailDraft("\n".join([*lines, *_in_words(calendar)]) + "\n")
    kinds = {label: _kind_of(value) for label, value in said.items()}
    unsure: list[str] = []
    width = max(len(written_column(label)) for label in said)
    lines.append("read fields from email.new-text as wish")
    lines += [f"  {written_column(label):{width}}  {kind}" for label, kind in kinds.items()]
    names = ", ".join(said)
    lines += [
        "if it fails",
        "  answer email",
        f'    text  "Thank you. We could not read your email: {{reason}}. Please send {names}, one a line."',
        "  stop",
        "",
        f"create event in {calendar} as made",
        *(f"  {line}" for line in _fields(kinds, unsure)),
        "",
        "answer email",
        '  text    "We have pencilled you in for {made.start as "EEEE d MMMM, HH:mm"}."',
        "  attach  made",
    ]
    return MailDraft("\n".join(lines) + "\n", unsure, kinds)


def _in_words(calendar: str) -> list[str]:
    return [
        "read event from email.new-text as wish",
        "if it fails",
        "  answer email",
        '    text  "Thank you. We could not find out when you want to come: {reason}."',
        "  stop",
        "",
        "if not wish.sure",
        "  answer email",
        '    text  "Thank you. What is missing: {wish.missing}."',
        "  stop",
        "",
        f"create event in {calendar} as made",
        "  title      wish.title or email.subject",
        "  start      wish.start",
        "  end        wish.end",
        "  busy       tentative",
        "  attendees  email.sender",
        "",
        "answer email",
        '  text    "We have pencilled you in for {made.start as "EEEE d MMMM, HH:mm"}."',
        "  attach  made",
    ]


def _kind_of(value: str) -> str:
    """The kind of a value, as far as one example tells."""
    if is_address(value.strip()):
        return "address"
    for word, kind in _KINDS:
        read = read_column("value", [value], ColumnHints(kind=kind, dates=None)).read(value)
        if not isinstance(read, Unread) or (kind is Kind.DATE and read.waits):
            return word
    return "number" if _NUMBER.fullmatch(value.strip()) else "text"


def _fields(kinds: Mapping[str, str], unsure: list[str]) -> list[str]:
    by_kind = {kind: [label for label, one in kinds.items() if one == kind] for kind in set(kinds.values())}
    times = by_kind.get("time", [])
    ends = [label for label in times if label.lower() in _ENDS]
    begins = [label for label in times if label not in ends]
    title = _first(by_kind.get("text", []), _TITLES, unsure, "title")
    lines = [f"title      {_name(title)}" if title else "title      email.subject"]
    if moments := by_kind.get("moment"):
        lines.append(f"start      {_name(moments[0])}")
    elif (days := by_kind.get("date")) and begins:
        lines.append(f"start      {_name(days[0])} at {_name(begins[0])}")
        if ends:
            lines.append(f"end        {_name(days[0])} at {_name(ends[0])}")
    elif days:
        lines.append(f"first-day  {_name(days[0])}")
    else:
        unsure.append("no line holds a day; say when the event starts")
        lines.append("start      email.sent")
    if spans := by_kind.get("duration"):
        lines.append(f"length     {_name(spans[0])}")
    places = [label for label in by_kind.get("text", []) if label.lower() in _PLACES]
    if places:
        lines.append(f"location   {_name(places[0])}")
    return [*lines, "busy       tentative", "attendees  email.sender"]


def _first(labels: list[str], known: tuple[str, ...], unsure: list[str], what: str) -> str:
    for word in known:
        for label in labels:
            if word in label.lower().split():
                return label
    if labels:
        unsure.append(f"{labels[0]} was taken as the {what}")
    return labels[0] if labels else ""


def _name(label: str) -> str:
    return f"wish.{column_word(label)}"
