"""An email as it came in (RFC 5322, MIME): who, what about, what it says that is new, and what goes with it.

Nothing that an email names is ever fetched. What is broken is read as far as it goes; what is too much is cut.
"""

from __future__ import annotations

import email
import email.policy
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from email.header import decode_header, make_header
from email.message import EmailMessage
from email.utils import getaddresses, parsedate_to_datetime
from typing import Any

from msgspec import Struct

from whenvoca.errors import SourceFault
from whenvoca.places.mail.html_text import text_of_html
from whenvoca.values.addresses import to_address
from whenvoca.values.texts import clean_text

_MOST_PARTS = 200
_MOST_MARKS = 2_000  # lines that may begin a part
_LONGEST_TEXT = 200_000  # signs
_LONGEST_HEADER = 2_000
_NAME_OF_FILE = re.compile(r"[^\w .()+,@=-]+")
_ID = re.compile(r"<([^<>\s]{1,400})>")
_OF_PROGRAMS = ("list-id", "list-unsubscribe", "x-autoreply", "x-auto-response-suppress")
_VAGUE = ("", "iso-8859-1", "latin-1", "latin1", "us-ascii", "ascii")  # charsets that are named and seldom meant
_SIGNATURE = re.compile(r"^-- ?$", re.MULTILINE)  # RFC 3676 4.3
# What mail programs put above the text that they quote: "On …, … wrote:", a line of hyphens, a block of headers.
_WROTE = "wrote|schrieb|a écrit|escribió|escreveu|ha scritto|schreef"
_ORIGINAL = "original message|forwarded message|ursprüngliche nachricht|mensagem original|message d'origine"
_ABOVE_QUOTED = re.compile(
    rf"^(?:>?[ \t]*(?:on|am|le|el|em|il|op)\b[^\n]{{4,200}}(?:{_WROTE})[^\n]{{0,60}}:"
    rf"|-{{2,}}[ \t]*(?:{_ORIGINAL})[^\n]*"
    r"|_{10,}|from:[ \t][^\n]+\n(?:sent|date|to|subject):[ \t][^\n]+)[ \t]*$",
    re.IGNORECASE | re.MULTILINE,
)


class Attachment(Struct, frozen=True):
    """What goes with an email. ``name`` is safe as the name of a file; ``size`` is bytes."""

    name: str
    kind: str
    size: int
    data: bytes = b""


class ReadEmail(Struct, frozen=True, kw_only=True):
    """One email. ``new_text`` is without what is quoted, and without the signature; ``references`` are the Message-IDs
    of its thread, the oldest first; ``cut`` says what was left out."""

    number: str  # its Message-ID, without the brackets
    sender: str
    sender_name: str = ""
    reply_to: str = ""
    to: tuple[str, ...] = ()
    copies: tuple[str, ...] = ()
    subject: str = ""
    sent: datetime | None = None
    text: str = ""
    new_text: str = ""
    is_automatic: bool = False
    references: tuple[str, ...] = ()
    attachments: tuple[Attachment, ...] = ()
    calendars: tuple[bytes, ...] = ()  # its iCalendar parts, in UTF-8
    cut: tuple[str, ...] = ()


def read_email(data: bytes) -> ReadEmail:
    """The email in these bytes. Raises SourceFault where they hold none."""
    try:
        message = email.message_from_bytes(_bounded(data), policy=email.policy.default)
        parts, cut = _parts(message)
    except RecursionError as error:
        raise SourceFault("its parts are nested too deeply to be read") from error
    if not message.keys():
        raise SourceFault("it has no headers, so it is no email", fix="an .eml file, as mail programs save it")
    senders = _addresses(message, "from")
    text, more_cut = _text_of(parts)
    attachments, calendars = _with_it(parts)
    return ReadEmail(
        number=next(iter(_ids(message, "message-id")), ""),
        sender=senders[0][1] if senders else "",
        sender_name=senders[0][0] if senders else "",
        reply_to=next((address for _, address in _addresses(message, "reply-to")), ""),
        to=tuple(address for _, address in _addresses(message, "to")),
        copies=tuple(address for _, address in _addresses(message, "cc")),
        subject=" ".join(_header(message, "subject").split()),
        sent=_sent(message),
        text=text,
        new_text=new_text_of(text),
        is_automatic=_is_automatic(message),
        references=tuple(dict.fromkeys([*_ids(message, "references"), *_ids(message, "in-reply-to")])),
        attachments=attachments,
        calendars=calendars,
        cut=(*cut, *more_cut),
    )


def read_brief(head: bytes) -> dict[str, Any]:
    """Who sent the email with this head, about what and when, as far as that can be read; in a tenth of the time."""
    message = email.message_from_bytes(head, policy=email.policy.compat32)
    senders = getaddresses([_decoded_header(message.get("from"))])
    told = {
        "sender": next((address for _, given in senders if (address := to_address(given))), ""),
        "subject": " ".join(_decoded_header(message.get("subject")).split()),
        "sent": _moment_of(_decoded_header(message.get("date"))),
    }
    return {name: value for name, value in told.items() if value}


def _decoded_header(value: Any) -> str:
    try:
        text = str(make_header(decode_header(str(value or ""))))
    except (ValueError, LookupError, UnicodeError):
        text = str(value)
    return clean_text(text)[:_LONGEST_HEADER]


def _bounded(data: bytes) -> bytes:
    """The email as far as it has a bearable number of parts; each line that may begin one takes the library time."""
    if data.count(b"\n--") <= _MOST_MARKS:
        return data
    position = -1
    for _ in range(_MOST_MARKS):
        position = data.index(b"\n--", position + 1)
    return data[:position]


def new_text_of(text: str) -> str:
    """The text without what it quotes of earlier emails, and without the signature."""
    found = _ABOVE_QUOTED.search(text)
    text = text[: found.start()] if found else text
    signed = _SIGNATURE.search(text)
    text = text[: signed.start()] if signed else text
    lines = [line for line in text.split("\n") if not line.lstrip().startswith(">")]
    return re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip()


# --- headers


def _of(ask: Callable[[], Any]) -> Any:
    """What the library says of an email; None where a broken header makes it fail."""
    try:
        return ask()
    except (ValueError, IndexError, AttributeError, TypeError, KeyError, UnicodeError):
        return None


def _header(message: Any, name: str) -> str:
    value = str(_of(lambda: message.get(name, "")) or "")
    return clean_text(value.replace("\n", " ").replace("\r", " "))[:_LONGEST_HEADER]


def _addresses(message: Any, name: str) -> list[tuple[str, str]]:
    found = getaddresses([_header(message, name)])
    return [(" ".join(said.split()), address) for said, given in found if (address := to_address(given))]


def _ids(message: Any, name: str) -> list[str]:
    return _ID.findall(_header(message, name))


def _sent(message: Any) -> datetime | None:
    """When it was sent; None without a date or a zone."""
    return _moment_of(_header(message, "date"))


def _moment_of(text: str) -> datetime | None:
    try:
        found = parsedate_to_datetime(text)
    except (ValueError, TypeError, IndexError, OverflowError):
        return None
    return found if found.tzinfo is not None else None


def _is_automatic(message: Any) -> bool:
    """Whether a program has sent it (RFC 3834): such emails are never answered."""
    submitted = _header(message, "auto-submitted").partition(";")[0].strip().lower()
    return (
        (bool(submitted) and submitted != "no")
        or _header(message, "precedence").strip().lower() in ("bulk", "junk", "list", "auto_reply")
        or any(_header(message, name) for name in _OF_PROGRAMS)
        or _header(message, "return-path").strip() == "<>"
    )


# --- parts


def _parts(message: Any) -> tuple[list[EmailMessage], list[str]]:
    """The parts that hold something, in order."""
    found: list[EmailMessage] = []
    for part in _walk(message):
        if len(found) == _MOST_PARTS:
            return found, [f"it has more than {_MOST_PARTS} parts"]
        found.append(part)
    return found, []


def _walk(message: Any) -> Iterator[EmailMessage]:
    """Without recursion, and without looking into emails that go with it."""
    waiting = [message]
    while waiting:
        part = waiting.pop()
        inside = part.get_payload() if part.is_multipart() else None
        if _kind_of(part).startswith("multipart/") and isinstance(inside, list):
            waiting.extend(reversed(inside))
        else:
            yield part


def _kind_of(part: Any) -> str:
    return str(_of(part.get_content_type) or "text/plain")


def _file_of(part: Any) -> str:
    return str(_of(part.get_filename) or "")


def _is_attached(part: Any) -> bool:
    if _of(part.get_content_disposition) == "attachment":
        return True
    return bool(_file_of(part)) and not _kind_of(part).startswith("text/")


def _content(part: Any) -> bytes:
    found = _of(lambda: part.get_payload(decode=True))
    return found if isinstance(found, bytes) else b""


def _decoded(part: Any) -> str:
    """The text of a part. A charset that is missing, unknown or wrong is guessed: UTF-8 where it fits, else
    windows-1252, which many call latin-1."""
    data = _content(part)
    named = str(_of(part.get_content_charset) or "").lower()
    for charset in ("utf-8", "cp1252") if named in _VAGUE else (named, "utf-8", "cp1252"):
        try:
            return data.decode(charset)
        except (UnicodeDecodeError, LookupError):
            continue
    return data.decode("latin-1")


def _text_of(parts: Sequence[EmailMessage]) -> tuple[str, list[str]]:
    """What the email says: its plain parts, else its HTML as text."""
    said = [part for part in parts if not _is_attached(part)]
    shown = "\n\n".join(_flowed(part) for part in said if _kind_of(part) == "text/plain").strip()
    if not shown:
        html = [part for part in said if _kind_of(part) == "text/html"]
        shown = "\n\n".join(text_of_html(_decoded(part)) for part in html).strip()
    shown = clean_text(shown.replace("\r\n", "\n").replace("\r", "\n").replace("\u00a0", " "))
    if len(shown) > _LONGEST_TEXT:
        return shown[:_LONGEST_TEXT], [f"its text is longer than {_LONGEST_TEXT:,} signs"]
    return shown, []


def _flowed(part: Any) -> str:
    """A plain part; lines that were only broken to fit are joined (RFC 3676, format=flowed)."""
    text = _decoded(part).replace("\r\n", "\n")
    if str(_of(lambda: part.get_param("format")) or "").lower() != "flowed":
        return text
    joins = "" if str(_of(lambda: part.get_param("delsp")) or "").lower() == "yes" else " "
    lines: list[str] = []
    is_open = False
    for each in text.split("\n"):
        line = each.removeprefix(" ")  # stuffed with a blank
        if is_open and not line.startswith(">") and line.rstrip() != "--":
            lines[-1] = lines[-1].rstrip(" ") + joins + line
        else:
            lines.append(line)
        is_open = line.endswith(" ") and line != "-- " and not line.startswith(">")
    return "\n".join(lines)


def _with_it(parts: Sequence[EmailMessage]) -> tuple[tuple[Attachment, ...], tuple[bytes, ...]]:
    """What goes with the email, and its calendars."""
    attachments: list[Attachment] = []
    calendars: list[bytes] = []
    for number, part in enumerate(parts, 1):
        kind = _kind_of(part)
        if kind == "text/calendar" or _file_of(part).lower().endswith(".ics"):
            calendars.append(_decoded(part).encode("utf-8", "replace"))
        if _is_attached(part) or not kind.startswith("text/"):
            data = _content(part)
            attachments.append(Attachment(_safe_name(part, number), kind, len(data), data))
    return tuple(attachments), tuple(dict.fromkeys(calendars))


def _safe_name(part: Any, number: int) -> str:
    """The name that the part gives, as far as a file can bear it: no path, no controls, nothing hidden."""
    given = clean_text(_file_of(part)).replace("\\", "/").rpartition("/")[2]
    return _NAME_OF_FILE.sub("_", given).strip(" .")[:120] or f"part-{number}"
