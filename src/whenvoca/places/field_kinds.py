"""The kinds of fields that come in by the web, by the words of the settings, and how a text is read as one of them."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.values.columns import ColumnHints, read_column
from whenvoca.values.kinds import Kind
from whenvoca.values.zones import to_moment

FIELD_KINDS = {
    "text": Kind.TEXT,
    "number": Kind.NUMBER,
    "date": Kind.DATE,
    "time": Kind.TIME,
    "moment": Kind.MOMENT,
    "duration": Kind.DURATION,
    "yes/no": Kind.YES_NO,
    "address": Kind.TEXT,
}


def read_as(kind: Kind, name: str, text: str, zone: ZoneInfo, dates: str = "") -> Any:
    """The value of a text, Unread where it is none of that kind; a moment without a zone is meant in ``zone``. Raises
    RowFault for a moment that the clocks skip or show twice."""
    value = read_column(name, [text], ColumnHints(kind=kind, dates=dates or None)).read(text)
    return to_moment(value, zone) if isinstance(value, datetime) and value.tzinfo is None else value
