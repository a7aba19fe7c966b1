"""The kinds of fields that come in by the web, by the words of the settings."""

from __future__ import annotations

from whenvoca.values.kinds import Kind

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
