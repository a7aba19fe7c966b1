"""Where the components of an iCalendar text stand, and the content lines of each (RFC 5545 3.1)."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator
from functools import lru_cache

from msgspec import Struct

_LINE = re.compile(rb"[^\n]*\n|[^\n]+\Z")
_NAME = re.compile(rb"[A-Za-z0-9-]+(?=[;:])")
_LEAP = re.compile(rb"(\d{8}T\d{4})60")


class Component(Struct, frozen=True):
    """Where a component stands in the text, and which one it is; ``occurrence`` is what follows RECURRENCE-ID.

    An event without a UID goes by one that its text gives, until it is changed and gets that one for good.
    """

    name: str
    begin: int
    end: int
    uid: str
    occurrence: str
    origin: str
    sequence: int = 0


@lru_cache(maxsize=4)  # a change looks through the same text several times
def list_components(data: bytes) -> tuple[Component, ...]:
    """The components directly below VCALENDAR, in order."""
    return tuple(_iter_components(data))


def _iter_components(data: bytes) -> Iterator[Component]:
    depth, begin, name = 0, 0, ""
    details: dict[str, str] = {}
    for start, end, line in content_lines(data):
        upper = line[:40].upper()
        if upper.startswith(b"BEGIN:"):
            depth += 1
            if depth == 2:
                begin, name, details = start, line[6:].strip().decode("utf-8", "replace").upper(), {}
        elif upper.startswith(b"END:"):
            if depth == 2:
                sequence = details.get("SEQUENCE", "")
                yield Component(
                    name,
                    begin,
                    end,
                    details.get("UID", "") or _uid_by_text(data[begin:end]),
                    details.get("RECURRENCE-ID", ""),
                    details.get("X-WHENVOCA-ORIGIN", ""),
                    int(sequence) if sequence.isdecimal() else 0,
                )
            depth -= 1
        elif (
            depth == 2
            and (found := _NAME.match(upper))
            and found[0] in (b"UID", b"RECURRENCE-ID", b"X-WHENVOCA-ORIGIN", b"TZID", b"SEQUENCE")
        ):
            key = found[0].decode()
            if key == "RECURRENCE-ID":
                details[key] = line[len(key) :].strip().decode("utf-8", "replace")
                continue
            details["UID" if key == "TZID" else key] = unescape_text(
                line.partition(b":")[2].strip().decode("utf-8", "replace")
            )


def _uid_by_text(text: bytes) -> str:
    digest = hashlib.sha256(text.replace(b"\r\n", b"\n")).hexdigest()
    return f"without-uid-{digest[:24]}"


def unescape_text(text: str) -> str:
    """The text of a TEXT value."""
    return re.sub(r"\\(.)", lambda found: "\n" if found[1] in "nN" else found[1], text)


def without_leap_second(text: bytes) -> bytes:
    """The text with the second 60 as 59, which RFC 5545 3.3.12 asks of those that know no leap seconds."""
    return _LEAP.sub(rb"\g<1>59", text)


def content_lines(data: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Each content line unfolded, with the stretch of bytes it takes."""
    pending: list[bytes] = []
    begin = end = 0
    for found in _LINE.finditer(data):
        raw = found[0]
        if pending and not raw.strip():  # some write empty lines, even into a folded one
            end = found.end()
            continue
        if raw[:1] in (b" ", b"\t") and pending:
            pending.append(raw[1:].rstrip(b"\r\n"))
            end = found.end()
            continue
        if pending:
            yield begin, end, b"".join(pending)
        begin, end = found.start(), found.end()
        pending = [(raw if begin else raw.removeprefix(b"\xef\xbb\xbf")).rstrip(b"\r\n")]
    if pending:
        yield begin, end, b"".join(pending)


def unfolded(data: bytes) -> list[str]:
    """The content lines of a text."""
    return [line.decode("utf-8", "replace") for _, _, line in content_lines(data)]


def by_name(lines: Iterable[str]) -> dict[str, list[str]]:
    """The content lines of a component by their property; not those of components in it."""
    found: dict[str, list[str]] = {}
    inner = 0
    for line in lines:
        name = re.split("[;:]", line, maxsplit=1)[0].upper()
        inner += (name == "BEGIN") - (name == "END")
        if inner <= 1 and name not in ("BEGIN", "END"):
            found.setdefault(name, []).append(line)
    return found
