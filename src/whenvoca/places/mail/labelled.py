"""Labelled lines of an email: "Day: 7 April", a two-column table, a value that runs over several lines."""

from __future__ import annotations

import re

_LINE = re.compile(r"[ \t*•-]{0,6}([^\W\d_][\w .,'’()/-]{0,40}?)[ \t]*(?::(?=\s|$)|\t|=(?=\s))[ \t]*(.*)")
_MOST = 100


def unlabelled(text: str) -> str:
    """The lines that are not labelled."""
    return "\n".join(line for line in text.split("\n") if not _LINE.fullmatch(line.rstrip())).strip()


def labelled(text: str) -> dict[str, str]:
    """The values by their labels, the first of each; a line that is indented, or follows a label alone, belongs to the
    one before."""
    found: dict[str, str] = {}
    label, is_open = "", False
    for line in text.split("\n"):
        match = _LINE.fullmatch(line.rstrip())
        is_indented = line[:1] in (" ", "\t") and bool(label)
        if match and not (is_indented and is_open):
            label = " ".join(match[1].split())
            is_open = label not in found and len(found) < _MOST
            if is_open:
                found[label] = match[2].strip()
        elif line.strip() and is_open and (is_indented or not found[label]):
            found[label] = " ".join(part for part in (found[label], line.strip()) if part)
        elif not line.strip() and found.get(label):
            is_open = False
    return {name: value for name, value in found.items() if value}
