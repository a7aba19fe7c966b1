"""Signs that would steer a terminal or turn a line about, shown as escapes."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.text import Text

# control characters but for the tab and the line's end; marks and overrides of the direction of writing
_STEERING = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def escape(text: str) -> str:
    """The text with each such sign as Python writes it: \\x1b, \\u202e."""
    return _STEERING.sub(lambda found: ascii(found[0])[1:-1], text)


def escape_styled(text: Text) -> Text:
    """The same of a text with styles."""
    from rich.text import Text

    if not _STEERING.search(text.plain):
        return text
    result, end = text[:0], 0
    for found in _STEERING.finditer(text.plain):
        result = Text.assemble(result, text[end : found.start()], escape(found[0]))
        end = found.end()
    return Text.assemble(result, text[end:])
